"""form.py: what is asked for, and what is accepted."""

from __future__ import annotations

from typing import Any

from ..kinds.literals import quote
from ..schema.model import Field, Model, Reference, Schema
from .model_code import import_model
from .python import call, doc, from_import, keywords, names_used


def form_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What `form.py.jinja` is filled with."""
    controls = [_control(member) for member in model.members]
    used = names_used(f"[{''.join(controls)}]")
    lines = ["import datetime as dt"] if "dt" in used else []
    lines += ["from decimal import Decimal"] if "Decimal" in used else []
    lines += [""] if lines else []
    targets = {r.target for r in model.references} - {model.name}
    kit = ["fields", "forms", *(["clock"] if "clock" in used else [])]
    local = [*(import_model(schema, name) for name in targets), from_import("..kit", kit)]
    lines += sorted(local, key=lambda line: line.split()[1])
    lines.append(from_import(".model", [model.name]))
    inner = "".join(f"{control}\n" for control in controls)
    form = f"form = forms.Form(\n    {model.name},\n{inner})"
    return {
        "doc": doc(f"what is asked for {model.a_row}, and what is accepted"),
        "imports": lines,
        "form": form,
    }


def _control(member: Field | Reference) -> str:
    if isinstance(member, Reference):
        name, arguments = "Reference", {"target": member.target}
    else:
        control = member.kind.control(member)
        name, arguments = control.name, dict(control.arguments)
        if member.pattern is not None:
            arguments["pattern"] = quote(member.pattern.text)
    return call(
        f"fields.{name}",
        [quote(member.name), quote(member.label), *keywords(_common(member) | arguments)],
        indent=4,
        tail=",",
    )


def _common(member: Field | Reference) -> dict[str, str]:
    found: dict[str, str] = {}
    if member.required:
        found["required"] = "True"
    if member.unique:
        found["unique"] = "True"
    if isinstance(member, Field):
        if member.default is not None:
            found["default"] = member.kind.source(member.default)
        if member.attribute != member.name:
            found["attribute"] = quote(member.attribute)
    if member.hint:
        found["hint"] = quote(member.hint)
    if member.says:
        words = ", ".join(f"{quote(check)}: {quote(text)}" for check, text in member.says.items())
        found["messages"] = f"{{{words}}}"
    return found
