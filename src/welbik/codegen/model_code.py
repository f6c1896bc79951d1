"""model.py: the table class of a model."""

from __future__ import annotations

from typing import Any

from ..kinds.literals import quote
from ..schema.model import Collection, Field, Model, Reference, Schema
from .joins import by_name
from .python import call, doc, from_import, fstring, keywords, line, mapping, names_used

_ON_DELETE = {"remove": "CASCADE", "clear": "SET NULL"}


def model_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What `model.py.jinja` is filled with."""
    query, order = by_name(schema, model)
    in_order = [*query.alias_lines(indent=8), query.source("return ", order, indent=8)]
    attributes = [line for member in model.members for line in _attribute(schema, model, member)]
    attributes += [_collection(schema, collection) for collection in model.collections]
    used = names_used("\n".join(attributes))
    used |= names_used("\n".join(in_order)) | names_used(_shown(model))
    others = sorted(_others(model))
    here = set(query.aliases.values())
    labels = [(f.labels_name, _labels(f)) for f in model.fields if f.kind.labels()]
    return {
        "docstring": _docstring(model),
        "imports": _imports(schema, model, used, bool(labels), here - {model.name}),
        "typing_imports": [
            import_model(schema, name) for name in others if name not in here | {model.name}
        ],
        "singular": line("SINGULAR = ", quote(model.singular), indent=4),
        "plural": line("PLURAL = ", quote(model.plural), indent=4),
        "labels": labels,
        "attributes": attributes,
        "shown": line("return ", _shown(model), indent=8),
        "in_order": "\n".join(in_order),
    }


def _docstring(model: Model) -> str:
    return doc(
        f"{model.singular}: {model.help[:1].lower()}{model.help[1:]}" if model.help else model.a_row
    )


def import_model(schema: Schema, name: str) -> str:
    return from_import(f"..{schema.models[name].folder}.model", [name])


def _imports(
    schema: Schema, model: Model, used: set[str], labels: bool, joined: set[str]
) -> list[str]:
    lines = ["import datetime as dt"] if "dt" in used else []
    if "Decimal" in used:
        lines.append("from decimal import Decimal")
    typing = ["TYPE_CHECKING"] if _others(model) - {model.name} - joined else []
    typing += ["Any", *(["ClassVar"] if labels else [])]
    lines.append(from_import("typing", typing))
    lines += ["", "import sqlalchemy as sa"]
    if "orm" in used:
        lines.append("from sqlalchemy import orm")
    names = ["Mapped", "mapped_column", *(["relationship"] if "relationship" in used else [])]
    lines += [from_import("sqlalchemy.orm", names), ""]
    local = [import_model(schema, name) for name in joined]
    kit = [name for name in ("clock", "columns") if name in used]
    local += [from_import("..kit", kit)] if kit else []
    local.append("from ..kit.database import Base")
    local += ["from ..kit.show import show"] if "show" in used else []
    return lines + sorted(local, key=lambda line: line.split()[1])


def _others(model: Model) -> set[str]:
    """The models that a model's relations name."""
    return {r.target for r in model.references} | {c.child for c in model.collections}


def _labels(field: Field) -> str:
    items = [(quote(name), quote(label)) for name, label in field.kind.labels().items()]
    return mapping(f"{field.labels_name}: ClassVar[dict[str, str]] = ", items, indent=4)


def _attribute(schema: Schema, model: Model, member: Field | Reference) -> list[str]:
    if isinstance(member, Reference):
        return _reference(schema, member)
    arguments = [quote(member.name)] if member.attribute != member.name else []
    arguments += [member.kind.column()] if member.kind.column() else []
    if member.unique:
        arguments.append("unique=True")
    if member.default is not None:
        arguments.append(f"default={member.kind.source(member.default)}")
    optional = "" if member.required else " | None"
    head = f"{member.attribute}: Mapped[{member.kind.annotation}{optional}]"
    if not arguments:
        return [f"    {head}"]
    return [call(f"{head} = mapped_column", arguments, indent=4)]


def _reference(schema: Schema, member: Reference) -> list[str]:
    target = schema.models[member.target]
    action = _ON_DELETE.get(member.removal)
    key = [quote(f"{target.table}.id"), *([f'ondelete="{action}"'] if action else [])]
    arguments = [f"sa.ForeignKey({', '.join(key)})"] + (["unique=True"] if member.unique else [])
    optional = "" if member.required else " | None"
    other = _other_side(schema, member)
    options = {"back_populates": quote(other.attribute)} if other else {}
    several = sum(r.target == member.target for r in schema.models[member.model].references) > 1
    if several or member.target == member.model:
        options["foreign_keys"] = member.column
    if member.target == member.model:
        options["remote_side"] = "id"
    head = f"{member.attribute}: Mapped[{member.target}{optional}]"
    return [
        call(f"{member.column}: Mapped[int{optional}] = mapped_column", arguments, indent=4),
        call(f"{head} = relationship", keywords(options), indent=4),
    ]


def _other_side(schema: Schema, reference: Reference) -> Collection | None:
    parent = schema.models[reference.target]
    pair = (reference.model, reference.name)
    return next((c for c in parent.collections if (c.child, c.via) == pair), None)


def _collection(schema: Schema, collection: Collection) -> str:
    via = schema.models[collection.child].by_name[collection.via]
    assert isinstance(via, Reference)
    # The database itself refuses, clears or removes the rows of a removed parent.
    options = {"back_populates": quote(via.attribute), "passive_deletes": '"all"'}
    several = sum(r.target == via.target for r in schema.models[via.model].references) > 1
    if several or via.target == via.model:
        options["foreign_keys"] = quote(f"{via.model}.{via.column}")
    head = f"{collection.attribute}: Mapped[list[{collection.child}]] = relationship"
    return call(head, keywords(options), indent=4)


def _shown(model: Model) -> str:
    """The expression that gives a row's name."""
    pieces: list[str] = []
    for part in model.shown_as:
        # Text stands at even places, expressions at odd ones.
        if part.is_field == (len(pieces) % 2 == 0):
            pieces.append("")
        pieces.append(_value(model, part.text) if part.is_field else part.text)
    if len(pieces) == 2 and not pieces[0]:
        return (
            pieces[1]
            if _is_plain_text(model)
            else f"str({pieces[1]})"
            if not pieces[1].startswith("show(")
            else pieces[1]
        )
    return fstring(*pieces)


def _is_plain_text(model: Model) -> bool:
    member = model.by_name.get(next(part.text for part in model.shown_as if part.is_field))
    return (
        isinstance(member, Field)
        and member.required
        and member.kind.annotation == "str"
        and not member.kind.labels()
    )


def _value(model: Model, name: str) -> str:
    member = model.by_name.get(name)
    if isinstance(member, Field) and member.kind.labels():
        value = f"self.{member.attribute}"
        label = f"self.{member.labels_name}[{value}]"
        return label if member.required else f"show({value} and {label})"
    if member is None:
        return "self.id"
    plain = member.required and (
        isinstance(member, Reference) or member.kind.annotation in ("str", "int")
    )
    return f"self.{member.attribute}" if plain else f"show(self.{member.attribute})"
