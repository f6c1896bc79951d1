"""What tables have besides columns, and how it is called: as the migrations make it."""

from __future__ import annotations

import hashlib
from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.schema import CreateIndex, CreateTable

from . import dialects

_LONGEST = 63
LIVE = "live"


def name(*parts: str) -> str:
    """A name made of several; a long one is cut, and kept apart from others that begin alike."""
    whole = "_".join(parts)
    if len(whole.encode()) <= _LONGEST:
        return whole
    digest = hashlib.sha256(whole.encode()).hexdigest()[:8]
    return f"{whole.encode()[: _LONGEST - 9].decode(errors='ignore')}_{digest}"


def _of_index(index: Any, table: sa.Table) -> str:
    columns = [column.name for column in index.columns]
    return name(table.name, *columns, "unique" if index.unique else "index")


def _of_reference(reference: Any, table: sa.Table) -> str:
    return name(table.name, *reference.column_keys, "reference")


NAMES: dict[str, Any] = {
    "of_index": _of_index,
    "ix": "%(of_index)s",
    "of_reference": _of_reference,
    "fk": "%(of_reference)s",
}


class _Condition(sa.ColumnElement[bool]):
    """A condition in the words of each database."""

    inherit_cache = False

    def __init__(self, text: str, others: dict[str, str]) -> None:
        self.text = text
        self.others = others


@compiles(_Condition)
def _condition(element: _Condition, compiler: Any, **options: Any) -> str:
    return element.others.get(compiler.dialect.name, element.text)


def check(named: str, text: str, **others: str) -> sa.CheckConstraint:
    """A condition that all rows keep; `others` have it for databases that write it otherwise."""
    return sa.CheckConstraint(_Condition(text, others), name=sa.schema.conv(named))


def index(*columns: str, unique: bool = False) -> sa.Index:
    """An index over several columns."""
    return sa.Index(None, *columns, unique=unique)


def live(*columns: str) -> sa.Index:
    """An index that holds columns unique among the rows that are not in the bin."""
    kept = sa.text('"removed_at" IS NULL')
    some = {f"{known}_where": kept for known, d in dialects.KNOWN.items() if d.partial}
    return sa.Index(None, *columns, unique=True, info={LIVE: True}, **some)


def ready(table: sa.Table) -> None:
    """Gives a table what every one has, on the databases that want it said."""
    numbered = any(c.name == "id" for c in table.primary_key)
    held = {str(constraint.name) for constraint in table.constraints}
    for known, dialect in dialects.KNOWN.items():
        for column in table.columns:
            for what, text in dialect.lacks(column):
                named = name(table.name, column.name, what)
                if named not in held:
                    table.append_constraint(check(named, text).ddl_if(dialect=known))
        options = {**dialect.table_options, **(dialect.numbers if numbered else {})}
        for option, value in options.items():
            table.kwargs[f"{known}_{option}"] = value


@compiles(CreateTable)
def _create_table(element: CreateTable, compiler: Any, **options: Any) -> str:
    text = compiler.visit_create_table(element, **options)
    return dialects.of(compiler.dialect.name).table(element.element, text)


@compiles(CreateIndex)
def _create_index(element: CreateIndex, compiler: Any, **options: Any) -> str:
    text = compiler.visit_create_index(element, **options)
    return dialects.of(compiler.dialect.name).index(element.element, text)


def _typed(type_: Any, compiler: Any, visit: str, **options: Any) -> str:
    text: str = getattr(compiler, visit)(type_, **options)
    column = options.get("type_expression")
    if not isinstance(column, sa.Column):
        return text
    return dialects.of(compiler.dialect.name).text_type(column, text)


@compiles(sa.String)
def _string(type_: Any, compiler: Any, **options: Any) -> str:
    return _typed(type_, compiler, "visit_string", **options)


@compiles(sa.Text)
def _text(type_: Any, compiler: Any, **options: Any) -> str:
    return _typed(type_, compiler, "visit_text", **options)


@compiles(sa.ForeignKeyConstraint)
def _reference(element: Any, compiler: Any, **options: Any) -> str:
    text: str = compiler.visit_foreign_key_constraint(element, **options)
    return text + dialects.of(compiler.dialect.name).deferrable
