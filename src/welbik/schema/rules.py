"""Rules of a model: those written as clauses, and those that stand behind a field."""

from __future__ import annotations

from collections.abc import Sequence

from ..language import syntax
from ..language.diagnostics import Report
from ..problems import did_you_mean, nearest
from ..rules.text import as_text, wording
from ..rules.tree import Aggregate, Apply, Const, Node, Step, Type, Value, own, reached, walk
from .entries import Scope
from .expressions import condition
from .members import Modifiers
from .model import Field, Many, Reference, Rule

Written = tuple[syntax.Field | syntax.Reference, Modifiers]


def field_rules(model: str, written: Sequence[Written], scope: Scope, report: Report) -> list[Rule]:
    """The comparisons behind fields: `closed date, >= opened`."""
    found: list[Rule] = []
    for node, modifiers in written:
        here = syntax.Name((node.name,), node.name.span)
        for modifier, say in modifiers.conditions:
            compared = modifier.expression
            if modifier.word.text in ("between", "in"):
                assert isinstance(compared, syntax.Operation)
                whole = compared._replace(operands=(here, *compared.operands[1:]))
            else:
                assert compared is not None
                whole = syntax.Operation(modifier.word, (here, compared), modifier.span)
            typed = condition(whole, model, scope, report)
            if typed is not None:
                text = f"{node.name.text} {modifier.span.text}"
                rule = _rule(typed, say.text if say else "", node.name.text, text, modifier)
                found.append(rule)
    return found


def _rule(node: Node, say: str, at: str, text: str, place: syntax.Modifier | syntax.Rule) -> Rule:
    return Rule("", node, say or wording(node, at), at, " ".join(text.split()), place.span)


def clause_rules(
    node: syntax.Model,
    members: Sequence[object],
    scope: Scope,
    report: Report,
) -> list[Rule]:
    """The rules that are clauses of their own."""
    found: list[Rule] = []
    names = [m.name for m in members if isinstance(m, Field | Reference | Many)]
    for written in node.rules:
        typed = condition(written.expression, node.name.text, scope, report)
        at = ""
        if written.at is not None:
            at = written.at.text
            if at not in names:
                report.add(
                    "unknown-field",
                    f"{node.name.text} has no field {at!r} on its form",
                    written.at.span,
                    did_you_mean(at, names),
                    fix=nearest(at, names),
                )
                at = ""
        if typed is None:
            continue
        text = written.span.text.removeprefix("rule").strip()
        at = at or _most_telling(typed, names)
        found.append(_rule(typed, written.say.text if written.say else "", at, text, written))
    return found


def _most_telling(node: Node, names: Sequence[str]) -> str:
    """The field that a broken rule is shown at: its only one, or the first it names."""
    read = [part.name for part in own(node) if isinstance(part, Value) and not part.path]
    read += [part.path[0].reference for part in own(node) if part.path]
    return next((name for name in read if name in names), "")


def where_rules(references: Sequence[Reference]) -> list[Rule]:
    """`where` of a relation, as a rule about the row it leads to."""
    found: list[Rule] = []
    for reference in references:
        if reference.where is None:
            continue
        step = Step(reference.model, reference.name, reference.target, reference.required)
        node = reached(reference.where, (step,))
        if not reference.required:
            here = Value(reference.model, reference.name, Type("row", model=reference.target))
            node = Apply("or", (Apply("empty", (here,), node.type), node), node.type)
        say = reference.says.get(
            "where", "Choose one that may be chosen: this one may not any more."
        )
        text = f"{reference.name} where {as_text(reference.where)}"
        found.append(Rule("", node, say, reference.name, text, reference.span))
    return found


def named(rules: Sequence[Rule]) -> tuple[Rule, ...]:
    """The rules with names: after the field they are shown at, numbered where there are several."""
    from dataclasses import replace

    seen: dict[str, int] = {}
    found: list[Rule] = []
    for rule in rules:
        base = rule.at or "row"
        seen[base] = seen.get(base, 0) + 1
        number = f"_{seen[base]}" if seen[base] > 1 else ""
        found.append(replace(rule, name=f"{base}{number}"))
    return tuple(found)


def check_rules(rules: Sequence[Rule], report: Report) -> None:
    """A rule that no row can meet, or that says nothing, is a mistake."""
    for rule in rules:
        reads = any(isinstance(part, Value | Aggregate) for part in walk(rule.node))
        if not reads:
            always = isinstance(rule.node, Const) and rule.node.value
            report.add(
                "contradiction" if not always else "says-nothing",
                "this rule reads no field: it holds for every row, or for none",
                rule.span,
                "compare a field",
            )
