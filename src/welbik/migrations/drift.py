"""What somebody changed of a database by hand, since the last migration ran."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ..rules.sql import quote
from ..storage.backend import Database
from ..storage.tables import Tables

_WHAT = {"column": "column", "index": "index", "check": "condition", "reference": "reference"}


@dataclass(frozen=True)
class Drift:
    """One difference between a table and what migrations made of it, and what to do about it."""

    what: str
    remedy: str


def drift(database: Database, tables: Tables) -> list[Drift]:
    """How the tables of a database differ from what they were when its last migration had run.

    Nothing is known of one that no migration of this version ran on.
    """
    noted = database.noted()
    if noted is None:
        return []
    there = {name for name in database.table_names() if not database.is_ours(name)}
    found: list[Drift] = []
    for name in sorted(noted.keys() & tables.keys()):
        if name in there:
            found += _table(database, name, noted[name], database.look(name))
        else:
            remedy = "bring it back from a backup, or take its model out of the declarations"
            found.append(Drift(f"the table {name} is gone", remedy))
    return found


def _table(
    database: Database, name: str, noted: dict[str, str], now: dict[str, str]
) -> Iterator[Drift]:
    for key in sorted(noted.keys() | now.keys()):
        was, has = noted.get(key), now.get(key)
        if was == has:
            continue
        kind, _, told = key.partition(" ")
        what = f"{name}: the {_WHAT.get(kind, key)} {told}".rstrip()
        if was is None:
            yield Drift(f"{what} ({has}) came by hand", _come(database, name, kind, told))
        elif has is None:
            yield Drift(f"{what} ({was}) went by hand", _gone(kind))
        else:
            yield Drift(f"{what} is {has}, and was {was}", f"make it {was} again")


def _come(database: Database, table: str, kind: str, name: str) -> str:
    if kind == "column":
        return f"declare it, or undo it: ALTER TABLE {quote(table)} DROP COLUMN {quote(name)}"
    if kind == "index":
        return f"declare it (indexed, index …), or undo it: {database.ddl.drop_index(table, name)}"
    return "declare it, or take it away"


def _gone(kind: str) -> str:
    if kind == "column":
        return "take it out of the declarations, or bring it back with its values from a backup"
    return "take it out of the declarations, or make it again"
