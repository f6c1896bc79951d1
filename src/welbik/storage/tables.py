"""Tables as data, neutral to any database: what a schema asks to be stored."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, fields

from ..schema.model import Field, Model, Reference, Schema


@dataclass(frozen=True, slots=True)
class Column:
    """One column; `type`, `range`, `length` and `among` as `kinds.base.Stored` has them.

    `references` names a table, and `removal` what becomes of the row when the row it
    refers to is removed.
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


@dataclass(frozen=True, slots=True)
class Table:
    """A table with its columns; every table has an `id` besides."""

    name: str
    columns: tuple[Column, ...]

    def column(self, name: str) -> Column | None:
        return next((column for column in self.columns if column.name == name), None)


Tables = Mapping[str, Table]


def tables_of(schema: Schema) -> dict[str, Table]:
    """The tables that a schema asks for, parents first."""
    return {model.table: table_of(model, schema) for model in schema.parents_first}


def table_of(model: Model, schema: Schema) -> Table:
    return Table(model.table, tuple(_column(member, schema) for member in model.members))


def _column(member: Field | Reference, schema: Schema) -> Column:
    if isinstance(member, Reference):
        target = schema.models[member.target].table
        return Column(
            member.column,
            "reference",
            member.required,
            member.unique,
            references=target,
            removal=member.removal,
        )
    stored = member.kind.stored()
    return Column(
        member.column,
        stored.type,
        member.required,
        member.unique,
        stored.range,
        stored.length,
        stored.among,
    )


def fingerprint(tables: Tables) -> str:
    """A short name for a set of tables: equal for equal tables, whatever their order."""
    text = "\n".join(
        "|".join([name, *(str(getattr(column, f.name)) for f in fields(column))])
        for name, table in sorted(tables.items())
        for column in sorted(table.columns, key=lambda column: column.name)
    )
    text += "\n" + ",".join(sorted(tables))
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def ends(text: str) -> tuple[str, str]:
    """The two ends of a `low..high`, empty where open."""
    low, _, high = text.partition("..")
    return low, high
