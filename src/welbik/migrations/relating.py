"""A text that becomes a relation: by what its row is found, and how missing rows are made."""

from __future__ import annotations

from dataclasses import dataclass

from ..schema.model import Field, Model, Reference, Schema
from ..storage.tables import table_of
from .steps import MakeRows


@dataclass(frozen=True)
class Relation:
    """What a column gets: a value, and for a relation that is found by it the column it is in."""

    value: str
    find: str = ""
    rows: tuple[MakeRows, ...] = ()


def relation(
    schema: Schema, member: Field | Reference, of: str, value: str, refused: list[str]
) -> Relation | None:
    """How the rows that texts mean are found, or why they can't be (said in `refused`)."""
    assert isinstance(member, Reference)
    target = schema.models[member.target]
    name = _told_by(target)
    if name is None:
        refused.append(
            f"{member.model}.{member.name} is found by a text, and {target.name} has no text that "
            f"tells its rows apart. Show it as one text field, or make one unique"
        )
        return None
    find = f"{target.table}.{name.column}"
    fills = _fills(target, name, schema)
    made = () if fills is None else (MakeRows(target.table, name.column, of, value, fills),)
    return Relation(value, find, made)


def _told_by(target: Model) -> Field | None:
    """The text that a row of a model is shown as, or the one that is unique."""
    if len(target.shown_as) == 1 and target.shown_as[0].is_field:
        shown = target.by_name.get(target.shown_as[0].text)
        if isinstance(shown, Field) and shown.kind.stored().type.startswith("text"):
            return shown
    unique = [f for f in target.fields if f.unique and f.kind.stored().type.startswith("text")]
    return unique[0] if len(unique) == 1 else None


def _fills(target: Model, name: Field, schema: Schema) -> tuple[tuple[str, str], ...] | None:
    """What the other columns of a new row get; None where one of them needs what nobody said."""
    found = []
    members = {member.column: member for member in target.members}
    for column in table_of(target, schema).columns:
        member = members.get(column.name)
        if column.name == name.column:
            continue
        if isinstance(member, Field) and member.default is not None:
            found.append((column.name, member.kind.neutral(member.default)))
        elif member is None and column.required:
            found.append((column.name, "now"))
        elif isinstance(member, Field) and member.kind.word == "uuid":
            found.append((column.name, "uuid"))
        elif column.required:
            return None
    return tuple(found)
