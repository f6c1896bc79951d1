"""How many rows may lead to one of another model, as the rules of that ask."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from functools import partial
from typing import NamedTuple

from ..rules.intervals import Interval, interval
from ..rules.tree import (
    Aggregate,
    Apply,
    Const,
    Node,
    Value,
    lifted,
    mapped,
    maybe_empty,
    plain,
    walk,
)
from .model import Reference, Rule, Schema
from .ranges import bound_in


class FanOut(NamedTuple):
    """No more rows than `end` for each where it is `upper`, no fewer where it is not, as a rule asks.

    `end` is None where nothing is known of it beforehand; it is what `bound` comes to, one nearer where
    it is `strict`. `where` says which rows it is asked of, and `sure` that it is asked of every parent.
    Of a sum each row takes as much as `each` of the bound, at the least or at the most.
    """

    upper: bool
    end: int | None
    where: Node | None
    rule: Rule
    sure: bool
    bound: Node
    strict: bool
    each: float = 1


def fan_outs(schema: Schema, reference: Reference) -> Iterator[FanOut]:
    """What rules say of how many rows lead to one by a reference: its target's, and those of the rows."""
    for rule in schema.models[reference.target].rules:
        for node in _parts(rule.node):
            yield from _compared(schema, reference, rule, node)
    for rule in schema.models[reference.model].rules:
        for node in _parts(rule.node):
            there = lifted(node)
            if there is not None and there[0].reference == reference.name:
                # Of a parent that has none they ask nothing.
                found = _compared(schema, reference, rule, there[1])
                yield from (one for one in found if one.upper)


def _compared(schema: Schema, reference: Reference, rule: Rule, node: Node) -> Iterator[FanOut]:
    if not isinstance(node, Apply) or node.word not in ("<", "<=", "="):
        return
    for side in (0, 1):
        found = plain(node.operands[side])
        if not isinstance(found, Aggregate) or not _is_over(found, reference):
            continue
        if found.function == "count":
            yield from _told(schema, rule, node, found, side)
        elif found.function == "sum" and found.value is not None:
            yield from _summed(schema, rule, node, found, side)


def _summed(
    schema: Schema, rule: Rule, node: Apply, total: Aggregate, side: int
) -> Iterator[FanOut]:
    """As many rows as a sum of theirs has room for, and as few as can come to it."""
    value = total.value
    if value is None or value.type.name not in ("integer", "decimal", "number"):
        return
    low, high = interval(value, partial(bound_in, schema))
    for upper, each in ((True, low), (False, high)):
        known = total.where is None and not maybe_empty(value) if upper else True
        if known and 0 < each < math.inf:
            told = _told(schema, rule, node, total, side, each)
            yield from (one for one in told if one.upper == upper)


def _parts(node: Node) -> Iterator[Node]:
    """The conditions that `and` joins."""
    if isinstance(node, Apply) and node.word == "and":
        for part in node.operands:
            yield from _parts(part)
    else:
        yield node


def _is_over(found: Aggregate, reference: Reference) -> bool:
    """Whether something is gathered from the rows that lead to one by a reference."""
    ways = [(hop.model, hop.via) for hop in found.hops]
    return not found.path and ways == [(reference.model, reference.name)]


def _told(
    schema: Schema, rule: Rule, node: Apply, count: Aggregate, side: int, each: float = 1
) -> Iterator[FanOut]:
    """What a comparison of a count, or of a sum, on the `side`, with something else asks."""
    other = node.operands[1 - side]
    low, high = (end / each for end in _between(schema, count.hops[0].owner, other))
    strict, sure = node.word == "<", not maybe_empty(other)
    asked = (count.where, rule, sure, other, strict, each)
    if side == 0 or node.word == "=":
        most = None if high == math.inf else math.ceil(high) - 1 if strict else math.floor(high)
        yield FanOut(True, most if most is None else max(0, most), *asked)
    if side == 1 or node.word == "=":
        least = None if low == -math.inf else math.floor(low) + 1 if strict else math.ceil(low)
        yield FanOut(False, least if least is None else max(0, least), *asked)


def _between(schema: Schema, model: str, node: Node) -> Interval:
    """Between what an expression of a model lies, as its fields and its rules over what it gathers say."""
    if not any(isinstance(part, Aggregate) for part in walk(node)):
        return interval(node, partial(bound_in, schema))
    known: dict[Node, Value] = {}
    least: dict[Value, float] = {}
    for part in (part for rule in schema.models[model].rules for part in _parts(rule.node)):
        if not isinstance(part, Apply) or part.word not in ("<", "<="):
            continue
        low, gathered = part.operands
        one = plain(gathered)
        if isinstance(one, Aggregate):
            stands = known.setdefault(one, Value(model, f"gathered {len(known)}", one.type))
            end = interval(low, partial(bound_in, schema)).low
            least[stands] = max(
                end, least.get(stands, interval(one, partial(bound_in, schema)).low)
            )

    def bound(value: Value) -> Interval:
        return Interval(least[value], math.inf) if value in least else bound_in(schema, value)

    return interval(mapped(node, lambda part: known.get(part, part)), bound)


def fewest(asked: Iterable[FanOut]) -> int:
    """How many rows each parent has at the least for sure.

    Rows of one kind are no rows of another where a field tells them apart: those come to more together.
    """
    most, apart = 0, dict[Node, dict[object, int]]()
    for one in asked:
        if one.upper or not one.sure or not one.end:
            continue
        most = max(most, one.end)
        for field, value in _told_apart(one.where):
            kinds = apart.setdefault(field, {})
            kinds[value] = max(one.end, kinds.get(value, 0))
    return max([most, *(sum(kinds.values()) for kinds in apart.values())])


def _told_apart(where: Node | None) -> Iterator[tuple[Node, object]]:
    """The fields that rows of a kind have one value of, and which."""
    for part in _parts(where) if where is not None else ():
        if isinstance(part, Apply) and part.word == "=":
            one, other = map(plain, part.operands)
            if isinstance(one, Value) and isinstance(other, Const):
                yield one, other.value
        elif isinstance(part, Apply) and part.word == "not" and isinstance(part.operands[0], Value):
            yield part.operands[0], False
        elif isinstance(part, Value):
            yield part, True
