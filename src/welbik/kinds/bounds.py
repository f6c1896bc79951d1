"""Ranges: two ends, either of which may be open, or move with the clock."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Generic, NamedTuple, TypeVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Clock, Literal, Type

Value = TypeVar("Value")


class FromNow(NamedTuple):
    """A moment that moves with the clock: today or now, and a number of days."""

    word: str
    days: int = 0

    def __str__(self) -> str:
        if not self.days:
            return self.word
        return f"{self.word} {'-' if self.days < 0 else '+'} {abs(self.days)} days"


class Bounds(NamedTuple, Generic[Value]):
    """Both ends included; None is open."""

    low: Value | None = None
    high: Value | None = None

    def __str__(self) -> str:
        if self.low is None and self.high is None:
            return ""
        low = "" if self.low is None else str(self.low)
        return f"{low}..{'' if self.high is None else self.high}"


Convert = Callable[[Bound, Report], Value | None]


def read_bounds(node: Type, report: Report, convert: Convert[Value]) -> Bounds[Value] | None:
    """The range of a type; a single bound is its upper end. None when it is wrong."""
    if node.range is None:
        return Bounds()
    ends: list[Value | None] = []
    for end in (node.range.low, node.range.high):
        value = None if end is None else convert(end, report)
        if end is not None and value is None:
            return None
        ends.append(value)
    low, high = ends
    if low is not None and high is not None and exceeds(low, high):
        message = f"the range {node.range.span.text} is empty: its first end is the larger one"
        ends_text = [end.span.text for end in (node.range.high, node.range.low) if end]
        turned = "..".join(ends_text)
        report.add("empty-range", message, node.range.span, f"write {turned}", fix=turned)
        return None
    return Bounds(low, high)


def exceeds(low: object, high: object) -> bool:
    """Whether one end is known to lie after another; what moves and what does not can't be compared."""
    if isinstance(low, FromNow) and isinstance(high, FromNow):
        return low.days > high.days
    if isinstance(low, FromNow) or isinstance(high, FromNow):
        return False
    return bool(low > high)  # type: ignore[operator]


def as_days(given: Clock, word: str, report: Report) -> FromNow | None:
    """A clock bound in days; other units and the other clock word are reported."""
    if given.word != word:
        report.add("wrong-value", f"{given.word!r} does not fit here", given.span, f"write {word}")
        return None
    if given.unit not in ("day", "days"):
        report.add(
            "unknown-unit",
            f"{given.unit!r} is no unit here",
            given.span,
            f"count in days: {word} - 30 days",
        )
        return None
    return FromNow(given.word, given.amount)


def parse_clock(text: str) -> dt.time:
    """A time of the day, `9:30` as well as `09:30`; raises ValueError where it is none."""
    return dt.time.fromisoformat(text if text.partition(":")[0][1:] else f"0{text}")


def parse_time(given: Literal, kind: str, report: Report) -> dt.date | dt.datetime | None:
    """The date or datetime that a literal stands for, checked against the calendar."""
    try:
        return (
            dt.date.fromisoformat(given.text)
            if kind == "date"
            else dt.datetime.fromisoformat(given.text)
        )
    except ValueError:
        report.add(
            "no-such-date",
            f"{given.text} is not in the calendar",
            given.span,
            "check the month and the day",
        )
        return None
