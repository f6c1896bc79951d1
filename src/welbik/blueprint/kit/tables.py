"""What tables have besides columns, and how it is called: as the migrations make it."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable
from decimal import Decimal
from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.schema import CreateIndex, CreateTable

from . import dialects
from .columns import Exact

_LONGEST = 63
LIVE, _ORDERED = "live", "ordered"


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


def _of_check(held: Any, table: sa.Table) -> str:
    return name(table.name, *held.info[_PARTS])


NAMES: dict[str, Any] = {
    "of_index": _of_index,
    "ix": "%(of_index)s",
    "of_reference": _of_reference,
    "fk": "%(of_reference)s",
    "of_check": _of_check,
    "ck": "%(of_check)s",
}
_PARTS = "parts"


class _Condition(sa.ColumnElement[bool]):
    """A condition in the words of each database; `write` has them."""

    inherit_cache = False

    def __init__(self, write: Callable[[str, sa.Table], str]) -> None:
        self.write = write
        self.table: sa.Table | None = None


@compiles(_Condition)
def _condition(element: _Condition, compiler: Any, **options: Any) -> str:
    assert element.table is not None
    return element.write(compiler.dialect.name, element.table)


def _check(write: Callable[[str, sa.Table], str], *parts: str) -> sa.CheckConstraint:
    return sa.CheckConstraint(_Condition(write), info={_PARTS: parts})


def between(column: str, low: Any, high: Any) -> sa.CheckConstraint:
    """The ends of a column, either of which may be open."""

    def write(dialect: str, table: sa.Table) -> str:
        ends = [_literal(dialect, table.c[column].type, end) for end in (low, high)]
        return _between(f'"{column}"', *ends)

    return _check(write, column, "range")


def length(column: str, low: int | None, high: int | None) -> sa.CheckConstraint:
    """How many characters a column has."""

    def write(dialect: str, table: sa.Table) -> str:
        told = dialects.of(dialect).length().format(f'"{column}"')
        return _between(told, *("" if end is None else str(end) for end in (low, high)))

    return _check(write, column, "length")


def among(column: str, values: Iterable[str]) -> sa.CheckConstraint:
    """What a column holds is one of these."""
    listed = ", ".join(map(_quoted, values))
    return _check(lambda dialect, table: f'"{column}" IN ({listed})', column, "among")


def rule(named: str, text: str, **others: str) -> sa.CheckConstraint:
    """What all rows keep; `others` have it for databases that write it otherwise, or can't hold it."""
    held = _check(lambda dialect, table: others.get(dialect, text), named, "rule")
    none = [word for word, told in others.items() if not told]
    return held.ddl_if(callable_=lambda *_, dialect, **__: dialect.name not in none)


def _between(told: str, low: str, high: str) -> str:
    if low and high:
        return f"{told} BETWEEN {low} AND {high}"
    return f"{told} >= {low}" if low else f"{told} <= {high}"


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _literal(dialect: str, type_: Any, value: Any) -> str:
    if value is None:
        return ""
    if not isinstance(type_, Exact):
        return _quoted(value) if isinstance(value, str) else str(value)
    if dialects.of(dialect).exact:
        return str(value)
    return str(int(Decimal(value).scaleb(type_.places)))


def index(*columns: str, unique: bool = False, ordered: int = 0) -> sa.Index:
    """An index over several columns; `ordered` says behind how many the key has its place."""
    return sa.Index(None, *columns, unique=unique, info={_ORDERED: ordered})


def live(*columns: str) -> sa.Index:
    """An index that holds columns unique among the rows that are not in the bin."""
    kept = sa.text('"removed_at" IS NULL')
    some: Any = {
        f"{known}_where": kept for known, d in dialects.KNOWN.items() if d.partial
    }
    return sa.Index(None, *columns, unique=True, info={LIVE: True}, **some)


def ready(table: sa.Table) -> None:
    """Gives a table what every one has, on the databases that want it said."""
    numbered = any(c.name == "id" for c in table.primary_key)
    for index in table.indexes:
        key, columns = list(table.primary_key), list(index.expressions)
        place = index.info.get(_ORDERED)
        if place and len(key) == 1 and key[0] not in columns:
            # Rows that are equal before it are read in its order.
            columns.insert(place, key[0])
            index.expressions = columns
    held = {constraint.info.get(_PARTS) for constraint in table.constraints}
    for known, dialect in dialects.KNOWN.items():
        for column in table.columns:
            for what, text in dialect.lacks(column):
                if (column.name, what) not in held:
                    lacking = _check(lambda *_, text=text: text, column.name, what)
                    table.append_constraint(lacking.ddl_if(dialect=known))
        options = {**dialect.table_options, **(dialect.numbers if numbered else {})}
        for option, value in options.items():
            table.kwargs[f"{known}_{option}"] = value
    for constraint in table.constraints:
        condition = getattr(constraint, "sqltext", None)
        if isinstance(condition, _Condition):
            condition.table = table


def hold_texts(table: sa.Table) -> None:
    """No text is ever empty: nothing stands for that. Those of a model have a character at least."""
    held = {constraint.info.get(_PARTS) for constraint in table.constraints}
    for column in table.columns:
        most = getattr(column.type, "length", None)
        told = {(column.name, "length"), (column.name, "among")} & held
        if (
            isinstance(column.type, sa.String)
            and most
            and not (told or column.foreign_keys)
        ):
            table.append_constraint(length(column.name, 1, most))


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
