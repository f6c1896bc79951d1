"""Statements that are asked on every page: put into words once, and only filled in after."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import sqlalchemy as sa

from .database import session

UNDER, _OWN = "under", "own"
"""The parameters for the row that others lead to, and for a row's own key."""


class Prepared:
    """A statement in the words of one database; its results are plain rows."""

    def __init__(self, statement: sa.Select[Any], dialect: sa.Dialect) -> None:
        self._compiled = statement.compile(dialect=dialect)
        self._text = str(self._compiled)
        self._names: Sequence[str] | None = self._compiled.positiontup
        # One that stands there twice is written once.
        self._typed = {
            name: written
            for bind, name in self._compiled.bind_names.items()
            if (written := bind.type.dialect_impl(dialect).bind_processor(dialect))
        }
        self._types = [
            column.type.dialect_impl(dialect) for column in statement.selected_columns
        ]
        self._dialect = dialect
        self._read: list[tuple[int, Any]] | None = None

    def rows(self, connection: sa.Connection, values: Mapping[str, Any]) -> list[Any]:
        """The rows for some values of its parameters, as Python values."""
        filled = dict(self._compiled.construct_params(values))
        for name, written in self._typed.items():
            filled[name] = written(filled[name])
        given: Any = (
            filled if self._names is None else tuple(filled[n] for n in self._names)
        )
        answer = connection.exec_driver_sql(self._text, given)
        if self._read is None:
            self._read = self._readers(answer)
        found = list(answer.all())
        if not self._read:
            return found
        typed = []
        for row in found:
            plain = list(row)
            for at, read in self._read:
                plain[at] = read(plain[at])
            typed.append(plain)
        return typed

    def _readers(self, answer: sa.CursorResult[Any]) -> list[tuple[int, Any]]:
        """What makes Python values of what the driver gives, where it is not one yet."""
        told = answer.cursor.description if answer.cursor is not None else ()
        given = enumerate(zip(self._types, told, strict=True))
        return [
            (at, read)
            for at, (type_, column) in given
            if (read := type_.result_processor(self._dialect, column[1]))
        ]


def ask(
    kept: dict[tuple[Any, ...], Prepared],
    asked: tuple[Any, ...],
    make: Callable[[], Any],
    values: Mapping[str, Any],
) -> list[Any]:
    """The rows of a statement, which is made where `asked` is not `kept` yet."""
    connection = session().connection()
    asked = (connection.dialect.name, *asked)
    if asked not in kept:
        kept[asked] = Prepared(make(), connection.dialect)
    return kept[asked].rows(connection, values)


def under(column: Any, key: Any) -> Any:
    """The condition that a row leads to a certain one by a column."""
    return column == sa.bindparam(UNDER, key, type_=column.type)


def own(model: Any, row: Any) -> dict[str, Any]:
    """The values for `is_own`."""
    mapper = sa.inspect(model)
    keys = enumerate(map(mapper.get_property_by_column, mapper.primary_key))
    return {f"{_OWN}{n}": getattr(row, key.key) for n, key in keys}


def is_own(model: Any) -> list[Any]:
    """The conditions that a row of a model is a certain one."""
    parts = enumerate(sa.inspect(model).primary_key)
    return [p == sa.bindparam(f"{_OWN}{n}", type_=p.type) for n, p in parts]
