"""Columns as SQLAlchemy source, from the same description that migrations and fills read."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from ..kinds.literals import quote
from ..schema.model import Field, Model, Reference, Schema
from ..storage.tables import Column, Table, tables_of

_ON_DELETE = {"remove": "CASCADE", "clear": "SET NULL"}
_TOLD = {
    **{"bigint": "sa.BigInteger()", "double": "sa.Double()", "timestamp": "columns.Moment()"},
    **{"seconds": "columns.Duration()", "json": "sa.JSON(none_as_null=True)"},
}
_FROM_ANNOTATION = {
    **{"integer": "sa.Integer()", "boolean": "sa.Boolean()", "date": "sa.Date()"},
    **{"time": "sa.Time()"},
}


def column_type(field: Field, *, alone: bool = False) -> str:
    """The type of a field's column; empty where its annotation tells it, unless it stands `alone`."""
    given = field.kind.column()
    if given:
        return given
    word, *numbers = field.kind.stored().type.split()
    if word == "text":
        return f"sa.String({numbers[0]})" if numbers else "sa.Text()"
    if word == "decimal":
        return f"columns.Exact({', '.join(numbers)})"
    return _TOLD.get(word) or (_FROM_ANNOTATION.get(word, "") if alone else "")


@lru_cache(maxsize=2)
def _tables(schema: Schema) -> Mapping[str, Table]:
    """The tables of a schema, worked out once for all its models."""
    return tables_of(schema)


class TableCode:
    """The columns of a model's class, as the tables of the schema have them."""

    def __init__(self, schema: Schema, model: Model) -> None:
        self.tables = _tables(schema)
        self.table = self.tables[model.table]

    def column(self, member: Field | Reference) -> Column:
        found = self.table.column(member.column)
        assert found is not None
        return found

    def optional(self, column: Column) -> str:
        """What an annotation ends in where the column may be empty."""
        return "" if column.required or column.name == self.table.key else " | None"

    def arguments(self, column: Column, attribute: str) -> list[str]:
        """What stands first in `mapped_column`: the column's name, and what it refers to."""
        named = [quote(column.name)] if column.name != attribute else []
        return [*named, self.foreign_key(column)] if column.references else named

    def foreign_key(self, column: Column) -> str:
        key = self.tables[column.references].key or "id"
        action = _ON_DELETE.get(column.removal)
        told = [f'ondelete="{action}"'] if action else []
        return f"sa.ForeignKey({', '.join([quote(f'{column.references}.{key}'), *told])})"
