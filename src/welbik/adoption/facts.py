"""What stored rows tell of their columns: how many values there are, how long, between what."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from ..kinds.native import family
from ..rules.sql import quote, text
from ..storage.backend import Database
from ..storage.catalog import FoundColumn, FoundTable

_LOOKED_AT = 10_000
"""Rows of a table that are looked at: enough to tell habits, and quick in any table."""
_AT_ONCE = 60
_ORDERED = ("whole", "floating", "exact", "text", "padded", "moment", "zoned", "date")
_TEXTS = ("text", "padded")
_OF_EACH = 11
"""So many things are asked of a column."""


@dataclass(frozen=True)
class Fact:
    """Of the rows that were looked at: how many have a value, how many different ones there are,
    the least and the most of them; of texts how long the longest is, how many are empty, hold a
    line's end, or have the form of an e-mail address; of numbers how many are 0; of
    columns without a type how many are whole numbers, and how many other numbers."""

    rows: int = 0
    given: int = 0
    different: int = 0
    least: Any = None
    most: Any = None
    longest: int = 0
    blank: int = 0
    lines: int = 0
    mails: int = 0
    zeros: int = 0
    wholes: int = 0
    floats: int = 0


def facts_of(database: Database, table: FoundTable) -> dict[str, Fact]:
    """The facts of a table's columns by name; raises the driver's errors."""
    found: dict[str, Fact] = {}
    some = [
        c for c in table.columns if family(c.native) not in ("bytes", "json", "") or not c.native
    ]
    for start in range(0, len(some), _AT_ONCE):
        found |= _asked(database, table, some[start : start + _AT_ONCE])
    return found


def _asked(
    database: Database, table: FoundTable, columns: Sequence[FoundColumn]
) -> dict[str, Fact]:
    wanted: list[str] = ["count(*)"]
    for column in columns:
        wanted += _of_column(database, column)
    listed = ", ".join(quote(column.name) for column in columns)
    (row,) = database.run(
        f"SELECT {', '.join(wanted)} FROM "
        f"(SELECT {listed} FROM {quote(table.name)} LIMIT {_LOOKED_AT}) AS some_rows"
    )
    rows, rest = int(row[0]), row[1:]
    found = {}
    for at, column in enumerate(columns):
        given, different, least, most, *more = rest[at * _OF_EACH : (at + 1) * _OF_EACH]
        numbers = [int(value or 0) for value in (given, different)]
        counts = [int(value or 0) for value in more]
        found[column.name] = Fact(rows, numbers[0], numbers[1], least, most, *counts)
    return found


def _of_column(database: Database, column: FoundColumn) -> list[str]:
    name, kind = quote(column.name), family(column.native)
    if not column.native:
        kinds = [f"sum(typeof({name}) = '{word}')" for word in ("integer", "real")]
        return [f"count({name})", "0", "NULL", "NULL", *["0"] * 5, *kinds]
    return [*_of_type(database, name, kind), "0", "0"]


def _of_type(database: Database, name: str, kind: str) -> list[str]:
    wanted = [f"count({name})"]
    if kind not in _ORDERED:
        return [*wanted, *["0"] * 1, "NULL", "NULL", *["0"] * 5]
    wanted += [f"count(DISTINCT {name})", f"min({name})", f"max({name})"]
    if kind in _TEXTS:
        plain = database.ddl.by_letters(name)
        like = [text("%_@_%._%"), text("% %")]
        line = text("%\n%")
        return [
            *wanted,
            f"max({database.ddl.length(name)})",
            f"sum(CASE WHEN {name} = '' THEN 1 ELSE 0 END)",
            f"sum(CASE WHEN {plain} LIKE {line} THEN 1 ELSE 0 END)",
            f"sum(CASE WHEN {plain} LIKE {like[0]} AND {plain} NOT LIKE {like[1]} THEN 1 ELSE 0 END)",
            "0",
        ]
    if kind in ("whole", "floating", "exact"):
        return [*wanted, "0", "0", "0", "0", f"sum(CASE WHEN {name} = 0 THEN 1 ELSE 0 END)"]
    return [*wanted, *["0"] * 5]
