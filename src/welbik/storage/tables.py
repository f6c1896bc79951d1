"""Tables as data, neutral to any database: what a schema asks to be stored."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, fields
from functools import lru_cache

from ..rules.text import as_text
from ..rules.tree import fits_check
from ..schema.entries import REMOVED
from ..schema.model import Field, Many, Model, Reference, Schema
from .list_indexes import list_indexes
from .promises import promises_of

LONGEST = 63
"""Bytes of an identifier, in the database that allows the fewest."""
_WORD = re.compile("[A-Za-z_][A-Za-z0-9_]*")
_EXPRESSIONS = {"and", "or", "not", "is", "in", "between", "when", "where", "matches"}
_EXPRESSIONS |= {"yes", "no", "today", "now", "empty", "given"}


def spelled(column: str) -> str:
    """A column as the rules of its table write it: as it is called, where that is a word."""
    if _WORD.fullmatch(column) and column not in _EXPRESSIONS:
        return column
    return f"column_{column.encode().hex()}"


def identifier(*parts: str) -> str:
    """A name made of several; a long one is cut, and kept apart from others that begin alike."""
    whole = "_".join(parts)
    if len(whole.encode()) <= LONGEST:
        return whole
    digest = hashlib.sha256(whole.encode()).hexdigest()[:8]
    return f"{whole.encode()[: LONGEST - 9].decode(errors='ignore')}_{digest}"


@dataclass(frozen=True, slots=True)
class Column:
    """One column; `type`, `range`, `length` and `among` as `kinds.base.Stored` has them.

    `references` names a table, and `removal` what becomes of the row when the row it
    refers to is removed. `native` is the type that the database has for it, where others chose
    that; `yes_no` what stands for yes and no there, and `empty` for nothing where the column always
    holds something. Where it is `by_database`, nobody else gives it a value.
    """

    name: str
    type: str
    required: bool = False
    unique: bool = False
    range: str = ""
    length: str = ""
    among: tuple[str, ...] = ()
    references: str = ""
    removal: str = ""
    native: str = ""
    yes_no: tuple[str, ...] = ()
    empty: str | None = None
    by_database: bool = False


@dataclass(frozen=True, slots=True)
class Index:
    """An index over columns; a `unique` one holds, where `live` is said, for rows not in the bin.

    Rows that are equal by the first columns stand in the order of their keys, where `ordered`
    says how many those are.
    """

    columns: tuple[str, ...]
    unique: bool = False
    live: bool = False
    ordered: int = 0

    def name(self, table: str) -> str:
        return identifier(table, *self.columns, "unique" if self.unique else "index")


@dataclass(frozen=True, slots=True)
class Check:
    """A rule that every row must not break, in the language's own words over the columns."""

    name: str
    rule: str


@dataclass(frozen=True, slots=True)
class Table:
    """A table with its columns; every table has a key besides, `id` unless a column is it.

    `promises` are what rows keep besides, and no table can hold; see `promises`. `number` is the
    column of the key that is a number, and `native` its type where others chose it; `keys` are the
    columns that are the key together. Without either, and `keyless`, nothing tells rows apart.
    What was made by others is left `as_it_is`: nothing is in it that is not said here.
    """

    name: str
    columns: tuple[Column, ...]
    checks: tuple[Check, ...] = ()
    indexes: tuple[Index, ...] = ()
    key: str = ""
    promises: tuple[str, ...] = ()
    number: str = "id"
    native: str = ""
    keys: tuple[str, ...] = ()
    keyless: bool = False
    as_it_is: bool = False

    @property
    def numbered(self) -> bool:
        """Whether its key is a number of its own."""
        return not (self.key or self.keys or self.keyless)

    @property
    def key_as_said(self) -> tuple[object, ...]:
        """What tells its rows apart: equal for tables where the same does."""
        number = self.number if self.numbered else ""
        return self.key, self.keys, self.keyless, number, self.native if number else ""

    @property
    def own(self) -> str:
        """The column that is its key, or begins it; any where nothing tells rows apart."""
        return self.key or (self.keys[0] if self.keys else self.number)

    @property
    def told_by(self) -> tuple[str, ...]:
        """The columns that tell its rows apart, or all that may."""
        return self.keys or ((self.key or self.number,) if not self.keyless else ())

    @property
    def bound(self) -> list[Column]:
        """The columns that the database holds to rows of other tables.

        Not what has a value for nothing; and what others made without a key may be a view.
        """
        if self.keyless and self.as_it_is:
            return []
        return [column for column in self.columns if column.references and column.empty is None]

    def column(self, name: str) -> Column | None:
        return next((column for column in self.columns if column.name == name), None)


Tables = Mapping[str, Table]
HISTORY_COLUMNS = ("row", "changed_at", "changes")
SENT = "welbik_sent"
"""The table of forms that were sent, which every site keeps beside its rows."""


@lru_cache(maxsize=4)
def tables_of(schema: Schema) -> Tables:
    """The tables that a schema asks for, parents first; worked out once for each schema."""
    found = {model.table: table_of(model, schema) for model in schema.parents_first}
    for model in schema.parents_first:
        for many in model.many:
            if many.declares:
                found[many.table] = _pairs(many, schema)
        if "history" in model.keeps:
            table = _history(model)
            found[table.name] = table
    if found:
        found[SENT] = _sent()
    return found


def table_of(model: Model, schema: Schema) -> Table:
    """The table of a model: its members, and what it keeps of every row."""
    columns = [_column(member, model, schema) for member in model.members]
    live = "bin" in model.keeps
    if "times" in model.keeps:
        columns += [
            Column(name, "timestamp", required=True) for name in ("created_at", "updated_at")
        ]
    if live:
        columns.append(Column(REMOVED, "timestamp"))
    key = model.stored(model.key).column if model.key else ""
    keys = tuple(model.stored(name).column for name in model.keys)
    indexes, promises = tuple(_indexes(model, schema, live)), tuple(promises_of(model))
    return Table(
        model.table,
        tuple(columns),
        _checks(model),
        indexes,
        key,
        promises,
        number=model.number,
        native=model.number_native,
        keys=keys,
        keyless=model.keyless,
        as_it_is=model.as_it_is,
    )


def _indexes(model: Model, schema: Schema, live: bool) -> Iterable[Index]:
    taken: set[tuple[str, ...]] = set()
    for unique in model.uniques:
        columns = tuple(model.stored(name).column for name in unique.names)
        if unique.names == model.keys:
            continue
        taken.add(columns)
        yield Index(columns, True, live)
    for names in (
        *model.indexes,
        *((m.name,) for m in model.members if m.indexed and not m.unique),
    ):
        columns = tuple(model.stored(name).column for name in names)
        if columns not in taken:
            taken.add(columns)
            yield Index(columns)
    for columns, ordered in () if model.as_it_is else list_indexes(model, schema):
        if columns not in taken:
            taken.add(columns)
            yield Index(columns, ordered=ordered)
    if live:
        for member in model.members:
            if member.unique and member.name != model.key:
                yield Index((member.column,), True, True)
        yield Index((REMOVED,))
    if "times" in model.keeps and "history" not in model.keeps and ("updated_at",) not in taken:
        # The first page tells what changed last.
        yield Index(("updated_at",))


def _checks(model: Model) -> tuple[Check, ...]:
    """The rules that read one row and no clock."""
    return tuple(
        Check(rule.name, as_text(rule.node, lambda value: spelled(model.stored(value.name).column)))
        for rule in model.rules
        if fits_check(rule.node)
    )


def _column(member: Field | Reference, model: Model, schema: Schema) -> Column:
    # What is unique among live rows only is an index of its own.
    unique = member.unique and "bin" not in model.keeps
    unique = unique and member.name != model.key and model.keys != (member.name,)
    if isinstance(member, Reference):
        target = schema.models[member.target]
        return _reference(member.column, target, member, unique, schema)
    return table_column(member, unique)


def table_column(member: Field, unique: bool = False) -> Column:
    """The column of a field."""
    stored = member.kind.stored()
    required = member.required or member.kind.self_made or member.empty is not None
    return Column(
        member.column,
        stored.type,
        required,
        unique,
        stored.range,
        stored.length,
        stored.among,
        native=member.native,
        yes_no=member.yes_no,
        empty=member.empty,
        by_database=member.by_database,
    )


def _reference(name: str, target: Model, member: Reference, unique: bool, schema: Schema) -> Column:
    return Column(
        name,
        key_type(target, schema),
        member.required or member.empty is not None,
        unique,
        references=target.table,
        removal=member.removal,
        native=member.native or _key_native(target, schema),
        empty=member.empty,
        by_database=member.by_database,
    )


def key_type(target: Model, schema: Schema) -> str:
    """The type of what refers to a model: `reference` where its key is a number."""
    key = schema.key_of(target)
    return key.kind.stored().type if isinstance(key, Field) else "reference"


def _key_native(target: Model, schema: Schema) -> str:
    """The type that the database has for the key of a model, where others chose it."""
    key = schema.key_of(target)
    return key.native if isinstance(key, Field) else key.number_native


def _pairs(many: Many, schema: Schema) -> Table:
    """The table of a many-to-many relation: a row for each pair."""
    owner, target = schema.models[many.model], schema.models[many.target]
    columns = tuple(
        Column(
            name,
            key_type(model, schema),
            True,
            references=model.table,
            removal="remove",
            native=_key_native(model, schema),
        )
        for name, model in ((many.column, owner), (many.target_column, target))
    )
    names = (many.column, many.target_column)
    if many.as_it_is:
        return Table(many.table, columns, keys=names, as_it_is=True)
    return Table(many.table, columns, indexes=(Index(names, True), Index(names[1:])))


def _history(model: Model) -> Table:
    """The table of a model's changes: which row, when, and what changed as JSON."""
    types = ("text 254", "timestamp", "json")
    columns = tuple(Column(n, t, True) for n, t in zip(HISTORY_COLUMNS, types, strict=True))
    return Table(
        f"{model.table}_history",
        columns,
        indexes=(Index(("row", "changed_at")), Index(("changed_at",))),
    )


def _sent() -> Table:
    """Which forms were sent, the row that each made, and when."""
    columns = [
        Column(name, type_, True)
        for name, type_ in (("form", "text 64"), ("row", "text 254"), ("sent_at", "timestamp"))
    ]
    return Table(SENT, tuple(columns), indexes=(Index(("sent_at",)),), key="form")


def fingerprint(tables: Tables) -> str:
    """A short name for a set of tables: equal for equal tables, whatever their order."""
    text = "\n".join(
        "|".join([name, *_told(column)])
        for name, table in sorted(tables.items())
        for column in sorted(table.columns, key=lambda column: column.name)
    )
    for name, table in sorted(tables.items()):
        for part in (*sorted(table.checks, key=str), *sorted(table.indexes, key=str)):
            text += f"\n{name}|{part}"
        text += f"\n{name}|{table.key}" if table.key else ""
        text += "".join(f"\n{name}|{said}" for said in _told_of_key(table))
    text += "\n" + ",".join(sorted(tables))
    return hashlib.sha256(text.encode()).hexdigest()[:16]


_LATER = ("native", "yes_no", "empty", "by_database")
_MEMBERS = [(member.name, member.default) for member in fields(Column)]


def _told(column: Column) -> list[str]:
    """What a column says; what came later to be said only where it is."""
    return [
        str(value)
        for name, usual in _MEMBERS
        if (value := getattr(column, name)) != usual or name not in _LATER
    ]


def _told_of_key(table: Table) -> list[str]:
    """What tells rows of a table apart, where that is not as usual."""
    usual = (
        ("number", "id"),
        ("native", ""),
        ("keys", ()),
        ("keyless", False),
        ("as_it_is", False),
    )
    return [f"{n}={getattr(table, n)}" for n, value in usual if getattr(table, n) != value]


def ends(text: str) -> tuple[str, str]:
    """The two ends of a `low..high`, empty where open."""
    low, _, high = text.partition("..")
    return low, high
