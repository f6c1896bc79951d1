"""tests/: factories, and tests of every page, check and relation."""

from __future__ import annotations

from typing import Any

from ..kinds.base import Case
from ..kinds.boolean import Boolean
from ..kinds.literals import quote
from ..schema.model import Field, Model, Reference, Schema
from .python import call, doc, from_import, fstring, line, names_used


def supply_context(schema: Schema, package: str) -> dict[str, Any]:
    """What `supply.py.jinja` is filled with."""
    imports = []
    for model in sorted(schema, key=lambda model: model.folder):
        imports.append(
            from_import(f"{package}.{model.folder}.form", [f"form as {model.table}_form"])
        )
        imports.append(from_import(f"{package}.{model.folder}.model", [model.name]))
    return {"imports": imports, "factories": [_factory(schema, model) for model in schema]}


def _factory(schema: Schema, model: Model) -> dict[str, Any]:
    needs = [
        {"column": r.column, "factory": schema.models[r.target].factory}
        for r in model.references
        if r.required
    ]
    return {
        "name": model.factory,
        "model": model.name,
        "form": f"{model.table}_form",
        "needs": needs,
    }


def tests_context(schema: Schema, model: Model, package: str) -> dict[str, Any]:
    """What `test.py.jinja` is filled with."""
    cases = [_case(field, case) for field in model.fields for case in field.kind.cases(field)]
    shown = [r for r in model.references if r.name in model.columns]
    lists = {
        "required": [m.name for m in model.members if m.required and not _is_box(m)],
        "unique": [m.name for m in model.members if m.unique],
        "references": [r.name for r in model.references],
    }
    marks = {what: _parametrize(names) for what, names in lists.items()}
    cases = list(dict.fromkeys(cases))
    used = names_used(f"[{''.join(cases)}]")
    return {
        "doc": doc(
            f"{model.plural}: every page, every check just inside and outside, every relation"
        ),
        "imports": _imports(used, bool(cases) or any(lists.values()), bool(shown), package),
        "name": model.factory,
        "url_line": line("URL = ", quote(f"/{model.url}")),
        "cases": cases,
        **marks,
        "unique_given": _unique_given(schema, model),
        "shown": [f"    {_local(r)} = supply.{schema.models[r.target].factory}()" for r in shown],
        "shown_row": call(
            f"row = supply.{model.factory}", [f"{r.column}={_local(r)}.id" for r in shown], indent=4
        ),
        "shown_listed": [_local(r) for r in shown],
        "removals": [_removal(schema, r) for r in schema.referring(model.name)],
    }


def _local(reference: Reference) -> str:
    return f"its_{reference.name}"


def _is_box(member: Field | Reference) -> bool:
    """A box that is not ticked says no: it can't be left out."""
    return isinstance(member, Field) and isinstance(member.kind, Boolean)


def _imports(used: set[str], marked: bool, shown: bool, package: str) -> list[str]:
    lines = ["import datetime as dt"] if "dt" in used else []
    lines += ["import html"] if shown else []
    lines += [""] if lines else []
    lines += ["import pytest"] if marked else []
    return [
        *lines,
        "from supply import Supply",
        "from visit import Visitor",
        *(["", from_import(f"{package}.kit", ["clock"])] if "clock" in used else []),
    ]


def _case(field: Field, case: Case) -> str:
    return call("", [quote(field.name), case.typed, str(case.accepted)], indent=8, tail=",")


def _parametrize(names: list[str]) -> str:
    if not names:
        return ""
    values = f"[{', '.join(map(quote, names))}]"
    line = call("@pytest.mark.parametrize", ['"field"', values])
    if "\n" not in line:
        return line
    inner = "".join(f"        {quote(name)},\n" for name in names)
    return f'@pytest.mark.parametrize(\n    "field",\n    [\n{inner}    ],\n)'


def _unique_given(schema: Schema, model: Model) -> list[str]:
    """Unique relations that a factory leaves empty get a row, so that there is one to repeat."""
    return [
        f'    first["{r.name}"] = str(supply.{schema.models[r.target].factory}().id)'
        for r in model.references
        if r.unique and not r.required
    ]


def _removal(schema: Schema, reference: Reference) -> dict[str, str]:
    child = schema.models[reference.model]
    ways = {"refuse": "is_refused_for", "clear": "leaves", "remove": "takes_along"}
    return {
        "test": call(
            f"def test_removal_{ways[reference.removal]}_{child.table}_{reference.name}",
            ["visitor: Visitor", "supply: Supply"],
            tail=" -> None:",
        ),
        "child": call(f"child = supply.{child.factory}", [f"{reference.column}=row.id"], indent=4),
        "way": reference.removal,
        "page": line("page = ", fstring(f"/{child.url}/", "child.id"), indent=4),
        "column": reference.column,
    }
