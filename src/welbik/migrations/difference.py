"""What it takes to get from the tables there are to those that are declared."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, fields, replace
from decimal import Decimal

from ..kinds.base import value_type
from ..rules.text import as_text
from ..rules.tree import Apply, Const, Value
from ..schema.entries import REMOVED
from ..schema.model import Field, Model, Reference, Schema
from ..schema.names import snake
from ..storage.tables import Check, Column, Table, Tables, spelled, table_of, tables_of
from . import was
from .converting import converted, type_of
from .entries import entry_changes
from .exchanging import pairs_in
from .files import Migration
from .keys import change_of_key, in_order, leading_to
from .relating import Relation, relation
from .steps import (
    AddColumn,
    AddIndex,
    ChangeColumn,
    CopyRows,
    CreateTable,
    DropColumn,
    DropIndex,
    DropTable,
    Loss,
    SetPromises,
    SetRules,
    Step,
    after,
)
from .values import Rows, declared, in_a_file, read

_CONSTANTS = (str, int, float, bool, dt.date, dt.time, dt.timedelta, Decimal)
"""What a default may be that does not move with the clock."""


@dataclass
class Difference:
    """Steps that can be taken, and changes that are refused with the reason for each."""

    steps: list[Step] = field(default_factory=list)
    refused: list[str] = field(default_factory=list)
    types: dict[str, str] = field(default_factory=dict)
    """The words of the types that columns which go have, by table.column."""
    alike: list[tuple[str, str]] = field(default_factory=list)
    """Tables that go, each with one that comes and has most of its columns."""

    @property
    def likely(self) -> list[tuple[str, str, str]]:
        """What may only be called otherwise: table, the column that goes, the one that comes."""
        return [
            (gone.table, gone.name, new.column.name)
            for gone in (step for step in self.steps if isinstance(step, DropColumn))
            for new in (step for step in self.steps if isinstance(step, AddColumn))
            if new.table == gone.table
            and not new.value
            and new.column.type.partition(" ")[0] == self.types.get(gone.named)
        ]

    @property
    def hints(self) -> list[str]:
        """How to say that something is only called otherwise: then nothing is lost."""
        found = [
            f"if {new} is what {old} was, say so: {new} …, was {old}" for _, old, new in self.likely
        ]
        for old, new in self.alike:
            was, now = _as_model(old), _as_model(new)
            found.append(f"if {now} is what {was} was, say so in that model: was {was}")
        return found

    @property
    def losses(self) -> list[Loss]:
        return [
            step
            for step in self.steps
            if isinstance(step, DropColumn | DropTable | ChangeColumn)
            and not (isinstance(step, DropTable) and step.leave)
        ]

    def __bool__(self) -> bool:
        return bool(self.steps or self.refused)


@dataclass
class _Change:
    """What is compared: the tables once all is called anew, and the names `was` may use."""

    schema: Schema
    tables: Tables
    rows: Rows
    done: set[tuple[str, str, str]]
    found: Difference
    moved: set[str] = field(default_factory=set)
    """The tables that are referred to by another key than before."""


def difference(before: Tables, schema: Schema, migrations: Sequence[Migration] = ()) -> Difference:
    """The way from `before`, to which `migrations` led, to what the schema declares."""
    wanted = tables_of(schema)
    renamed = was.renamed(before, schema)
    now = renamed.tables
    rows = declared(now, schema, renamed.columns)
    work = _Change(schema, now, rows, was.told_before(migrations), Difference([*renamed.steps]))
    found = work.found
    models = {model.table: model for model in schema}
    keyed = [n for n, t in wanted.items() if n in now and n in models and change_of_key(now[n], t)]
    work.moved = leading_to(now, keyed)
    found.steps += [CreateTable(table) for name, table in wanted.items() if name not in now]
    for name, model in models.items():
        if name not in now and model.was and snake(model.was) in now:
            _split_off(model, snake(model.was), work)
    for name, table in wanted.items():
        if name in models and name in now:
            _table(models[name], now[name], table_of(models[name], schema), work)
        elif name in now and now[name] != table:
            _pairs(now[name], table, work)
    found.refused += _pairs_that_never_were(now, schema)
    for name in now:
        if name not in wanted:
            found.steps.append(DropTable(name, leave=now[name].as_it_is))
            come = (table for new, table in wanted.items() if new not in now and new in models)
            found.alike += [(name, new.name) for new in come if _are_alike(now[name], new)]
    found.steps = in_order(now, found.steps)
    return found


def _pairs_that_never_were(now: Tables, schema: Schema) -> Iterator[str]:
    """What is said of relations to many that were none: nothing makes pairs of it by itself."""
    for model in schema:
        for many in model.many:
            if many.declares and many.was and many.table not in now and model.table in now:
                yield (
                    f"{model.name}.{many.name}, was {many.was}: no relation to many was called so, and "
                    "pairs are made of nothing else by themselves. Leave 'was' out, and store the pairs "
                    "by a step of SQL (docs/migrations.md, by hand) before what was there is dropped"
                )


def _pairs(old: Table, table: Table, work: _Change) -> None:
    """A table of pairs that refers to rows with another key, or whose rows were a model's."""
    there = [old.column(column.name) for column in table.columns]
    ours = [one is not None and one.references for one in there]
    if ours != [column.references for column in table.columns] or change_of_key(old, table):
        work.found.refused.append(
            f"the table {table.name} would change its columns: give the relation another name"
        )
        return
    start = len(work.found.steps)
    for one, column in zip(there, table.columns, strict=True):
        if one is not None and one != column:
            step = ChangeColumn(table.name, column, told=told_change(one, column))
            work.found.steps.append(step)
    _rest(old, table, start, work)


def _are_alike(one: Table, other: Table) -> bool:
    """Whether two tables share most of their columns' names."""
    names, others = ({column.name for column in table.columns} for table in (one, other))
    return 2 * len(names & others) > max(len(names), len(others))


def _split_off(model: Model, of: str, work: _Change) -> None:
    """A new model that was another one which stays: a row for each of its rows."""
    values: list[tuple[str, str]] = []
    least, told = [], []
    table, source = table_of(model, work.schema), work.tables[of]
    for column in table.columns:
        member = next((m for m in model.members if m.column == column.name), None)
        plain = _plainly(member, column)
        if member is None or not was.said(member):
            values += [(column.name, plain)] if plain else []
            continue
        given = _given(model, source, member, column, work)
        if given is not None:
            values.append((column.name, given.value))
            least += [] if column.references == of else [column.name]
            told.append((column.name, was.said(member)))
    lacks = [c.name for c in table.columns if c.required and c.name not in dict(values)]
    if lacks:
        work.found.refused.append(
            f"{model.name} was {model.was}, which stays: a row is made for each of its rows, and "
            f"{', '.join(lacks)} would have no value. Say which: …, was EXPR over the row of {model.was}"
        )
    elif values:
        work.found.steps.append(CopyRows(model.table, of, tuple(values), tuple(least), tuple(told)))


def _plainly(member: Field | Reference | None, column: Column) -> str:
    """What a new row gets where nothing is said of it: its default, or when it is made."""
    if member is None:
        return "now" if column.required else ""
    default = member.default if isinstance(member, Field) else None
    if not isinstance(default, _CONSTANTS):
        return ""
    return as_text(Const(default, value_type(column.type)))


def _table(model: Model, old: Table, table: Table, work: _Change) -> None:
    found = work.found
    start = len(found.steps)
    another = change_of_key(old, table)
    if another is not None and old.as_it_is:
        found.refused.append(
            f"{model.name} would get another key, and others made its table: change it there, and "
            "say by a step of SQL that it was (docs/migrations.md, by hand)"
        )
    elif another is not None:
        found.steps.append(another)
    members = {member.column: member for member in model.members}
    for column in table.columns:
        there, member = old.column(column.name), members.get(column.name)
        if there is None:
            _add(model, old, member, column, work)
        else:
            _column(model, old, member, there, column, work)
    _rest(old, table, start, work, tuple(entry_changes(model, old)))


def _rest(
    old: Table, table: Table, start: int, work: _Change, entries: tuple[Step, ...] = ()
) -> None:
    """All but the columns that are declared, which the steps from `start` on have made so."""
    found = work.found
    for column in old.columns:
        if table.column(column.name) is None:
            found.steps.append(DropColumn(table.name, column.name))
            found.types[f"{table.name}.{column.name}"] = column.type.partition(" ")[0]
    for index in old.indexes:
        if index not in table.indexes and all(table.column(c) for c in index.columns):
            found.steps.append(DropIndex(table.name, index))
    kept = after(work.tables, [s for s in found.steps[start:] if s.table == table.name])
    for index in table.indexes:
        if index not in kept[table.name].indexes:
            found.steps.append(AddIndex(table.name, index))
    rules = _rules_after(old, table)
    if rules is not None:
        found.steps.append(SetRules(table.name, rules))
    found.steps += entries
    if old.promises != table.promises:
        come = tuple(p for p in table.promises if p not in old.promises)
        gone = tuple(p for p in old.promises if p not in table.promises)
        found.steps.append(SetPromises(table.name, table.promises, come, gone))


def _rules_after(old: Table, table: Table) -> tuple[Check, ...] | None:
    """The rules to hold from now on, None where they stay as they are."""
    return None if old.checks == table.checks else table.checks


def _add(
    model: Model, old: Table, member: Field | Reference | None, column: Column, work: _Change
) -> None:
    table, found = old.name, work.found
    if member is None:
        # What a model keeps of its rows: they begin to be kept now.
        fill = "" if column.name == REMOVED else "now"
        found.steps.append(AddColumn(table, column, fill))
        return
    default = member.default if isinstance(member, Field) else None
    what = f"{model.name}.{member.name}"
    made = _made(model, member) if isinstance(member, Field) else ""
    given = _given(model, old, member, column, work)
    if given is not None:
        found.steps += given.rows
        step = AddColumn(table, column, value=given.value, find=given.find, was=was.said(member))
        found.steps.append(step)
    elif made:
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


def _given(
    model: Model, old: Table, member: Field | Reference, column: Column, work: _Change
) -> Relation | None:
    """What `was` says rows that are there get; None where it says nothing, or has done its work."""
    text = was.said(member)
    if not text or (old.name, column.name, text) in work.done:
        return None
    node = read(work.rows, old.name, text)
    if isinstance(node, str):
        if member.was or _by_choices(member):
            # An old name that is not there any more: it was called anew long ago.
            return None
        work.found.refused.append(f"{model.name}.{member.name}, was {text}: {node}")
        return None
    value, have = in_a_file(work.rows, node), type_of(node, _with_names(work.rows, old))
    if column.references and have.split()[0] == "text" and not _is_key(work, column, node):
        return relation(work.schema, member, old.name, value, work.found.refused)
    other = node.type.model if node.type.name == "row" else column.references
    if other != column.references:
        work.found.refused.append(
            f"{model.name}.{member.name}, was {text}: it leads to {other or 'no row'}, and not to "
            f"{column.references or 'a value'}. Follow it to a field: {text}.name"
        )
        return None
    if converted(node, have, column.type, asked=True) is None:
        work.found.refused.append(
            f"{model.name}.{member.name}, was {text}: it gives {have.split()[0]}, which can't be "
            f"told as {column.type.split()[0]}. Write an expression that gives it"
        )
        return None
    return Relation(value)


def _is_key(work: _Change, column: Column, node: object) -> bool:
    """Whether an expression gives the key of what a column refers to, which may be a text."""
    kind = node.type if isinstance(node, Value) else None
    return kind is not None and kind.name == "row" and kind.model == column.references


def _with_names(rows: Rows, table: Table) -> Table:
    """A table with each column once for every name that expressions have for it."""
    names = [(n, c) for (t, n), c in rows.columns.items() if t == table.name]
    columns = [(n, table.column(c)) for n, c in names]
    return replace(table, columns=tuple(replace(c, name=n) for n, c in columns if c))


def _column(
    model: Model,
    old: Table,
    member: Field | Reference | None,
    there: Column,
    column: Column,
    work: _Change,
) -> None:
    """A column that is there: changed, or given other values."""
    found, name = work.found, member.name if member else column.name
    if column.references in work.moved and there.references == column.references:
        # It refers to the same row, by another key.
        found.steps.append(ChangeColumn(old.name, column, told=told_change(there, column)))
        return
    asked = member is not None and _asks(model, old, member, there, column, work)
    if there == column and not asked:
        return
    told = told_change(there, column)
    if member is not None and member.name == model.key:
        told = told.replace("whether it is unique from yes to no", "it is unique as the key")
    if asked:
        assert member is not None
        given = _given(model, old, member, column, work)
        if given is not None:
            found.steps += given.rows
            step = ChangeColumn(
                old.name, column, given.value, given.find, was=was.said(member), told=told
            )
            found.steps.append(step)
            return
    if there == column:
        return
    filled = _filled(member, there, column) if isinstance(member, Field) else ""
    if converted(_own(there), there.type, column.type) is None:
        found.refused.append(
            f"{model.name}.{name} changed {told}: what is stored can't all be told as that. Say "
            f"what rows get, such as: {name} …, was {name} (each is read as the new type), or any "
            "expression over the old row; or give it another name"
        )
    else:
        found.steps.append(ChangeColumn(old.name, column, filled, told=told))


def _asks(
    model: Model,
    old: Table,
    member: Field | Reference,
    there: Column,
    column: Column,
    work: _Change,
) -> bool:
    """Whether `was` gives rows another value for a column that is there."""
    text = was.said(member)
    if not text or (old.name, column.name, text) in work.done:
        return False
    if _by_choices(member):
        # Where none of the old choices can be there, they were called anew long ago.
        gone = [f'"{choice}"' for choice in there.among]
        return not gone or any(choice in gone for choice, _ in pairs_in(text))
    if member.was:
        if member.was == member.name or _anew(old, member, work):
            # Read as its new type: only where it has one.
            return there.type != column.type
        source = was.old_column(member, old)
        declared_still = {other.column for other in model.members}
        return bool(source) and source != column.name and source not in declared_still
    return True


def _by_choices(member: Field | Reference) -> bool:
    """Whether what rows get is said by `was` behind choices."""
    told = member.kind.rows_get(member.name) if isinstance(member, Field) else ""
    return bool(told) and was.said(member).partition(",")[2] == told.partition(",")[2]


def _anew(old: Table, member: Field | Reference, work: _Change) -> bool:
    """Whether the column is the one that `was` names, called anew in this change."""
    return work.rows.columns.get((old.name, member.was)) == member.column


def _own(column: Column) -> Value:
    return Value("", column.name, value_type(column.type))


def _filled(member: Field, old: Column, new: Column) -> str:
    """What rows without a value get where one is required from now on: the default."""
    default = member.default
    if old.required or not new.required or old.type != new.type:
        return ""
    if not isinstance(default, _CONSTANTS):
        return ""
    own = replace(_own(old), name=spelled(old.name))
    return as_text(Apply("coalesce", (own, Const(default, own.type)), own.type))


def _made(model: Model, field: Field) -> str:
    """How rows already there get a value of their own, for what the application makes itself."""
    if not field.kind.self_made:
        return ""
    source = model.by_name.get(field.kind.made_from)
    return f"{field.kind.word} {source.column}" if isinstance(source, Field) else field.kind.word


def _as_model(table: str) -> str:
    return "".join(part.capitalize() for part in table.split("_"))


_WORDS = {
    "type": "its type",
    "required": "whether it is required",
    "unique": "whether it is unique",
    "range": "its bounds",
    "length": "its length",
    "among": "its choices",
    "references": "the table it leads to",
    "removal": "what a removal does",
    "native": "the type it is stored as",
    "yes_no": "what stands for yes and no",
    "empty": "what stands for nothing",
    "by_database": "whether the database sets it",
}


def told_change(old: Column, new: Column) -> str:
    """What of a column is another than it was, in words."""
    changes = []
    for key in (f.name for f in fields(old)):
        before, now = getattr(old, key), getattr(new, key)
        if before != now and key != "name":
            changes.append(f"{_WORDS[key]} from {_shown(before)} to {_shown(now)}")
    return ", ".join(changes)


def _shown(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, tuple):
        return "|".join(value) or "nothing"
    return str(value) or "nothing"
