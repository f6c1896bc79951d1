"""The way back from a migration, worked out from the tables before and after it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from ..kinds.base import value_type
from ..rules.tree import Value
from ..storage.ddl import indexes_of
from ..storage.tables import Column, Table, Tables, ends, spelled
from .converting import converted
from .difference import told_change
from .entries import back_again
from .exchanging import taken_back
from .keys import change_of_key, in_order
from .plan import Part, parts
from .steps import (
    AddColumn,
    AddIndex,
    ChangeColumn,
    CreateTable,
    DropColumn,
    DropIndex,
    DropTable,
    RenameColumn,
    RenameTable,
    Run,
    SetPromises,
    SetRules,
    Step,
)


@dataclass
class Back:
    """The steps back; `empty` has the columns and tables that come back without their values.

    `stays` has the columns whose values can't be told from the new ones, which stay as they are,
    and `by_hand` is set where steps written by hand can't be taken back.
    """

    steps: list[Step] = field(default_factory=list)
    empty: list[str] = field(default_factory=list)
    stays: list[str] = field(default_factory=list)
    by_hand: bool = False


def back(tables: Tables, steps: Sequence[Step]) -> Back:
    """The way back from what steps made of the tables before them."""
    found = Back()
    for part in reversed(list(parts(tables, steps))):
        if isinstance(part, Run):
            found.by_hand = True
        else:
            _part(part, found)
    return found


def _part(part: Part, found: Back) -> None:
    start = len(found.steps)
    for name in part.dropped:
        table = part.renamed[name]
        found.steps.append(CreateTable(table))
        found.empty.append(name)
    for step in part.steps:
        if isinstance(step, DropTable) and step.leave:
            found.steps.append(CreateTable(part.renamed[step.table]))
    for made in part.made:
        # What others made was there before, and stays.
        found.steps.append(DropTable(made.name, leave=made.as_it_is))
    steps = [step for old, new in part.changed for step in _table(part, old, new, found)]
    found.steps = [*found.steps[:start], *in_order(part.after, [*found.steps[start:], *steps])]
    found.steps += back_again(part.steps)
    for again in reversed(part.renames):
        if isinstance(again, RenameTable):
            found.steps.append(RenameTable(again.name, again.table))
        elif isinstance(again, RenameColumn):
            found.steps.append(RenameColumn(again.table, again.name, again.old))


def _table(part: Part, old: Table, new: Table, found: Back) -> Iterator[Step]:
    name = old.name
    asked: Mapping[str, str] = {
        s.column.name: s.value
        for s in part.steps
        if isinstance(s, ChangeColumn) and s.table == name and s.value
    }
    key = change_of_key(new, old)
    if key is not None:
        yield key
    for column in old.columns:
        there = new.column(column.name)
        if (name, column.name) in part.moved and there is not None:
            if there == column:
                continue
            yield ChangeColumn(name, column, told=told_change(there, column))
        elif there is None:
            found.empty.append(f"{name}.{column.name}")
            yield AddColumn(name, column, _least(old, column) if column.required else "")
        elif there != column or column.name in asked:
            again, whole = taken_back(asked.get(column.name, ""), column)
            value = again or _told(there, column)
            if value is None:
                found.empty.append(f"{name}.{column.name}")
                fill = _least(old, column) if column.required else ""
                yield ChangeColumn(name, column, told=told_change(there, column), fill=fill)
                continue
            given = asked.get(column.name, "")
            if given and given != spelled(column.name) and not whole:
                found.stays.append(f"{name}.{column.name}")
            yield ChangeColumn(name, column, value, told=told_change(there, column))
    for column in new.columns:
        if old.column(column.name) is None:
            yield DropColumn(name, column.name)
    for index in new.indexes:
        if index not in old.indexes and all(old.column(c) for c in index.columns):
            yield DropIndex(name, index)
    for index in old.indexes:
        if index not in new.indexes or any(new.column(c) is None for c in index.columns):
            yield AddIndex(name, index)
    if old.checks != new.checks:
        yield SetRules(name, old.checks)
    if old.promises != new.promises:
        yield SetPromises(name, old.promises)


def _told(there: Column, column: Column) -> str | None:
    """What a value is told from on its way back; empty where it is by itself, None where by nothing."""
    if there.type.split()[0] == column.type.split()[0]:
        return ""
    own = Value("", there.name, value_type(there.type))
    if converted(own, there.type, column.type) is not None:
        return ""
    asked = converted(own, there.type, column.type, asked=True)
    return None if asked is None else spelled(there.name)


def _least(table: Table, column: Column) -> str:
    """Something that a required column may hold, for rows whose value is gone; neutral."""
    word = column.type.split()[0]
    low, high = ends(column.range)
    if column.among:
        return column.among[0]
    if any(index.unique and column.name in index.columns for index in indexes_of(table)):
        # One value for all is no way back: it is refused where there are rows.
        return ""
    if word in ("integer", "bigint", "decimal", "double", "seconds"):
        return low or ("0" if not high or not high.startswith("-") else high)
    if word == "text":
        least, most = ends(column.length)
        shown = "unknown"[: int(most) if most else None]
        return shown.ljust(int(least) if least else 1, "-")
    fixed = {"boolean": "no", "date": "1970-01-01", "time": "00:00", "json": "[]"}
    fixed |= {"timestamp": "1970-01-01T00:00:00"}
    if column.range and word in ("date", "time", "timestamp"):
        return low or high
    return fixed.get(word, "")


def with_loss(steps: Sequence[Step]) -> list[Step]:
    """Steps whose loss is allowed."""
    return [
        replace(step, loss=True)
        if isinstance(step, DropColumn | DropTable | ChangeColumn)
        else step
        for step in steps
    ]
