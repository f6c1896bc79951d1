"""Steps of a migration, neutral to the database, and the tables they lead to."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from ..kinds.literals import quote
from ..problems import WelbikError
from ..storage.checks import rule_renamed
from ..storage.tables import Check, Column, Index, Table, Tables


@dataclass(frozen=True, slots=True)
class CreateTable:
    table: Table

    def describe(self) -> str:
        count = len(self.table.columns)
        return f"make the table {self.table.name} with {count} column{'s' * (count != 1)}"


@dataclass(frozen=True, slots=True)
class RenameTable:
    table: str
    name: str

    def describe(self) -> str:
        return f"call the table {self.table} {self.name}"


@dataclass(frozen=True, slots=True)
class AddColumn:
    """`fill` is the neutral value that rows already there get; empty leaves them empty.

    `made` says how each of them gets one of its own: `uuid`, or `slug` and the column it is
    made from. What is required and has neither can only be added while there are no rows.
    """

    table: str
    column: Column
    fill: str = ""
    made: str = ""

    def describe(self) -> str:
        shown = self.fill if self.fill.isprintable() else quote(self.fill)
        filled = f", {shown} in the rows already there" if self.fill else ""
        filled = ", one of its own in each row already there" if self.made else filled
        return f"add the column {self.table}.{self.column.name} ({self.column.type}){filled}"


@dataclass(frozen=True, slots=True)
class RenameColumn:
    table: str
    old: str
    name: str

    def describe(self) -> str:
        return f"call the column {self.table}.{self.old} {self.name}"


@dataclass(frozen=True, slots=True)
class DropColumn:
    table: str
    name: str

    @property
    def named(self) -> str:
        return f"{self.table}.{self.name}"

    def describe(self) -> str:
        return f"take away the column {self.table}.{self.name} with all its values"


@dataclass(frozen=True, slots=True)
class DropTable:
    """Only a table that no model had by itself: of a many-to-many relation, or of a history."""

    table: str

    @property
    def named(self) -> str:
        return self.table

    def describe(self) -> str:
        return f"take away the table {self.table} with all its rows"


@dataclass(frozen=True, slots=True)
class SetRules:
    """All rules of a table anew: stored rows must keep them."""

    table: str
    checks: tuple[Check, ...]

    def describe(self) -> str:
        if not self.checks:
            return f"let go of the rules of {self.table}"
        return f"hold {self.table} to: {'; '.join(check.rule for check in self.checks)}"


@dataclass(frozen=True, slots=True)
class AddIndex:
    table: str
    index: Index

    def describe(self) -> str:
        kind = "a unique index" if self.index.unique else "an index"
        return f"add {kind} over {self.table} ({', '.join(self.index.columns)})"


@dataclass(frozen=True, slots=True)
class DropIndex:
    table: str
    index: Index

    def describe(self) -> str:
        return f"take away the index over {self.table} ({', '.join(self.index.columns)})"


Step = (
    CreateTable
    | RenameTable
    | AddColumn
    | RenameColumn
    | DropColumn
    | DropTable
    | SetRules
    | AddIndex
    | DropIndex
)
Loss = DropColumn | DropTable
"""Steps that take values away."""


def after(tables: Tables, steps: Iterable[Step]) -> dict[str, Table]:
    """The tables once the steps have run; raises WelbikError where one makes no sense."""
    state = dict(tables)
    for step in steps:
        if isinstance(step, CreateTable):
            if step.table.name in state:
                raise WelbikError(
                    f"the table {step.table.name} is made twice", "look at the files in migrations/"
                )
            state[step.table.name] = step.table
            continue
        table = state.get(step.table)
        if table is None:
            raise WelbikError(
                f"there is no table {step.table} to change", "look at the files in migrations/"
            )
        if isinstance(step, DropTable):
            del state[step.table]
        elif isinstance(step, RenameTable):
            del state[step.table]
            state[step.name] = replace(table, name=step.name)
            _rename_references(state, step)
        else:
            state[step.table] = _changed(table, step)
    return state


def _rename_references(state: dict[str, Table], step: RenameTable) -> None:
    for name, table in state.items():
        columns = tuple(
            replace(c, references=step.name) if c.references == step.table else c
            for c in table.columns
        )
        if columns != table.columns:
            state[name] = replace(table, columns=columns)


def _changed(
    table: Table, step: AddColumn | RenameColumn | DropColumn | SetRules | AddIndex | DropIndex
) -> Table:
    if isinstance(step, SetRules):
        return replace(table, checks=step.checks)
    if isinstance(step, AddIndex):
        return replace(table, indexes=(*table.indexes, step.index))
    if isinstance(step, DropIndex):
        return replace(table, indexes=tuple(i for i in table.indexes if i != step.index))
    if isinstance(step, AddColumn):
        return replace(table, columns=(*table.columns, step.column))
    if isinstance(step, DropColumn):
        kept = tuple(c for c in table.columns if c.name != step.name)
        indexes = tuple(i for i in table.indexes if step.name not in i.columns)
        return replace(table, columns=kept, indexes=indexes)
    return _renamed(table, step)


def _renamed(table: Table, step: RenameColumn) -> Table:
    def named(name: str) -> str:
        return step.name if name == step.old else name

    columns = tuple(replace(c, name=named(c.name)) for c in table.columns)
    indexes = tuple(replace(i, columns=tuple(map(named, i.columns))) for i in table.indexes)
    checks = tuple(
        replace(c, rule=rule_renamed(table, c.rule, step.old, step.name)) for c in table.checks
    )
    return replace(table, columns=columns, indexes=indexes, checks=checks, key=named(table.key))
