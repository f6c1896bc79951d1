"""Another key for a table: in which order that is done, and what refers to its rows by then."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import partial

from ..rules.sql import quote
from ..rules.tree import Aggregate, Node, Value, mapped
from ..rules.tree import Step as Hop
from ..storage.ddl import Ddl
from ..storage.tables import Column, Table, Tables, spelled
from .converting import converted, type_of
from .steps import (
    AddColumn,
    AddIndex,
    ChangeColumn,
    ChangeKey,
    CreateTable,
    DropColumn,
    MakeRows,
    SetRules,
    Step,
)
from .values import Rows, followed, node_of

_NUMBER, _OLD = "welbik_number", "welbik_old"
"""What expressions call the number that rows get, and the one that they had."""


def change_of_key(old: Table, new: Table) -> ChangeKey | None:
    """The step to another key; None where it stays."""
    if old.key_as_said == new.key_as_said:
        return None
    return ChangeKey(new.name, new.key, new.keys, new.keyless, new.number)


def leading_to(tables: Tables, names: Collection[str]) -> set[str]:
    """Some tables, and those whose key is a reference to one of them: theirs changes too."""
    found = set(names)
    while True:
        more = {name for name, t in tables.items() if _leads_to(t, found)} - found
        if not more:
            return found
        found |= more


def _lead(table: Table) -> Column | None:
    """The reference that is the key of a table, where one is."""
    single = len(table.keys) == 1 and not table.keyless
    column = table.column(table.keys[0]) if single else None
    return column if column is not None and column.references else None


def _leads_to(table: Table, names: Collection[str]) -> bool:
    lead = _lead(table)
    return lead is not None and lead.references in names


def in_order(tables: Tables, steps: Sequence[Step]) -> list[Step]:
    """Steps in the order in which keys can change: what they are told by comes before, the columns
    that refer to them change with them, and what is to refer to them comes after."""
    changed = {step.table: step for step in steps if isinstance(step, ChangeKey)}
    if not changed:
        return list(steps)
    moved = leading_to(tables, changed)
    late = {s.table.name for s in steps if isinstance(s, CreateTable) and _refers(s.table, moved)}
    come = {
        s.table
        for s in steps
        if isinstance(s, AddColumn | ChangeColumn)
        and s.column.references in moved
        and not _is_moved(tables, s, moved)
    }
    first: list[Step] = []
    with_keys: list[Step] = list(changed.values())
    last: list[Step] = []
    for step in steps:
        if isinstance(step, ChangeKey):
            continue
        table = step.table.name if isinstance(step, CreateTable) else step.table
        follows = isinstance(step, ChangeColumn) and (
            _is_moved(tables, step, moved) or _is_key(tables, step, changed)
        )
        waits = table in late or (isinstance(step, MakeRows) and table in moved)
        refers = isinstance(step, AddColumn | ChangeColumn | AddIndex | SetRules)
        if follows or (isinstance(step, DropColumn) and _is_key(tables, step, changed)):
            with_keys.append(step)
        elif waits or (refers and table in come):
            last.append(step)
        else:
            first.append(step)
    return [*first, *with_keys, *last]


def _refers(table: Table, names: Collection[str]) -> bool:
    return any(column.references in names for column in table.columns)


def _is_moved(tables: Tables, step: AddColumn | ChangeColumn, names: Collection[str]) -> bool:
    """Whether a column leads on to one of some tables as it did."""
    there = tables[step.table].column(step.column.name) if step.table in tables else None
    return there is not None and there.references == step.column.references in names


def _is_key(tables: Tables, step: ChangeColumn | DropColumn, changed: Collection[str]) -> bool:
    """Whether a column is the old key, or a part of it."""
    name = step.name if isinstance(step, DropColumn) else step.column.name
    return step.table in changed and name in tables[step.table].told_by


def begins_anew(some: Sequence[Step], step: Step) -> bool:
    """Whether a step is not taken together with those before it: keys change by themselves."""
    keys = isinstance(some[0], ChangeKey)
    if isinstance(step, ChangeKey):
        return not keys
    goes = isinstance(step, DropColumn) or (isinstance(step, ChangeColumn) and not step.value)
    return keys and not goes


def referring(
    renamed: Tables, after: Tables, steps: Sequence[Step], rows: Rows
) -> Iterator[tuple[str, str, Node]]:
    """The columns that refer to rows with another key, each with its new value: table, column,
    and an expression over a row as it is before."""
    changed = {step.table: after[step.table] for step in steps if isinstance(step, ChangeKey)}
    for name, table in changed.items():
        if table.numbered:
            rows.add(name, _NUMBER, Column(table.number, "integer", required=True))
        if renamed[name].numbered:
            rows.add(name, _OLD, Column(renamed[name].number, "integer", required=True))
    for name, table in renamed.items():
        for column in table.columns if name in after and changed else ():
            there = after[name].column(column.name)
            path = _path(renamed, changed, column.references)
            if path and there is not None and there.references == column.references:
                text = ".".join([followed(column), *path])
                yield name, column.name, node_of(rows, name, text)


def following(
    renamed: Tables, after: Tables, table: str, key: str, value: Node, rows: Rows
) -> Iterator[tuple[str, str, Node]]:
    """The columns that refer to rows by a key that stays and gets other values, as `referring`."""
    ways: list[tuple[str, list[str]]] = [(table, [spelled(key)])]
    while ways:
        name, way = ways.pop()
        for child, other in renamed.items():
            for column in other.columns if child in after else ():
                there = after[child].column(column.name)
                if there is None or not column.references == there.references == name:
                    continue
                further = [followed(column), *way]
                read = node_of(rows, child, ".".join(further))
                assert isinstance(read, Value)
                yield child, column.name, mapped(value, partial(_seen_by, read.path))
                if _lead(other) == column:
                    ways.append((child, further))


def _seen_by(way: tuple[Hop, ...], node: Node) -> Node:
    """What is read of a row, by one that a way leads from to it."""
    if isinstance(node, Value | Aggregate):
        return replace(node, path=(*way, *node.path))
    return node


def _path(tables: Tables, changed: Tables, name: str) -> list[str]:
    """The way from a row to its new key; none where its key stays, or nothing can refer to it."""
    table = tables.get(name)
    if table is None:
        return []
    if name not in changed:
        lead = _lead(table)
        way = _path(tables, changed, lead.references) if lead is not None else []
        return [followed(lead), *way] if lead is not None and way else []
    new = changed[name]
    if new.numbered:
        return [_NUMBER]
    if len(new.told_by) != 1:
        return []
    column = table.column(new.told_by[0])
    if column is None or not column.references:
        return [spelled(new.told_by[0])]
    return [followed(column), *_path(tables, changed, column.references)]


def number_as(ddl: Ddl, rows: Rows, steps: Sequence[Step]) -> None:
    """Says what a database has for the number that rows are to get."""
    for step in steps:
        if isinstance(step, ChangeKey) and ddl.old_number:
            rows.columns[step.table, _NUMBER] = ddl.old_number


def histories(
    ddl: Ddl,
    renamed: Tables,
    after: Tables,
    steps: Sequence[Step],
    rows: Rows,
    others: Mapping[str, Node],
    today: dt.datetime,
) -> Iterator[str]:
    """Statements by which the changes that are kept of rows go on being those of the same rows.

    `others` has the new values of keys that stay, by table.
    """
    changed = {step.table: after[step.table] for step in steps if isinstance(step, ChangeKey)}
    sql = ddl.sql(rows, today, str(today.tzinfo))
    for name in {**changed, **others}:
        book, old = f"{name}_history", renamed[name]
        way = _path(renamed, changed, name)
        if book not in renamed or book not in after or len(old.told_by) != 1:
            continue
        own = [_OLD] if old.numbered and name in changed else _own_way(old)
        new = node_of(rows, name, ".".join(way)) if way else others.get(name)
        nodes = [node_of(rows, name, ".".join(own)), *([new] if new is not None else [])]
        told = [converted(node, type_of(node), "text") for node in nodes]
        texts = [sql.write(one.node, name) for one in told if one is not None]
        if len(texts) == 2:
            yield from _told_anew(book, name, *texts)


def _own_way(table: Table) -> list[str]:
    column = table.column(table.told_by[0])
    assert column is not None
    return [followed(column) if column.references else spelled(column.name)]


def _told_anew(book: str, table: str, old: str, new: str) -> Iterator[str]:
    row = f"{quote(book)}.{quote('row')}"

    def there(key: str) -> str:
        return f"EXISTS (SELECT 1 FROM {quote(table)} WHERE {key} = {row})"

    # Of a row that is gone: it would be taken for the changes of another one.
    yield f"DELETE FROM {quote(book)} WHERE NOT {there(old)} AND {there(new)}"
    yield (
        f"UPDATE {quote(book)} SET {quote('row')} = (SELECT {new} FROM {quote(table)} "
        f"WHERE {old} = {row})\nWHERE {there(old)}"
    )
