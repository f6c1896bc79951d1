"""What an expression can come to at all, told from the bounds of what it reads.

Intervals are added and compared end by end (Moore, "Interval Analysis", 1966); a condition
comes to some of true, false and unknown.
"""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Callable
from decimal import Decimal
from typing import Any, NamedTuple

from .tree import Aggregate, Apply, Clock, Const, Node, Value, maybe_empty


class Interval(NamedTuple):
    """Both ends included, numbers or days or seconds; infinite where open."""

    low: float
    high: float


ANY = Interval(-math.inf, math.inf)
Bound = Callable[[Value], Interval]
"""What is known of a stored value."""

Outcome = frozenset[bool | None]
"""What a condition can come to: true, false, unknown (None)."""

_ALL: Outcome = frozenset((True, False, None))


def number(value: Any) -> float:
    """A value on the number line: days for dates, seconds for moments and times."""
    if isinstance(value, dt.datetime):
        return value.replace(tzinfo=dt.UTC).timestamp()
    if isinstance(value, dt.date):
        return float(value.toordinal())
    if isinstance(value, dt.timedelta):
        return value.total_seconds()
    if isinstance(value, dt.time):
        return float((value.hour * 60 + value.minute) * 60 + value.second)
    return float(value)


def interval(node: Node, bound: Bound) -> Interval:
    """Between what an expression lies, where it comes to something."""
    if isinstance(node, Const) and isinstance(
        node.value, int | float | Decimal | dt.date | dt.time | dt.timedelta
    ):
        at = number(node.value)
        return Interval(at, at)
    if isinstance(node, Value):
        return bound(node)
    if isinstance(node, Aggregate):
        return _gathered(node, bound)
    if isinstance(node, Apply):
        return _applied(node, [interval(part, bound) for part in node.operands])
    return ANY


def _gathered(node: Aggregate, bound: Bound) -> Interval:
    if node.function == "count":
        return Interval(0, math.inf)
    each = ANY if node.value is None else interval(node.value, bound)
    if node.function in ("min", "max", "avg"):
        return each
    # However many there are, of one sign their sum is of it too.
    return Interval(0 if each.low >= 0 else -math.inf, 0 if each.high <= 0 else math.inf)


def _applied(node: Apply, parts: list[Interval]) -> Interval:
    word, first = node.word, parts[0]
    if word == "cast":
        return first
    if word == "length":
        return Interval(0, math.inf)
    if word == "abs":
        low = 0.0 if first.low <= 0 <= first.high else min(abs(first.low), abs(first.high))
        return Interval(low, max(abs(first.low), abs(first.high)))
    if word == "neg":
        return Interval(-first.high, -first.low)
    if len(parts) < 2:
        return ANY
    second = parts[1]
    if word in ("+", "shift") and node.type.name != "datetime":
        return Interval(first.low + second.low, first.high + second.high)
    if word == "*":
        # Nothing times without end is nothing.
        ends = [a * b if a and b else 0.0 for a in first for b in second]
        return Interval(min(ends), max(ends))
    if word in ("-", "days_between"):
        return Interval(first.low - second.high, first.high - second.low)
    if word == "least":
        return Interval(min(first.low, second.low), min(first.high, second.high))
    if word == "greatest":
        return Interval(max(first.low, second.low), max(first.high, second.high))
    return ANY


def outcomes(node: Node, bound: Bound) -> Outcome:
    """What a condition can come to."""
    if isinstance(node, Const):
        return frozenset((bool(node.value),))
    if not isinstance(node, Apply):
        return _ALL if maybe_empty(node) else frozenset((True, False))
    if node.word == "not":
        inner = outcomes(node.operands[0], bound)
        return frozenset(None if found is None else not found for found in inner)
    if node.word in ("and", "or"):
        left, right = (outcomes(part, bound) for part in node.operands)
        return frozenset(_joined(node.word, a, b) for a in left for b in right)
    if node.word == "empty":
        return frozenset((True, False)) if maybe_empty(node.operands[0]) else frozenset((False,))
    if node.word in ("<", "<=", "="):
        return _compared(node, bound)
    return _ALL


def _joined(word: str, left: bool | None, right: bool | None) -> bool | None:
    settles = word == "or"
    if left is settles or right is settles:
        return settles
    return None if left is None or right is None else not settles


def _compared(node: Apply, bound: Bound) -> Outcome:
    found: set[bool | None] = {None} if maybe_empty(node) else set()
    kinds = {part.type.name for part in node.operands}
    if kinds & {"text", "boolean", "row", "other", "datetime"} or any(
        isinstance(part, Clock) for part in node.operands
    ):
        return frozenset(found | {True, False})
    left, right = (interval(part, bound) for part in node.operands)
    if any(math.isnan(end) for end in (*left, *right)):
        return frozenset(found | {True, False})
    if node.word == "=":
        if left.low <= right.high and right.low <= left.high:
            found.add(True)
        if not (left.low == left.high == right.low == right.high):
            found.add(False)
        return frozenset(found)
    strict = node.word == "<"
    if left.low < right.high or not strict and left.low == right.high:
        found.add(True)
    if left.high > right.low or strict and left.high == right.low:
        found.add(False)
    return frozenset(found)
