"""What `was` says of a member, beside the tables as they are."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from ..schema.model import Field, Model, Reference, Schema
from ..schema.names import snake
from ..storage.tables import Table, Tables
from .files import Migration
from .steps import AddColumn, ChangeColumn, CopyRows, RenameColumn, RenameTable, after


@dataclass
class Renamed:
    """Tables and columns called anew: the steps, the tables then, and what each column was."""

    steps: list[RenameTable | RenameColumn] = field(default_factory=list)
    tables: Tables = field(default_factory=dict)
    columns: dict[tuple[str, str], str] = field(default_factory=dict)
    """The column there is now for a table and the column it was."""


def said(member: Field | Reference) -> str:
    """What stands behind `was`; empty where there is none."""
    return member.was or member.was_value


def told_before(migrations: Sequence[Migration]) -> set[tuple[str, str, str]]:
    """What `was` has done its work already: table, column and text."""
    found: set[tuple[str, str, str]] = set()
    for migration in migrations:
        for step in migration.steps:
            if isinstance(step, AddColumn | ChangeColumn) and step.was:
                found.add((step.table, step.column.name, step.was))
            elif isinstance(step, CopyRows):
                found |= {(step.table, column, text) for column, text in step.was}
            elif isinstance(step, RenameTable):
                found |= {(step.name, c, w) for t, c, w in found if t == step.table}
            elif isinstance(step, RenameColumn):
                same = {(t, c, w) for t, c, w in found if (t, c) == (step.table, step.old)}
                found |= {(t, step.name, w) for t, _, w in same}
    return found


def old_column(member: Field | Reference, table: Table) -> str:
    """The column that `was old_name` means; empty where the table has none of it."""
    names = [member.was, f"{member.was}_id"] if member.was else []
    if isinstance(member, Reference) and not member.stored_as:
        names.reverse()
    return next((name for name in names if table.column(name)), "")


def is_renamed(model: Model, member: Field | Reference, table: Table) -> bool:
    """Whether `was` says only what the column was called: it is called anew, with its values."""
    old = old_column(member, table)
    if (
        not old
        or old == member.column
        or table.column(member.column)
        and not _goes(model, member.column, table)
    ):
        return False
    there = table.column(old)
    assert there is not None
    declared = {other.column for other in model.members if not _is_called_anew(other, table)}
    if old in declared:
        return False
    # A text that becomes a relation is no column called anew.
    return not isinstance(member, Reference) or bool(there.references)


def _is_called_anew(member: Field | Reference, table: Table) -> bool:
    old = old_column(member, table)
    return bool(old) and old != member.column


def _goes(model: Model, column: str, table: Table) -> bool:
    """Whether a column that is there is called anew itself, so that its name becomes free."""
    return any(
        old_column(other, table) == column and other.column != column for other in model.members
    )


def renamed(before: Tables, schema: Schema) -> Renamed:
    """The tables once all is called as it is declared."""
    found = Renamed()
    stays = {model.table for model in schema}
    for model in schema.parents_first:
        # Without a word the table of the same model is meant, which is stored otherwise now.
        old = snake(model.was or model.name)
        if old in before and old not in stays and model.table not in before:
            found.steps.append(RenameTable(old, model.table))
            for many in model.many:
                pairs = f"{old}_{many.name}"
                if many.declares and pairs in before:
                    found.steps.append(RenameTable(pairs, many.table))
            if "history" in model.keeps and f"{old}_history" in before:
                found.steps.append(RenameTable(f"{old}_history", f"{model.table}_history"))
    now = after(before, found.steps)
    found.steps += _pairs_called(now, schema)
    found.steps += _pairs_renamed(after(before, found.steps), schema)
    for model in schema.parents_first:
        table = now.get(model.table)
        if table is None:
            continue
        wanted = {
            old_column(member, table): member.column
            for member in model.members
            if is_renamed(model, member, table)
        }
        found.columns |= {(model.table, old): new for old, new in wanted.items()}
        found.steps += _in_order(model.table, wanted, table)
    found.tables = after(before, found.steps)
    return found


def _pairs_called(now: Tables, schema: Schema) -> Iterator[RenameTable]:
    """The tables of relations that are called anew; their models may be, too."""
    for model in schema:
        for many in (many for many in model.many if many.declares and many.was):
            names = [f"{name}_{many.was}" for name in (model.table, snake(model.was))]
            old = next((name for name in names if name in now), "")
            if old and many.table not in now:
                yield RenameTable(old, many.table)


def _pairs_renamed(now: Tables, schema: Schema) -> Iterator[RenameColumn]:
    """The columns of pairs whose models are called anew, on either side."""
    for many in (many for model in schema for many in model.many if many.declares):
        there = now.get(many.table)
        sides = [schema.models[name].table for name in (many.model, many.target)]
        # Those of others have names of their own, and stay as they are.
        if many.as_it_is or there is None or [c.references for c in there.columns] != sides:
            continue
        names = (many.column, many.target_column)
        for column, name in zip(there.columns, names, strict=True):
            if column.name != name:
                yield RenameColumn(many.table, column.name, name)


def _in_order(table: str, wanted: dict[str, str], there: Table) -> Iterator[RenameColumn]:
    """Each name is taken once it is free; names that change places go by way of another."""
    left, taken = dict(wanted), {column.name for column in there.columns}
    while left:
        free = next((old for old, new in left.items() if new not in taken), "")
        if not free:
            free = next(iter(left))
            aside = f"{free}__was"
            yield RenameColumn(table, free, aside)
            taken = taken - {free} | {aside}
            left[aside] = left.pop(free)
            continue
        yield RenameColumn(table, free, left[free])
        taken = taken - {free} | {left.pop(free)}
