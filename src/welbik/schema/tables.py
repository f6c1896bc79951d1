"""What the tables and columns of a schema are called, for expressions that become SQL."""

from __future__ import annotations

from ..kinds.native import form
from ..rules.tree import Held
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
        if found.keys:
            return found.stored(found.keys[0]).column
        return found.stored(found.key).column if found.key else found.number

    def column(self, model: str, name: str) -> str:
        member = self.schema.models[model].by_name.get(name)
        if isinstance(member, Field | Reference):
            return member.column
        return self.key(model) if name == "id" else name

    def how(self, model: str, name: str) -> Held | None:
        member = self.schema.models[model].by_name.get(name)
        if not isinstance(member, Field | Reference):
            return None
        if not (member.native or member.yes_no or member.empty is not None):
            return None
        type_ = member.kind.stored().type if isinstance(member, Field) else "integer"
        found = form(type_, member.native) if member.native and isinstance(member, Field) else ""
        return Held(type_, "words" if member.yes_no else found, member.yes_no, member.empty)

    def joined(self, owner: str, name: str) -> tuple[str, str, str]:
        many = self.schema.models[owner].by_name[name]
        assert isinstance(many, Many)
        return many.table, many.column, many.target_column
