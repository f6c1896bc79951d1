"""`sample … only when`: the rows for which a value is made up."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from ..language.diagnostics import Report
from ..rules.tree import Node, Value, walk
from .expressions import condition
from .model import AnyMember, Field
from .rules import Written
from .scope import Scope


def made_only(
    model: str,
    members: Iterable[AnyMember],
    written: Sequence[Written],
    scope: Scope,
    report: Report,
) -> Mapping[str, AnyMember]:
    """The fields of a model whose values are made up for some rows only, with the condition typed."""
    fields = {member.name: member for member in members if isinstance(member, Field)}
    found: dict[str, Field] = {}
    for node, modifiers in written:
        given, name = modifiers.get("sample"), node.name.text
        if given is None or given.expression is None:
            continue
        field = fields.get(name)
        if field is None or field.required or field.kind.self_made:
            what = "a relation" if field is None else "always given"
            report.add(
                "misplaced-sample",
                f"'only when' leaves values out, and {name!r} is {what}",
                given.span,
                "take it out, or 'required'" if field else "take it out",
            )
            continue
        only = condition(given.expression, model, scope, report)
        if only is not None:
            found[name] = replace(field, only=only)
            if _leads({n: f.only for n, f in found.items()}, name, name, set()):
                report.add(
                    "misplaced-sample",
                    f"whether {name!r} has a value would depend on itself",
                    given.span,
                    "let the condition read other fields",
                )
                del found[name]
    return found


def _leads(only: Mapping[str, Node | None], name: str, to: str, seen: set[str]) -> bool:
    """Whether a condition reads a field, or one whose own condition does."""
    seen.add(name)
    node = only.get(name)
    read = {p.name for p in walk(node) if isinstance(p, Value) and not p.path} if node else set()
    return to in read or any(_leads(only, one, to, seen) for one in read - seen)
