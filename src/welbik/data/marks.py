"""Marks of made-up rows whose key is a value of their own.

Somebody may take such a row away and use its key again. A mark is told by all that a row holds, so
that a row which is another one, or was changed, has another mark.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from hashlib import blake2b
from typing import Any

from ..rules.sql import quote
from ..schema.model import Model
from ..schema.tables import SchemaNames
from ..storage.backend import Database
from .making import filled
from .memory import Run

DIGITS = 16
"""How long a mark is: 64 bits, so that of ten million rows hardly two have one."""
_UNKNOWN = "0" * DIGITS
_AT_ONCE = 500


def has_marks(model: Model) -> bool:
    """Whether rows of a model are told by marks: their key is one value that they are made with."""
    names = (model.key,) if model.key else model.keys
    return len(names) == 1 and not model.stored(names[0]).by_database


def columns_of(model: Model) -> tuple[str, ...]:
    """What marks are made of."""
    times = ("created_at", "updated_at") if "times" in model.keeps else ()
    return (*(member.column for member in filled(model)), *times)


def marks_of(database: Database, names: SchemaNames, model: Model, keys: Sequence[object]) -> str:
    """The marks of stored rows, one behind another in the order of their keys."""
    key, columns = names.key(model.name), columns_of(model)
    type_ = database.type_of(model.table, key)
    shown = ", ".join(database.read(model.table, column) for column in (key, *columns))
    found: list[str] = []
    for begin in range(0, len(keys), _AT_ONCE):
        some = [database.bound(one, type_) for one in keys[begin : begin + _AT_ONCE]]
        places = ", ".join([database.mark] * len(some))
        where = f"{database.name(key)} IN ({places})"
        query = (
            f"SELECT {_escaped(database, shown)} FROM {database.name(model.table)} WHERE {where}"
        )
        marks = {row[0]: _mark(row[1:]) for row in database.run(query, some)}
        # What a database keeps otherwise than it was given is told as nobody's.
        found += [marks.get(one, _UNKNOWN) for one in keys[begin : begin + _AT_ONCE]]
    return "".join(found)


def _escaped(database: Database, sql: str) -> str:
    # Drivers that mark values by %s take every other % for one.
    return sql.replace("%", "%%") if database.mark == "%s" else sql


def numbers_of(run: Run) -> dict[str, int]:
    """The place of each row of a run among those that were stored, by its mark."""
    if len(run.marks) != DIGITS * run.size:
        return {}
    return {run.marks[at * DIGITS : (at + 1) * DIGITS]: at for at in range(run.size)}


def marked(
    database: Database, names: SchemaNames, model: Model, run: Run, known: Mapping[str, int]
) -> Iterator[tuple[int, Any, int]]:
    """The stored rows of a run that are as they were made: their place in `Database.values`, key and number.

    `known` is what `numbers_of` gives.
    """
    table = database.tables[model.table]
    if not known or any(table.column(column) is None for column in run.marked):
        return
    key = names.key(model.name)
    shown = ", ".join(database.read(model.table, column) for column in (key, *run.marked))
    query = f"SELECT {shown} FROM {quote(model.table)} ORDER BY {database.order(model.table)}"
    for place, row in enumerate(database.each(query)):
        at = known.get(_mark(row[1:]))
        if at is not None:
            yield place, row[0], at


def _mark(row: Sequence[object]) -> str:
    return blake2b(repr(tuple(row)).encode(), digest_size=DIGITS // 2).hexdigest()
