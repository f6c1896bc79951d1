"""Made-up values for factories and the screen, as Python objects."""

from __future__ import annotations

from typing import Any

from ..schema.model import Field, Model, Part, Schema
from .rows import Drawer, as_python, field_types


def shown(schema: Schema, model: Model, row: dict[str, Any]) -> str:
    """A row as `shown as` has it; references in `row` are already texts."""
    return "".join(_piece(model, part, row) for part in model.shown_as)


def _piece(model: Model, part: Part, row: dict[str, Any]) -> str:
    if not part.is_field:
        return part.text
    value = row.get(part.text)
    member = model.by_name[part.text]
    if isinstance(member, Field) and member.kind.labels():
        value = member.kind.labels().get(value, value)
    return "—" if value is None else str(value)


class Supply:
    """Made-up rows as Python values, in the order of their numbers."""

    def __init__(self, schema: Schema, seed: int = 1, timezone: str = "UTC") -> None:
        self.schema = schema
        self.drawer = Drawer(schema, seed, timezone)
        self._next: dict[str, int] = {}

    def fields(self, model: str, start: int, stop: int) -> list[dict[str, Any]]:
        """The fields of some rows by name, references left out."""
        resolved = self.schema.models[model]
        types = field_types(resolved)
        parents = {r.target: 1_000_000 for r in resolved.references}
        drawn = self.drawer.draw(resolved, start, stop, parents)
        columns = {name: as_python(type_, drawn[name]) for name, type_ in types.items()}
        return [
            dict(zip(columns, values, strict=True))
            for values in zip(*columns.values(), strict=True)
        ] or [{}] * (stop - start)

    def values(self, model: str) -> dict[str, Any]:
        """The fields of the next row, by attribute of the generated class."""
        number = self._next.get(model, 0)
        self._next[model] = number + 1
        resolved = self.schema.models[model]
        row = self.fields(model, number, number + 1)[0]
        return {field.attribute: row[field.name] for field in resolved.fields}

    def rows(self, model: str, start: int, stop: int) -> list[dict[str, Any]]:
        """Some rows by field name, a reference as the text that its target is shown as."""
        resolved = self.schema.models[model]
        counts = {name: self.schema.seed.get(name) or stop for name in self.schema.models}
        drawn = self.drawer.draw(resolved, start, stop, counts)
        rows = self.fields(model, start, stop)
        for reference in resolved.references:
            column = drawn[reference.name]
            target = self.schema.models[reference.target]
            for at, row in enumerate(rows):
                position = int(column.values[at])
                empty = column.empty is not None and bool(column.empty[at])
                row[reference.name] = None if empty else self._shown(target, position)
        return [{member.name: row[member.name] for member in resolved.members} for row in rows]

    def _shown(self, model: Model, number: int) -> str:
        return shown(self.schema, model, self.rows_of_name(model, number))

    def rows_of_name(self, model: Model, number: int) -> dict[str, Any]:
        """Only what `shown as` needs of one row."""
        row = self.fields(model.name, number, number + 1)[0]
        names = {part.text for part in model.shown_as if part.is_field}
        counts = {name: self.schema.seed.get(name) or number + 1 for name in self.schema.models}
        for reference in model.references:
            if reference.name in names:
                column = self.drawer.draw(model, number, number + 1, counts)[reference.name]
                empty = column.empty is not None and bool(column.empty[0])
                target = self.schema.models[reference.target]
                row[reference.name] = None if empty else self._shown(target, int(column.values[0]))
        return row
