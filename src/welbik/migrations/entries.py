"""Entries of lists that are stored as JSON: what is called anew in them, and what they gain."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from typing import Any

from ..kinds.bounds import FromNow
from ..rules.sql import quote
from ..schema.model import Field, Model
from ..storage.backend import Database
from ..storage.promises import fields_in, of_list
from ..storage.tables import Table
from .steps import ChangeEntries

_SOME = 500


def entry_changes(model: Model, before: Table) -> Iterator[ChangeEntries]:
    """What `was` and new defaults of parts ask of the entries that are stored.

    The fields that entries had are told by the promise that migrations keep of their list.
    """
    for field in model.fields:
        if field.shape is None or before.column(field.column) is None:
            continue
        begin = of_list(field).partition(":")[0]
        old = next((p for p in before.promises if p.partition(":")[0] == begin), None)
        had = fields_in(old) if old is not None else set()
        called = [
            (part.was, part.name)
            for part in field.shape.fields
            if part.was in had and part.name not in had
        ]
        new = {name for _, name in called} | had
        fills = [
            (part.name, json.dumps(part.kind.in_json(part.default)))
            for part in field.shape.fields
            if had and part.name not in new and part.required and _is_plain(part)
        ]
        if called or fills:
            yield ChangeEntries(before.name, field.column, tuple(called), tuple(fills))


def _is_plain(part: Field) -> bool:
    """Whether its default is a value that does not move with the clock."""
    return part.default is not None and not isinstance(part.default, FromNow)


def change_entries(database: Database, table: Table, step: ChangeEntries) -> None:
    """Changes the entries of all rows, some at a time; a second time nothing changes."""
    key = table.own
    known = table.column(key)
    type_ = known.type if known is not None else "integer"
    rows = _some(database, step, key, type_, None)
    while rows:
        for of, text in rows:
            entries = json.loads(text)
            if isinstance(entries, dict):
                changed = _changed(entries, step)
            else:
                changed = [_changed(entry, step) for entry in entries]
            if changed != entries:
                given = json.dumps(changed, ensure_ascii=False)
                database.update(step.table, key, of, {step.column: given})
        rows = _some(database, step, key, type_, rows[-1][0])


def rename_in_history(database: Database, table: str, old: str, new: str) -> None:
    """Renames a column's field in the changes that are kept of a table's rows, where they are kept."""
    kept = f"{table}_history"
    if kept not in database.table_names():
        return
    called = [(old, new)]
    if old.endswith("_id") and new.endswith("_id"):
        # A relation is kept by its name, and its column has more.
        called.append((old.removesuffix("_id"), new.removesuffix("_id")))
    change_entries(database, Table(kept, ()), ChangeEntries(kept, "changes", tuple(called)))


def _some(
    database: Database, step: ChangeEntries, key: str, type_: str, last: object
) -> list[tuple[Any, ...]]:
    """The next rows behind a key, from the first on where it is nothing: their keys and lists."""
    named = quote if last is None else database.name
    shown = database.neutral(named(key), type_), database.neutral(named(step.column), "json")
    where = f"{named(step.column)} IS NOT NULL"
    where += "" if last is None else f" AND {named(key)} > {database.mark}"
    query = f"SELECT {', '.join(shown)} FROM {named(step.table)} WHERE {where}"
    values = [] if last is None else [database.bound(last, type_)]
    return database.run(f"{query} ORDER BY {named(key)} LIMIT {_SOME}", values)


def _changed(entry: Any, step: ChangeEntries) -> Any:
    if not isinstance(entry, dict):
        return entry
    names = dict(step.called)
    found = {names.get(name, name): value for name, value in entry.items()}
    for name, value in step.fills:
        if found.get(name) in (None, ""):
            found[name] = json.loads(value)
    return found


def back_again(steps: Sequence[object]) -> Iterator[ChangeEntries]:
    """The way back: fields are called as they were; what they gained stays."""
    for step in steps:
        if isinstance(step, ChangeEntries) and step.called:
            called = tuple((new, old) for old, new in step.called)
            yield ChangeEntries(step.table, step.column, called)
