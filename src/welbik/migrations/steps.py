"""Steps of a migration, neutral to the database, and the tables they lead to."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from ..problems import WelbikError
from ..storage.tables import Column, Table, Tables


@dataclass(frozen=True, slots=True)
class CreateTable:
    table: Table

    def describe(self) -> str:
        count = len(self.table.columns)
        return f"make the table {self.table.name} with {count} column{'s' * (count != 1)}"


@dataclass(frozen=True, slots=True)
class AddColumn:
    """`fill` is the neutral value that rows already there get; empty leaves them empty."""

    table: str
    column: Column
    fill: str = ""

    def describe(self) -> str:
        filled = f", {self.fill} in the rows already there" if self.fill else ""
        return f"add the column {self.table}.{self.column.name} ({self.column.type}){filled}"


@dataclass(frozen=True, slots=True)
class DropColumn:
    table: str
    name: str

    def describe(self) -> str:
        return f"take away the column {self.table}.{self.name} with all its values"


Step = CreateTable | AddColumn | DropColumn


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
        columns = [
            c for c in table.columns if not isinstance(step, DropColumn) or c.name != step.name
        ]
        if isinstance(step, AddColumn):
            columns.append(step.column)
        state[step.table] = Table(table.name, tuple(columns))
    return state
