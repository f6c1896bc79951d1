"""What the tables and columns of a schema are called, for expressions that become SQL."""

from __future__ import annotations

from .model import Field, Many, Reference, Schema


class SchemaNames:
    """Tables and columns by the names of models and members; see `rules.tree.Names`."""

    def __init__(self, schema: Schema) -> None:
        self.schema = schema

    def table(self, model: str) -> str:
        return self.schema.models[model].table

    def key(self, model: str) -> str:
        """The column of a model's primary key."""
        found = self.schema.models[model]
        return found.stored(found.key).column if found.key else "id"

    def column(self, model: str, name: str) -> str:
        member = self.schema.models[model].by_name.get(name)
        if isinstance(member, Field | Reference):
            return member.column
        return self.key(model) if name == "id" else name

    def joined(self, owner: str, name: str) -> tuple[str, str, str]:
        many = self.schema.models[owner].by_name[name]
        assert isinstance(many, Many)
        return many.table, many.column, many.target_column
