"""Steps of a migration, neutral to the database, and the tables they lead to."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import ClassVar

from ..kinds.literals import quote
from ..problems import WelbikError
from ..storage.checks import rule_renamed
from ..storage.tables import Check, Column, Index, Table, Tables
from .exchanging import in_words


@dataclass(frozen=True, slots=True)
class CreateTable:
    table: Table

    def describe(self) -> str:
        count = len(self.table.columns)
        if self.table.as_it_is:
            return f"take over the table {self.table.name} as it is"
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
    made from. `value` is an expression over the row as it was, and `find`, a column of what the
    new one refers to, says by what its row is found: `maker.name`. `was` is the expression as it
    was declared. What is required and has none of these can only be added while there are no rows.
    """

    table: str
    column: Column
    fill: str = ""
    made: str = ""
    value: str = ""
    find: str = ""
    was: str = field(default="", compare=False)

    def describe(self) -> str:
        shown = self.fill if self.fill.isprintable() else quote(self.fill)
        filled = f", {shown} in the rows already there" if self.fill else ""
        filled = ", one of its own in each row already there" if self.made else filled
        filled = f", {in_words(self.value)} in the rows already there" if self.value else filled
        filled = f", the row of {self.find} = {self.value}" if self.find else filled
        return f"add the column {self.table}.{self.column.name} ({self.column.type}){filled}"


@dataclass(frozen=True, slots=True)
class ChangeColumn:
    """A column is from now on another: `column` says all of it.

    Its values become those of its new type, or what `value` says; `find` and `was` as
    `AddColumn` has them. With `loss` it was allowed that some of a value is lost by it. Where what it
    held tells nothing of its new type, all rows get the neutral value `fill`, or none where it is empty.
    """

    table: str
    column: Column
    value: str = ""
    find: str = ""
    loss: bool = False
    fill: str | None = None
    was: str = field(default="", compare=False)
    told: str = field(default="", compare=False)

    @property
    def named(self) -> str:
        return f"{self.table}.{self.column.name}"

    def describe(self) -> str:
        given = in_words(self.value) if self.value else self.fill
        filled = "" if given is None else f", {given or 'empty'} in the rows already there"
        return f"change the column {self.named}: {self.told or self.column.type}{filled}"


@dataclass(frozen=True, slots=True)
class MakeRows:
    """A row for every text that `value` gives over the rows of another table, and that is not there.

    `column` holds the text; the others get what `fills` says, by column, in the neutral form.
    """

    table: str
    column: str
    of: str
    value: str
    fills: tuple[tuple[str, str], ...] = ()

    def describe(self) -> str:
        return f"make a row of {self.table} for every {self.value} of {self.of} that it lacks"


@dataclass(frozen=True, slots=True)
class CopyRows:
    """A row of a new table for each row of another: a value for each column, over that row.

    Rows of which nothing but the column `of` them is given are left out: `least` names the
    columns that count.
    """

    table: str
    of: str
    values: tuple[tuple[str, str], ...]
    least: tuple[str, ...] = ()
    was: tuple[tuple[str, str], ...] = field(default=(), compare=False)
    """What was declared of the columns that said so."""

    def describe(self) -> str:
        shown = ", ".join(f"{column} {value}" for column, value in self.values)
        return f"make a row of {self.table} for each of {self.of}: {shown}"


@dataclass(frozen=True, slots=True)
class ChangeEntries:
    """The entries of the lists in a column: fields called anew, and values where there is none.

    `called` has pairs of the old name and the new one, `fills` of a name and a value as JSON.
    """

    table: str
    column: str
    called: tuple[tuple[str, str], ...] = ()
    fills: tuple[tuple[str, str], ...] = ()

    def describe(self) -> str:
        said = [f"call {old} {new}" for old, new in self.called]
        said += [f"give {name} {value} where there is none" for name, value in self.fills]
        return f"{', '.join(said)}, in the entries of {self.table}.{self.column}"


@dataclass(frozen=True, slots=True)
class RenameColumn:
    table: str
    old: str
    name: str

    def describe(self) -> str:
        return f"call the column {self.table}.{self.old} {self.name}"


@dataclass(frozen=True, slots=True)
class DropColumn:
    """With `loss` it was allowed that its values are lost."""

    table: str
    name: str
    loss: bool = False

    @property
    def named(self) -> str:
        return f"{self.table}.{self.name}"

    def describe(self) -> str:
        return f"take away the column {self.table}.{self.name} with all its values"


@dataclass(frozen=True, slots=True)
class DropTable:
    """With `loss` it was allowed that its rows are lost; one that others made is left (`leave`)."""

    table: str
    loss: bool = False
    leave: bool = False

    @property
    def named(self) -> str:
        return self.table

    def describe(self) -> str:
        if self.leave:
            return f"leave the table {self.table} where it is: no model declares it any more"
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
class SetPromises:
    """All promises of a table anew (see `storage.promises`): stored rows are asked for new ones."""

    table: str
    promises: tuple[str, ...]
    come: tuple[str, ...] = field(default=(), compare=False)
    gone: tuple[str, ...] = field(default=(), compare=False)

    def describe(self) -> str:
        said = [f"keep rows of {self.table} to: {'; '.join(self.come)}"] if self.come else []
        said += [f"no longer keep {self.table} to: {'; '.join(self.gone)}"] if self.gone else []
        return ", and ".join(said) or f"keep rows of {self.table} to what is declared"


@dataclass(frozen=True, slots=True)
class ChangeKey:
    """The rows of a table are told apart otherwise: `key` and what follows as `Table` has them.

    What refers to them does so by the new key from then on; columns that do are changed by
    steps behind it, which say no value.
    """

    table: str
    key: str = ""
    keys: tuple[str, ...] = ()
    keyless: bool = False
    number: str = "id"

    @property
    def told_by(self) -> tuple[str, ...]:
        """The columns that are the key from then on; none where it is a number, or nothing is."""
        own = (self.key,) if self.key else ()
        return () if self.keyless else self.keys or own

    def describe(self) -> str:
        if self.keyless:
            return f"tell the rows of {self.table} apart by nothing"
        told = " and ".join(self.told_by) or "a number of their own"
        return f"tell the rows of {self.table} apart by {told}, wherever they are referred to"


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


@dataclass(frozen=True, slots=True)
class Run:
    """A step that somebody wrote: statements by the word of a database, or a function.

    `python` names a function as `module:name`; it is given the database (see
    `storage.backend.Database`). The tables after it are those that are known before.
    """

    sql: tuple[tuple[str, tuple[str, ...]], ...] = ()
    python: str = ""

    table: ClassVar[str] = ""

    def describe(self) -> str:
        return f"run {self.python}" if self.python else "run statements written by hand"


Change = (
    AddColumn
    | ChangeColumn
    | RenameColumn
    | DropColumn
    | SetRules
    | SetPromises
    | ChangeKey
    | AddIndex
    | DropIndex
)
"""Steps within one table."""
Step = CreateTable | RenameTable | DropTable | MakeRows | CopyRows | ChangeEntries | Run | Change
Loss = DropColumn | DropTable | ChangeColumn
"""Steps that may take values away."""


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
        if isinstance(step, Run):
            continue
        table = state.get(step.table)
        if table is None:
            raise WelbikError(
                f"there is no table {step.table} to change", "look at the files in migrations/"
            )
        if isinstance(step, MakeRows | CopyRows | ChangeEntries):
            continue
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


def _changed(table: Table, step: Change) -> Table:
    if isinstance(step, SetRules):
        return replace(table, checks=step.checks)
    if isinstance(step, SetPromises):
        return replace(table, promises=step.promises)
    if isinstance(step, ChangeKey):
        told = replace(table, key=step.key, keys=step.keys, keyless=step.keyless)
        return replace(told, number=step.number, native="")
    if isinstance(step, AddIndex):
        return replace(table, indexes=(*table.indexes, step.index))
    if isinstance(step, DropIndex):
        return replace(table, indexes=tuple(i for i in table.indexes if i != step.index))
    if isinstance(step, AddColumn):
        return replace(table, columns=(*table.columns, step.column))
    if isinstance(step, ChangeColumn):
        name = step.column.name
        return replace(
            table, columns=tuple(step.column if c.name == name else c for c in table.columns)
        )
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
    keys = tuple(map(named, table.keys))
    return replace(
        table, columns=columns, indexes=indexes, checks=checks, key=named(table.key), keys=keys
    )
