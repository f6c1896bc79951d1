"""Declarations that can't be met together, found before anything is made of them."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal

from ..language import syntax
from ..language.diagnostics import Report
from ..language.source import Span
from ..rules.intervals import ANY, Bound, Interval, interval, number, outcomes
from ..rules.strings import Strings
from ..rules.tree import Apply, Node, Value, walk
from .fan_outs import fan_outs, fewest
from .model import Field, Many, Model, Reference, Rule, Schema
from .ranges import bound_of


def check_contradictions(schema: Schema, files: Sequence[syntax.File], report: Report) -> None:
    """Rules that are never true, and counts of rows that can't be had."""
    known = _bounds(schema)
    for model in schema:
        _rules(schema, model, known, report)
    places: dict[tuple[str, str], Span] = {}
    for file in files:
        for seed in file.seeds:
            for count in seed.counts:
                profile = seed.name.text if seed.name else ""
                places.setdefault((profile, count.model.text), count.model.span)
    fixed = {rows.model.text for file in files for rows in file.rows}
    for profile, counts in {"": schema.seed, **schema.profiles}.items():
        for name, number_of_rows in counts.items():
            place = places[profile, name]
            _sizes(schema, schema.models[name], number_of_rows, counts, place, report)
            _fan_outs(schema, schema.models[name], number_of_rows, counts, place, report)
            if not profile:
                _parents(schema, schema.models[name], number_of_rows, fixed, place, report)


def can_break(schema: Schema, model: Model, rule: Rule) -> bool:
    """Whether values within their fields' bounds, and within all other rules, break one rule."""
    known: dict[tuple[str, str], Interval] = {}

    def bound(value: Value) -> Interval:
        key = value.model, value.name
        if key not in known:
            of = schema.models.get(value.model)
            field = of.by_name.get(value.name) if of else None
            known[key] = bound_of(field) if isinstance(field, Field) else ANY
        return known[key]

    for other in model.rules:
        if other is rule or False not in outcomes(rule.node, bound):
            continue
        for value, limit in _limits(other.node, bound):
            before = bound(value)
            both = Interval(max(before.low, limit.low), min(before.high, limit.high))
            # What may be empty keeps any rule: only what must be given is narrowed by it.
            if value.model == model.name and model.stored(value.name).required:
                known[value.model, value.name] = both
    return False in outcomes(rule.node, bound)


def _bounds(schema: Schema) -> Mapping[tuple[str, str], Interval]:
    """What is known of each field from its type."""
    return {(model.name, f.name): bound_of(f) for model in schema for f in model.fields}


def _rules(
    schema: Schema, model: Model, known: Mapping[tuple[str, str], Interval], report: Report
) -> None:
    def bound(value: Value) -> Interval:
        return known.get((value.model, value.name), ANY)

    _defaults(model, bound, report)
    narrowed: dict[str, tuple[Interval, Rule]] = {}
    for rule in model.rules:
        can = outcomes(rule.node, bound)
        if True not in can:
            always = can == {False}
            report.add(
                "contradiction",
                "this rule is false for every row"
                if always
                else "this rule is false as soon as what it reads is given",
                rule.span,
                "change the rule, or the bounds of the fields it reads",
                tuple(_declared(schema, rule.node)),
            )
            continue
        for value, limit in _limits(rule.node, bound):
            before, first = narrowed.get(value.name, (bound(value), rule))
            both = Interval(max(before.low, limit.low), min(before.high, limit.high))
            if both.low > both.high:
                report.add(
                    "contradiction",
                    f"no value of {value.name} keeps this rule and the other one",
                    rule.span,
                    "change one of the two",
                    (("the other one", first.span),),
                )
            else:
                narrowed[value.name] = (both, rule)


def _defaults(model: Model, bound: Bound, report: Report) -> None:
    """A default that a rule over its field alone refuses."""
    for field in model.fields:
        if (
            not isinstance(field.default, int | float | Decimal | dt.date | dt.timedelta)
            or field.kind.labels()
        ):
            continue
        at = number(field.default)

        def settled(value: Value, name: str = field.name, at: float = at) -> Interval:
            return Interval(at, at) if value.name == name and not value.path else bound(value)

        for rule in model.rules:
            read = {part.name for part in walk(rule.node) if isinstance(part, Value)}
            if read == {field.name} and True not in outcomes(rule.node, settled):
                report.add(
                    "contradiction",
                    f"the default of {field.name} breaks this rule",
                    rule.span,
                    "change the default or the rule",
                    ((f"{field.name} is declared here", field.span),),
                )


def _limits(node: Node, bound: Bound) -> Iterator[tuple[Value, Interval]]:
    """What a rule that is a comparison, or several joined by `and`, says of single fields."""
    if not isinstance(node, Apply):
        return
    if node.word == "and":
        for part in node.operands:
            yield from _limits(part, bound)
    if node.word not in ("<", "<="):
        return
    for side in (0, 1):
        value, other = node.operands[side], node.operands[1 - side]
        while isinstance(value, Apply) and value.word == "cast":
            value = value.operands[0]
        if not isinstance(value, Value) or value.path or value.type.name == "datetime":
            continue
        step = 1.0 if node.word == "<" and value.type.name in ("integer", "date") else 0.0
        reach = interval(other, bound)
        if math.isnan(reach.low) or math.isnan(reach.high):
            continue
        if side == 0 and math.isfinite(reach.high):
            yield value, Interval(-math.inf, reach.high - step)
        elif side == 1 and math.isfinite(reach.low):
            yield value, Interval(reach.low + step, math.inf)


def _declared(schema: Schema, node: Node) -> Iterator[tuple[str, Span]]:
    """Where the fields that a rule reads are declared."""
    seen = set()
    for part in walk(node):
        if isinstance(part, Value) and (part.model, part.name) not in seen:
            seen.add((part.model, part.name))
            member = schema.models[part.model].by_name.get(part.name)
            if member is not None:
                yield f"{part.name} is declared here", member.span


def _sizes(
    schema: Schema,
    model: Model,
    count: int,
    counts: Mapping[str, int],
    place: Span,
    report: Report,
) -> None:
    """A unique field needs as many values as the seed makes rows."""
    for field in model.fields:
        size = _size(field) if field.unique else None
        if size is not None and size < count and field.required:
            report.add(
                "contradiction",
                f"{count} rows need {count} different values of {field.name}, which has {size}",
                place,
                "ask for fewer rows, or widen the field",
                ((f"{field.name} is declared here", field.span),),
            )
    for reference in model.references:
        have = counts.get(reference.target)
        if reference.unique and reference.required and have is not None and have < count:
            report.add(
                "contradiction",
                f"{count} rows need {count} different {reference.name}, and the seed makes {have} {reference.target}",
                place,
                f"ask for at least {count} {reference.target}",
                ((f"{reference.name} is declared here", reference.span),),
            )


def _size(field: Field) -> int | None:
    """How many different values a field is made up with, where that is known."""
    for term in field.sample:
        if term.word == "from":
            return len(set(term.arguments))
    if field.pattern is not None:
        longest = getattr(field.kind, "longest", None)
        return Strings(field.pattern, getattr(field.kind, "shortest", 1), longest).size
    return field.kind.size()


def _fan_outs(
    schema: Schema,
    model: Model,
    count: int,
    counts: Mapping[str, int],
    place: Span,
    report: Report,
) -> None:
    """`2..12 per apiary` and the counts must leave room for each other."""
    for reference in model.references:
        for term in reference.sample:
            parents = counts.get(reference.target)
            if term.word != "per" or not parents:
                continue
            low, high = (int(n) for n in term.arguments[:2])  # type: ignore[call-overload]
            if not low * parents <= count <= high * parents:
                report.add(
                    "contradiction",
                    f"{parents:,} {reference.target} with {low}..{high} each make {low * parents:,} to {high * parents:,} {model.name}, not {count:,}",
                    place,
                    "change the counts, or the range of the sample",
                    ((f"{reference.name} is declared here", reference.span),),
                )
        _asked_by_rules(schema, reference, count, counts.get(reference.target) or 0, place, report)


def _asked_by_rules(
    schema: Schema,
    reference: Reference,
    count: int,
    parents: int,
    place: Span,
    report: Report,
) -> None:
    """`rule count(hives) <= 4` and the counts must leave room for each other too."""
    asked = [one for one in fan_outs(schema, reference) if one.sure and one.end is not None]
    wanted = fewest(asked)
    ends = [(wanted * parents, "least")] if count < wanted * parents else []
    most = [one.end or 0 for one in asked if one.upper and one.where is None and reference.required]
    ends += [(end * parents, "most") for end in most if parents and count > end * parents]
    for end, word in ends[:1]:
        rules = {one.rule.span: one.rule for one in asked if one.upper == (word == "most")}
        report.add(
            "contradiction",
            f"{parents:,} {reference.target} have at {word} {end:,} {reference.model} by a rule, not {count:,}",
            place,
            "change the counts, or the rule",
            tuple(("the rule is declared here", span) for span in rules),
        )


def _parents(
    schema: Schema, model: Model, count: int, fixed: set[str], place: Span, report: Report
) -> None:
    """What every row needs must be made too."""
    needed: list[Reference | Many] = [r for r in model.references if r.required]
    needed += [m for m in model.many if m.declares and m.required]
    for relation in needed:
        if count and not schema.seed.get(relation.target) and relation.target not in fixed:
            if relation.target == model.name:
                continue
            report.add(
                "contradiction",
                f"every {model.name} needs a {relation.target} ({relation.name}), and the seed makes none",
                place,
                f"add a line such as: 10 {relation.target}",
                ((f"{relation.name} is declared here", relation.span),),
            )
