"""What it takes to get from the tables there are to those that are declared."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, fields

from ..schema.entries import REMOVED
from ..schema.model import Field, Model, Reference, Schema
from ..storage.tables import HISTORY_COLUMNS, Check, Column, Table, Tables, table_of, tables_of
from .steps import (
    AddColumn,
    AddIndex,
    CreateTable,
    DropColumn,
    DropIndex,
    DropTable,
    Loss,
    RenameColumn,
    RenameTable,
    SetRules,
    Step,
    after,
)


@dataclass
class Difference:
    """Steps that can be taken, and changes that are refused with the reason for each."""

    steps: list[Step] = field(default_factory=list)
    refused: list[str] = field(default_factory=list)
    types: dict[str, str] = field(default_factory=dict)
    """The words of the types that columns which go have, by table.column."""

    @property
    def hints(self) -> list[str]:
        """What may only be called otherwise, and how to say so: then nothing is lost."""
        found = []
        for gone in (step for step in self.steps if isinstance(step, DropColumn)):
            for new in (step for step in self.steps if isinstance(step, AddColumn)):
                word = new.column.type.partition(" ")[0]
                if new.table == gone.table and word == self.types.get(gone.named):
                    found.append(
                        f"if {new.column.name} is what {gone.name} was, say so: "
                        f"{new.column.name} …, was {gone.name}"
                    )
        return found

    @property
    def losses(self) -> list[Loss]:
        return [step for step in self.steps if isinstance(step, DropColumn | DropTable)]

    def __bool__(self) -> bool:
        return bool(self.steps or self.refused)


def difference(before: Tables, schema: Schema) -> Difference:
    """The way from `before` to what the schema declares."""
    found = Difference()
    wanted = tables_of(schema)
    now = _renamed(before, schema, found)
    models = {model.table: model for model in schema}
    for name, table in now.items():
        if name not in wanted:
            _gone(name, table, found, [t for t in wanted if t not in now and t in models], models)
    for name, table in wanted.items():
        if name not in now:
            found.steps.append(CreateTable(table))
        elif name in models:
            _table(models[name], now[name], table_of(models[name], schema), found)
        elif now[name] != table:
            found.refused.append(
                f"the table {name} would change its columns: give the relation another name"
            )
    return found


def _gone(
    name: str, table: Table, found: Difference, new: Sequence[str], models: Mapping[str, Model]
) -> None:
    """A table of pairs or of a history may go; a model's own is not taken away yet."""
    names = tuple(column.name for column in table.columns)
    pairs = len(names) == 2 and all(c.references for c in table.columns)
    pairs = pairs and any(index.unique and index.columns == names for index in table.indexes)
    if pairs or names == HISTORY_COLUMNS:
        found.steps.append(DropTable(name))
    else:
        words = "".join(part.capitalize() for part in name.split("_"))
        renamed = "".join(
            f". If it is {models[table].name} now, say so in that model: was {words}"
            for table in new
        )
        found.refused.append(
            f"the model of the table {name} is gone: taking tables away is not supported yet{renamed}"
        )


def _renamed(before: Tables, schema: Schema, found: Difference) -> dict[str, Table]:
    """The tables once what `was` says is renamed."""
    from ..schema.names import snake

    for model in schema.parents_first:
        old = snake(model.was) if model.was else ""
        if old in before and model.table not in before:
            found.steps.append(RenameTable(old, model.table))
            for many in model.many:
                pairs = f"{old}_{many.name}"
                if many.declares and pairs in before:
                    found.steps.append(RenameTable(pairs, many.table))
                    found.steps.append(RenameColumn(many.table, f"{old}_id", many.column))
    now = after(before, found.steps)
    for model in schema.parents_first:
        table = now.get(model.table)
        for member in model.members if table else ():
            assert table is not None
            suffix = "_id" if isinstance(member, Reference) and not member.stored_as else ""
            old = f"{member.was}{suffix}" if member.was else ""
            if old and table.column(old) and not table.column(member.column):
                found.steps.append(RenameColumn(model.table, old, member.column))
    return after(before, found.steps)


def _table(model: Model, old: Table, table: Table, found: Difference) -> None:
    start = len(found.steps)
    if old.key != table.key:
        found.refused.append(f"{model.name} would get another key: that is not supported yet")
    rules = _rules_after(old, table)
    if rules is not None and old.checks:
        # Rules that name a column which goes must go before it.
        found.steps.append(SetRules(table.name, ()))
    for index in old.indexes:
        if index not in table.indexes and all(table.column(c) for c in index.columns):
            found.steps.append(DropIndex(table.name, index))
    for column in old.columns:
        if table.column(column.name) is None:
            found.steps.append(DropColumn(table.name, column.name))
            found.types[f"{table.name}.{column.name}"] = column.type.partition(" ")[0]
    members = {member.column: member for member in model.members}
    for column in table.columns:
        there = old.column(column.name)
        if there is None:
            _add(model, table.name, members.get(column.name), column, found)
        elif there != column:
            name = members[column.name].name if column.name in members else column.name
            found.refused.append(_changed(model.name, name, there, column))
    kept = after({table.name: old}, found.steps[start:])[table.name]
    for index in table.indexes:
        if index not in kept.indexes:
            found.steps.append(AddIndex(table.name, index))
    if rules:
        found.steps.append(SetRules(table.name, rules))


def _rules_after(old: Table, table: Table) -> tuple[Check, ...] | None:
    """The rules to hold from now on, None where they stay as they are."""
    return None if old.checks == table.checks else table.checks


def _add(
    model: Model, table: str, member: Field | Reference | None, column: Column, found: Difference
) -> None:
    if member is None:
        # What a model keeps of its rows: they begin to be kept now.
        fill = "" if column.name == REMOVED else "now"
        found.steps.append(AddColumn(table, column, fill))
        return
    default = member.default if isinstance(member, Field) else None
    what = f"{model.name}.{member.name}"
    made = _made(model, member) if isinstance(member, Field) else ""
    if made:
        found.steps.append(AddColumn(table, column, made=made))
    elif member.unique and default is not None:
        found.refused.append(
            f"{what} is unique with a default: rows already there would all get the same. Leave the default out"
        )
    else:
        fill = (
            member.kind.neutral(default)
            if isinstance(member, Field) and default is not None
            else ""
        )
        found.steps.append(AddColumn(table, column, fill))


def _made(model: Model, field: Field) -> str:
    """How rows already there get a value of their own, for what the application makes itself."""
    if not field.kind.self_made:
        return ""
    source = model.by_name.get(field.kind.made_from)
    return f"{field.kind.word} {source.column}" if isinstance(source, Field) else field.kind.word


_WORDS = {
    "type": "its type",
    "required": "whether it is required",
    "unique": "whether it is unique",
    "range": "its bounds",
    "length": "its length",
    "among": "its choices",
    "references": "the table it leads to",
    "removal": "what a removal does",
}


def _changed(model: str, name: str, old: Column, new: Column) -> str:
    changes = []
    for key in (f.name for f in fields(old)):
        before, now = getattr(old, key), getattr(new, key)
        if before != now:
            changes.append(f"{_WORDS[key]} from {_shown(before)} to {_shown(now)}")
    return f"{model}.{name} changed {', '.join(changes)}: changing a column is not supported yet"


def _shown(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return "|".join(value) or "nothing"
    return str(value) or "nothing"
