"""Whole numbers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from .base import Case, Control, Declared, Here, Kind, Reach, Stored, wants
from .bounds import Bounds, read_bounds

_INT4 = 2**31
_INT8 = 2**63


def _whole(given: Bound, report: Report) -> int | None:
    literal = wants(given, ("number",), "whole number", report)
    if literal is None:
        return None
    if "." in literal.text:
        report.add(
            "wrong-value",
            f"{literal.text} is no whole number",
            literal.span,
            "write a number such as 12, or make the field a decimal",
        )
        return None
    value = int(literal.text)
    if not -_INT8 <= value < _INT8:
        report.add(
            "too-large",
            f"{literal.text} does not fit in 64 bits",
            literal.span,
            "databases keep whole numbers up to 9_223_372_036_854_775_807",
        )
        return None
    return value


@dataclass(frozen=True, eq=False)
class Integer(Kind):
    word: ClassVar[str] = "integer"
    annotation: ClassVar[str] = "int"
    numeric: ClassVar[bool] = True
    amount: ClassVar[bool] = True
    filtered: ClassVar[str] = "Range"
    samples: ClassVar[frozenset[str]] = frozenset(("from", "normal", "lognormal", "uniform"))
    written: ClassVar[str] = "number"
    bounds: Bounds[int] = Bounds()

    @classmethod
    def read(cls, node: Type, report: Report) -> Integer | None:
        if node.range is not None and node.range.single:
            text = node.range.span.text
            report.add(
                "unexpected-range",
                "a whole number is bound by a range",
                node.range.span,
                f"write {text}.. or ..{text}",
            )
            return None
        bounds = read_bounds(node, report, _whole)
        return None if bounds is None else cls(bounds)

    @property
    def _large(self) -> bool:
        ends = [end for end in (self.bounds.low, self.bounds.high) if end is not None]
        return any(not -_INT4 <= end < _INT4 for end in ends)

    def stored(self) -> Stored:
        return Stored("bigint" if self._large else "integer", range=str(self.bounds))

    def default(self, given: Bound, report: Report) -> int | None:
        return _whole(given, report)

    def control(self, field: Declared) -> Control:
        # Without declared ends the column's own width is the limit.
        limit = _INT8 if self._large else _INT4
        low = -limit if self.bounds.low is None else self.bounds.low
        high = limit - 1 if self.bounds.high is None else self.bounds.high
        arguments = {}
        if self.bounds.low is not None or self._large:
            arguments["low"] = str(low)
        if self.bounds.high is not None or self._large:
            arguments["high"] = str(high)
        return Control("Integer", arguments)

    def size(self) -> int | None:
        if self.bounds.low is None or self.bounds.high is None:
            return None
        return self.bounds.high - self.bounds.low + 1

    def reach(self, field: Declared, here: Here) -> Reach:
        low, high = self.bounds.low, self.bounds.high
        reach = 10**9 if field.unique else 100
        if low is None:
            low = 0 if high is None or high >= 0 else max(high - reach, -_INT8)
        if high is None:
            high = min(low + reach, _INT8 - 1)
        return Reach(low, high)

    def cases(self, field: Declared) -> list[Case]:
        found = [Case('"twelve"', False, "no number"), Case('"1.5"', False, "not whole")]
        if self.bounds.low is not None:
            low = self.bounds.low
            found += [Case(f'"{low}"', True, "smallest"), Case(f'"{low - 1}"', False, "too small")]
        if self.bounds.high is not None:
            high = self.bounds.high
            found += [Case(f'"{high}"', True, "largest"), Case(f'"{high + 1}"', False, "too large")]
        return found

    def describe(self) -> str:
        return f"integer {self.bounds}".strip()
