"""form.py: what is asked for, and what is accepted."""

from __future__ import annotations

import re
from typing import Any

from ..kinds.literals import quote
from ..rules.brought import use
from ..rules.html import limits
from ..rules.python import Python
from ..rules.tree import Const
from ..schema.model import Field, Many, Model, Reference, Schema
from .python import call, doc, keywords, tuple_of
from .query_code import Queries
from .rule_code import attribute_of, shape_rules


def form_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What `form.py.jinja` is filled with."""
    bounds = _bounds(schema, model)
    stand_ins: dict[str, str] = {}
    controls = [_control(schema, m, bounds.get(m.name, {}), stand_ins) for m in model.entered]
    if model.rules:
        controls.append(f"    rules={use.RULES},")
    if model.uniques:
        groups = [_unique(unique) for unique in _asked(model)]
        controls += [f"    unique={tuple_of(groups)},"] if groups else []
    inner = "".join(f"{control}\n" for control in controls)
    return {
        "doc": doc(f"what is asked for {model.a_row}, and what is accepted"),
        "stand_ins": [*stand_ins.values()],
        "form": f"form = {use.forms}.Form(\n    {use.row(model.name)},\n{inner})",
    }


def _asked(model: Model) -> list[Any]:
    """The unique groups whose members are all on the form."""
    names = {member.name for member in model.entered}
    return [unique for unique in model.uniques if set(unique.names) <= names]


def _unique(unique: Any) -> str:
    says = f", {quote(unique.say)}" if unique.say else ""
    return f"{use.forms}.Unique({tuple_of([quote(name) for name in unique.names])}{says})"


def _bounds(schema: Schema, model: Model) -> dict[str, dict[str, str]]:
    """The attributes that rules set to fields, as source: a value, or what tells it now."""
    writer = Python(lambda owner, name: attribute_of(schema, owner, name))
    found: dict[str, dict[str, str]] = {}
    for rule in model.rules:
        for limit in limits(rule.node):
            source = writer.value(limit.bound)
            if not isinstance(limit.bound, Const):
                plain = re.fullmatch(rf"({use.clock}\.\w+)\(\)", source)
                source = plain.group(1) if plain else f"lambda: {source}"
            found.setdefault(limit.field, {})[limit.attribute] = source
    return found


def _control(
    schema: Schema,
    member: Field | Reference | Many,
    bounds: dict[str, str],
    stand_ins: dict[str, str],
) -> str:
    common = _common(member)
    owner = schema.models.get(member.model)
    if owner is not None and member.name in (owner.address, owner.key):
        common["address"] = "True"
    if bounds:
        common["bounds"] = f"{{{', '.join(f'{quote(k)}: {v}' for k, v in bounds.items())}}}"
    if isinstance(member, Many):
        name, arguments = f"{use.relations}.Many", {"target": use.row(member.target)}
    elif isinstance(member, Reference):
        name, arguments = f"{use.relations}.Reference", _reference(schema, member, stand_ins)
    else:
        name, arguments = _field(schema, member)
    return call(
        name,
        [quote(member.name), quote(member.label), *keywords(common | arguments)],
        indent=4,
        tail=",",
    )


def _reference(schema: Schema, member: Reference, stand_ins: dict[str, str]) -> dict[str, str]:
    arguments = {"target": use.row(member.target)}
    if schema.owner_of(schema.models[member.model]) is member:
        arguments["owned"] = "True"
    if member.target == member.model and not member.loops:
        arguments["loops"] = "False"
    if member.control in ("select", "radio", "search"):
        arguments["wanted"] = quote(member.control)
    if member.where is not None:
        # Another field of the form may have called a table so.
        queries = Queries(schema, use.row(member.target), stand_ins)
        arguments["where"] = queries.condition(member.where)
        stand_ins |= {name: table.source() for name, table in queries.stand_ins.items()}
    return arguments


def control_name(member: Field) -> str:
    """The class in the application's kit that a field is entered with."""
    return member.kind.controls.get(member.control) or member.kind.control(member).name


def _field(schema: Schema, member: Field) -> tuple[str, dict[str, str]]:
    control = member.kind.control(member)
    name, arguments = control_name(member), dict(control.arguments)
    if "labels" in arguments and member.model not in schema.models:
        # A part has no class of its own.
        shown = (f"{quote(name)}: {quote(label)}" for name, label in member.kind.labels().items())
        arguments["labels"] = f"{{{', '.join(shown)}}}"
    if member.control and not member.kind.controls[member.control]:
        arguments["wanted"] = quote(member.control)
    if member.pattern is not None:
        arguments["pattern"] = quote(member.pattern.text)
    if member.shape is not None:
        inner = [
            _control(schema, field, {}, {}).strip().rstrip(",") for field in member.shape.fields
        ]
        arguments["part"] = tuple_of(inner)
        if member.shape.rules:
            arguments["rules"] = tuple_of(shape_rules(member.shape))
    return use.named(name if "." in name else f"fields.{name}"), arguments


def _common(member: Field | Reference | Many) -> dict[str, str]:
    found: dict[str, str] = {}
    if member.required and not (isinstance(member, Field) and member.kind.made_from):
        found["required"] = "True"
    if isinstance(member, Many):
        attribute = member.attribute
    else:
        attribute = member.attribute if isinstance(member, Field) else member.key_attribute
        if member.unique:
            found["unique"] = "True"
        if member.fixed:
            found["fixed"] = "True"
    if isinstance(member, Field):
        if member.default is not None:
            found["default"] = member.kind.source(member.default)
        if member.unit and member.unit.lower() != member.label.lower():
            found["unit"] = quote(member.unit)
    usual = f"{member.name}_id" if isinstance(member, Reference) else member.name
    if attribute != usual:
        found["attribute"] = quote(attribute)
    if member.hint:
        found["hint"] = quote(member.hint)
    if member.says:
        words = ", ".join(f"{quote(check)}: {quote(text)}" for check, text in member.says.items())
        found["messages"] = f"{{{words}}}"
    return found
