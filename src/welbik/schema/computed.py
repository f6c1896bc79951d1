"""Computed fields: a formula, and the type it was declared to have."""

from __future__ import annotations

from dataclasses import replace

from ..kinds import kinds
from ..kinds.decimal import Decimal
from ..language import syntax
from ..language.diagnostics import Report
from ..rules.tree import INTEGER, Apply, Const, Node, Type
from . import names
from .coercion import coerced, describe
from .entries import Scope
from .expressions import understand
from .members import Modifiers
from .model import Computed


def resolve_computed(
    model: str, node: syntax.Field, modifiers: Modifiers, scope: Scope, report: Report
) -> Computed | None:
    """The field with its formula typed, or nothing where either is wrong."""
    assert node.formula is not None
    if node.type.range is not None:
        report.add(
            "unexpected-range",
            "a computed field takes no range: it is what it comes to",
            node.type.range.span,
            "take the range away",
            fix="",
            fix_from=node.type.word.span.end,
        )
    kind = kinds()[node.type.word.text].read(node.type, report)
    given = modifiers.get("places")
    if isinstance(kind, Decimal) and given and isinstance(given.value, syntax.Literal):
        kind = kind.with_places(given.value, report)
    formula = understand(node.formula, model, scope, report)
    if kind is None or formula is None:
        return None
    if isinstance(kind, Decimal) and given is None and formula.type.name == "decimal":
        kind = replace(kind, places=formula.type.places)
    wanted = kind.value_type()
    fitting = _fitted(formula, wanted)
    if fitting is None:
        report.add(
            "wrong-types",
            f"this gives {describe(formula.type)}, and the field is {describe(wanted)}",
            node.formula.span,
            f"declare it as {_declared(formula.type)}",
            (("the field's type", node.type.span),),
            fix=None,
        )
        return None
    return Computed(
        model=model,
        name=node.name.text,
        span=node.span,
        label=modifiers.text("label") or names.label(node.name.text),
        hint=modifiers.text("hint"),
        kind=kind,
        formula=fitting,
        unit=modifiers.text("unit"),
    )


def _declared(kind: Type) -> str:
    return {"days": "integer", "other": "what it is"}.get(kind.name, kind.name)


def _fitted(formula: Node, wanted: Type) -> Node | None:
    """The formula as a value of the declared type; a decimal is rounded to its places."""
    have = formula.type
    if have.name == "days" and wanted.name == "integer":
        return formula
    if have.name in ("decimal", "number") and wanted.name == "decimal":
        if have.name == "decimal" and have.places > wanted.places:
            places = Const(wanted.places, INTEGER)
            return Apply("round", (formula, places), wanted)
        if have.name == "number":
            return Apply("to_exact", (formula, Const(wanted.places, INTEGER)), wanted)
    return coerced(formula, wanted)
