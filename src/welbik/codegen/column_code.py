"""Columns as SQLAlchemy source, from the same description that migrations and fills read."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache

from ..kinds.literals import quote
from ..schema.model import Field, Reference, Schema
from ..storage.connect import WORDS, backend
from ..storage.ddl import Ddl, indexes_of
from ..storage.tables import Column, Index, Table, tables_of
from .python import Call, keywords

_ON_DELETE = {"remove": "CASCADE", "clear": "SET NULL"}
_TOLD = {
    **{"bigint": "sa.BigInteger()", "double": "sa.Double()", "timestamp": "columns.Moment()"},
    **{"seconds": "columns.Duration()", "json": "sa.JSON(none_as_null=True)"},
}
_FROM_ANNOTATION = {
    **{"integer": "sa.Integer()", "boolean": "sa.Boolean()", "date": "sa.Date()"},
    **{"time": "columns.Clock()"},
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

    def __init__(self, schema: Schema, table: str) -> None:
        self.schema = schema
        self.tables = _tables(schema)
        self.table = self.tables[table]

    def of(self, table: str) -> TableCode:
        """The columns of another table."""
        return TableCode(self.schema, table)

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

    def found_by(self, column: Column) -> list[str]:
        """What a column says of an index over itself alone."""
        found = [i for i in indexes_of(self.table) if i.columns == (column.name,) and not i.live]
        if not found:
            return []
        return ["unique=True", "index=True"] if any(i.unique for i in found) else ["index=True"]

    def more(self) -> list[Call]:
        """What the table has besides its columns, as source: indexes over several, and checks."""
        found = [
            Call(f"tables.{'live' if index.live else 'index'}", _index_arguments(index))
            for index in indexes_of(self.table)
            if len(index.columns) > 1 or index.live
        ]
        ddls = {word: backend(word).ddl for word in WORDS}
        texts = {word: _conditions(ddl, self.table) for word, ddl in ddls.items()}
        return found + [
            _check(name, {word: told[name] for word, told in texts.items()})
            for name in dict.fromkeys(n for told in texts.values() for n in told)
            # What a single database needs, because of what it lacks, the kit knows.
            if all(name in told for told in texts.values())
        ]

    def foreign_key(self, column: Column) -> str:
        key = self.tables[column.references].key or "id"
        action = _ON_DELETE.get(column.removal)
        told = [f'ondelete="{action}"'] if action else []
        return f"sa.ForeignKey({', '.join([quote(f'{column.references}.{key}'), *told])})"


def _index_arguments(index: Index) -> list[str]:
    told = ["unique=True"] if index.unique and not index.live else []
    return [*map(quote, index.columns), *told]


def _conditions(ddl: Ddl, table: Table) -> dict[str, str]:
    checks = (one for column in table.columns for one in ddl.checks(table, column))
    return dict([*checks, *ddl.rules(table)])


def _check(name: str, texts: Mapping[str, str]) -> Call:
    """A condition in the words of most databases, and of those that have others."""
    most = max(texts.values(), key=[*texts.values()].count)
    others = {word: text for word, text in texts.items() if text != most}
    return Call(
        "tables.check",
        [quote(name), quote(most), *keywords({w: quote(t) for w, t in others.items()})],
    )
