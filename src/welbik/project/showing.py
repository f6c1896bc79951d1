"""What is declared and what follows from it, as plain values."""

from __future__ import annotations

from typing import Any

from ..codegen.form_code import control_name
from ..rules.text import as_text
from ..schema.form_schema import form_schema
from ..schema.model import AnyMember, Collection, Computed, Field, Many, Model, Reference, Schema
from ..storage.ddl import Ddl
from ..storage.tables import table_of

_SELECT_MOST = 50
"""Rows up to which the site offers a select; see its kit/relations.py."""
_CONTROLS = {
    **{"Text": "one-line input", "LongText": "text area", "Integer": "number input"},
    **{"Decimal": "number input", "Number": "number input", "Date": "date picker"},
    **{"Time": "time picker", "Moment": "date and time picker", "Email": "e-mail input"},
    **{"Url": "address input", "Phone": "telephone input", "Slug": "one-line input, or made"},
    **{"Image": "upload of an image", "File": "upload", "Parts": "repeated sub-form"},
    **{"Tags": "one entry a line"},
}


def described(schema: Schema, model: Model) -> dict[str, Any]:
    """A model with everything that was said of it, and what was not."""
    table = table_of(model, schema)
    url = f"/{model.url}"
    part = model.address or model.key or "id"
    under = f"{_owner_url(schema, model)}{url}"
    pages = {
        "list": url,
        "new": f"{under}/new",
        "view": f"{url}/<{part}>",
        "edit": f"{under}/<{part}>/edit",
        "remove": f"{url}/<{part}>/remove",
    }
    return {
        "name": model.name,
        "help": model.help,
        "one": model.singular,
        "several": model.plural,
        "table": model.table,
        "key": model.key or "id",
        "shown_as": "".join(f"{{{p.text}}}" if p.is_field else p.text for p in model.shown_as),
        "members": [_member(schema, model, member) for member in model.everything],
        "rules": [{"rule": r.text, "says": r.say, "at": r.at} for r in model.rules],
        "unique_together": [list(unique.names) for unique in model.uniques],
        "checks": [check.rule for check in table.checks],
        "indexes": [list(index.columns) for index in table.indexes],
        "list": list(model.columns),
        "sort": [str(sort) for sort in model.sort],
        "search": list(model.search),
        "filter": list(model.filters),
        "form": [{"title": g.title, "members": list(g.names)} for g in model.groups],
        "pages": {page: pages[page] for page in model.pages},
        "menu": model.menu,
        "keeps": sorted(model.keeps),
        "rows": schema.seed.get(model.name, 0),
        "fixed_rows": len(schema.rows[model.name].rows) if model.name in schema.rows else 0,
        "form_schema": form_schema(schema, model),
    }


def _member(schema: Schema, model: Model, member: AnyMember) -> dict[str, Any]:
    found: dict[str, Any] = {"name": member.name, "label": member.label}
    found |= {"hint": member.hint} if member.hint else {}
    if isinstance(member, Field):
        return found | _field(member)
    if isinstance(member, Reference):
        return found | _reference(schema, member)
    if isinstance(member, Computed):
        unit = {"unit": member.unit} if member.unit else {}
        formula = as_text(member.formula)
        return found | {"what": "computed", "type": member.kind.word, "formula": formula, **unit}
    if isinstance(member, Many):
        side = (
            "declared here"
            if member.declares
            else f"the other side of {member.target}.{member.other}"
        )
        return found | {
            "what": "many to many",
            "target": member.target,
            "table": member.table,
            "side": side,
        }
    assert isinstance(member, Collection)
    return found | {
        "what": "collection",
        "target": member.child,
        "via": member.via,
        "sort": [str(sort) for sort in member.sort],
    }


def _field(field: Field) -> dict[str, Any]:
    stored = field.kind.stored()
    found: dict[str, Any] = {
        "what": "field",
        "type": field.kind.describe(),
        "column": field.column,
        "sql": _sql(stored.type),
        "required": field.required,
        "unique": field.unique,
        "control": "none: set by the site" if field.internal else _control(field),
    }
    if field.kind.labels():
        found["choices"] = dict(field.kind.labels())
    if field.default is not None:
        found["default"] = field.kind.tell(field.default)
    if field.pattern is not None:
        found["matches"] = field.pattern.text
    for name in ("unit", "fixed", "indexed"):
        if getattr(field, name):
            found[name] = getattr(field, name)
    if field.shape is not None:
        found["part"] = [_field(inner) | {"name": inner.name} for inner in field.shape.fields]
    return found


def _sql(type_: str) -> str:
    """The type of a column in SQL's own words, whatever a database makes of it."""
    word, *numbers = type_.split()
    return f"DECIMAL({', '.join(numbers)})" if word == "decimal" else Ddl().type_name(type_)


def _entered(schema: Schema, reference: Reference) -> str:
    """What a related row is chosen with on the form."""
    if schema.owner_of(schema.models[reference.model]) is reference:
        return f"made under its {schema.models[reference.target].singular}"
    if reference.control:
        return reference.control
    rows = schema.seed.get(reference.target, 0)
    return "select, or search box" if rows <= _SELECT_MOST else "search box"


def _owner_url(schema: Schema, model: Model) -> str:
    """The address of the row that a row is made under; empty where it stands alone."""
    owner = schema.owner_of(model)
    if owner is None:
        return ""
    parent = schema.models[owner.target]
    return f"/{parent.url}/<{parent.address or parent.key or 'id'}>"


def _control(field: Field) -> str:
    name = control_name(field).rpartition(".")[2]
    if name == "Choice":
        few = len(field.kind.labels()) <= 4
        return field.control or ("radio buttons" if few else "select")
    if name == "Boolean":
        return field.control or ("box" if field.required else "yes, no or unknown")
    return _CONTROLS.get(name, "input")


def _reference(schema: Schema, reference: Reference) -> dict[str, Any]:
    target = schema.models[reference.target]
    other = next(
        (
            c.name
            for c in target.collections
            if (c.child, c.via) == (reference.model, reference.name)
        ),
        None,
    )
    found = {
        "what": "reference",
        "target": reference.target,
        "column": reference.column,
        "required": reference.required,
        "unique": reference.unique,
        "control": _entered(schema, reference),
        "on_removal": reference.removal,
        "owned": reference.owned,
        "other_side": f"{reference.target}.{other}" if other else "none",
    }
    if reference.where is not None:
        found["where"] = as_text(reference.where)
    return found


def as_data(schema: Schema) -> dict[str, Any]:
    """The whole resolved schema."""
    return {
        "models": [described(schema, model) for model in schema],
        "parts": [
            {"name": shape.name, "fields": [_field(f) | {"name": f.name} for f in shape.fields]}
            for shape in schema.parts.values()
        ],
        "seed": dict(schema.seed),
        "profiles": {name: dict(counts) for name, counts in schema.profiles.items()},
    }
