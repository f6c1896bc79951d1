"""What a model's form takes, as JSON Schema 2020-12."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from ..kinds.bounds import FromNow
from ..kinds.list import ListOf
from .model import Field, Many, Model, Reference, Schema

_DIALECT = "https://json-schema.org/draft/2020-12/schema"
_TYPES = {
    **{"text": "string", "integer": "integer", "decimal": "number", "number": "number"},
    **{"boolean": "boolean", "date": "string", "time": "string", "datetime": "string"},
}


def form_schema(schema: Schema, model: Model) -> dict[str, Any]:
    """A JSON Schema of the values that the model's form takes; an empty one is null."""
    properties = {m.name: _member(schema, m) for m in model.entered}
    required = [
        m.name
        for m in model.entered
        if m.required and not (isinstance(m, Field) and m.default is not None)
    ]
    rules = [rule.text for rule in model.rules]
    return {
        "$schema": _DIALECT,
        "title": model.singular,
        **({"description": model.help} if model.help else {}),
        "type": "object",
        "properties": properties,
        "required": required,
        "additionalProperties": False,
        **({"$comment": f"Rules besides: {'; '.join(rules)}"} if rules else {}),
    }


def _member(schema: Schema, member: Field | Reference | Many) -> dict[str, Any]:
    if isinstance(member, Field):
        found = field_schema(member)
    elif isinstance(member, Many):
        found = {"type": "array", "uniqueItems": True, "items": _key(schema, member.target)}
        found |= {"minItems": 1} if member.required else {}
    else:
        found = _key(schema, member.target)
        found["$comment"] = f"the key of a row of {member.target}"
    found["title"] = member.label
    if member.hint:
        found["description"] = member.hint
    if not member.required and not isinstance(member, Many):
        return _or_null(found)
    return found


def _or_null(found: dict[str, Any]) -> dict[str, Any]:
    if "oneOf" in found:
        return {**found, "oneOf": [*found["oneOf"], {"type": "null"}]}
    return {**found, "type": [found["type"], "null"]} if "type" in found else found


def _key(schema: Schema, name: str) -> dict[str, Any]:
    """What a row of a model is told by."""
    model = schema.models[name]
    if len(model.keys) > 1:
        return {"type": "string"}
    key = schema.key_of(model)
    return field_schema(key) if isinstance(key, Field) else {"type": "integer", "minimum": 1}


def field_schema(field: Field) -> dict[str, Any]:
    """The values of a field, without what its label says."""
    kind = field.kind
    if isinstance(kind, ListOf):
        return _list(field, kind)
    if kind.labels():
        return {"oneOf": [{"const": name, "title": label} for name, label in kind.labels().items()]}
    if kind.as_json:
        return {"type": "object", "$comment": kind.describe()}
    value = kind.value_type()
    found: dict[str, Any] = {"type": _TYPES.get(value.name, "string")}
    if kind.schema_format:
        found["format"] = kind.schema_format
    found |= _limits(field)
    if value.name == "decimal":
        found["multipleOf"] = float(Decimal(1).scaleb(-value.places))
    if field.pattern is not None:
        found["pattern"] = f"^({field.pattern.text})$"
    if field.default is not None and not isinstance(field.default, FromNow):
        found["default"] = _plain(kind.in_json(field.default))
    return found


def _limits(field: Field) -> dict[str, Any]:
    """Lengths and ends; those that move with the clock are told in words."""
    kind = field.kind
    found: dict[str, Any] = {}
    shortest, longest = getattr(kind, "shortest", 1), getattr(kind, "longest", None)
    if kind.textual:
        found["minLength"] = shortest
    if longest is not None:
        found["maxLength"] = longest
    bounds = getattr(kind, "bounds", None)
    for end, name in (
        (getattr(bounds, "low", None), "minimum"),
        (getattr(bounds, "high", None), "maximum"),
    ):
        if end is None:
            continue
        if isinstance(end, int | float | Decimal):
            found[name] = _plain(end)
        else:
            words = ("at least", "at most") if kind.numeric else ("not before", "not after")
            word = words[name == "maximum"]
            before = f"{found['$comment']}, " if "$comment" in found else ""
            found["$comment"] = f"{before}{word} {kind.tell(end)}"
    return found


def _list(field: Field, kind: ListOf) -> dict[str, Any]:
    if field.shape is None:
        longest = kind.text.longest if kind.text else None
        items: dict[str, Any] = {"type": "string", "minLength": 1}
        items |= {"maxLength": longest} if longest else {}
        return {"type": "array", "items": items, "maxItems": 100}
    inner = {f.name: _part_field(f) for f in field.shape.fields}
    required = [f.name for f in field.shape.fields if f.required]
    part = {
        "type": "object",
        "properties": inner,
        "required": required,
        "additionalProperties": False,
    }
    return {"type": "array", "items": part, "maxItems": 100}


def _part_field(field: Field) -> dict[str, Any]:
    found = {**field_schema(field), "title": field.label}
    return found if field.required else _or_null(found)


def _plain(value: object) -> Any:
    if isinstance(value, Decimal):
        return int(value) if value == value.to_integral_value() else float(value)
    return value if isinstance(value, str | int | float | bool) else str(value)
