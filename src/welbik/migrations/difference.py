"""What it takes to get from the tables there are to those that are declared."""

from __future__ import annotations

from dataclasses import dataclass, field, fields

from ..schema.model import Field, Reference, Schema
from ..storage.tables import Column, Tables, tables_of
from .steps import AddColumn, CreateTable, DropColumn, Step


@dataclass
class Difference:
    """Steps that can be taken, and changes that are refused with the reason for each."""

    steps: list[Step] = field(default_factory=list)
    refused: list[str] = field(default_factory=list)

    @property
    def losses(self) -> list[DropColumn]:
        return [step for step in self.steps if isinstance(step, DropColumn)]

    def __bool__(self) -> bool:
        return bool(self.steps or self.refused)


def difference(before: Tables, schema: Schema) -> Difference:
    """The way from `before` to what the schema declares."""
    found = Difference()
    wanted = tables_of(schema)
    for name in before:
        if name not in wanted:
            found.refused.append(
                f"the model of the table {name} is gone: taking tables away is not supported yet"
            )
    for model in schema.parents_first:
        table = wanted[model.table]
        old = before.get(table.name)
        if old is None:
            found.steps.append(CreateTable(table))
            continue
        for column in old.columns:
            if table.column(column.name) is None:
                found.steps.append(DropColumn(table.name, column.name))
        for member, column in zip(model.members, table.columns, strict=True):
            there = old.column(column.name)
            if there is None:
                _add(model.name, table.name, member, column, found)
            elif there != column:
                found.refused.append(_changed(model.name, member.name, there, column))
    return found


def _add(
    model: str, table: str, member: Field | Reference, column: Column, found: Difference
) -> None:
    default = member.default if isinstance(member, Field) else None
    if column.required and default is None:
        found.refused.append(
            f"{model}.{member.name} is required: rows already there would have no value for it. Give it a default, or leave 'required' out"
        )
    elif column.unique and default is not None:
        found.refused.append(
            f"{model}.{member.name} is unique with a default: rows already there would all get the same. Leave the default out"
        )
    else:
        fill = (
            member.kind.neutral(default)
            if isinstance(member, Field) and default is not None
            else ""
        )
        found.steps.append(AddColumn(table, column, fill))


def _changed(model: str, name: str, old: Column, new: Column) -> str:
    changes = []
    for key in (f.name for f in fields(old)):
        before, now = getattr(old, key), getattr(new, key)
        if before != now:
            changes.append(f"{key} from {_shown(before)} to {_shown(now)}")
    return f"{model}.{name} changed its {', its '.join(changes)}: changing a column is not supported yet"


def _shown(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return "|".join(value) or "nothing"
    return str(value) or "nothing"
