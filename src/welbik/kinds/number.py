"""Floating point numbers."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from .base import Array, Case, Control, Declared, Kind, Stored, Stream, wants
from .bounds import Bounds, read_bounds


def _float(given: Bound, report: Report) -> float | None:
    literal = wants(given, ("number",), "number", report)
    if literal is None:
        return None
    value = float(literal.text)
    if math.isinf(value):
        report.add(
            "too-large",
            f"{literal.text} is too large for a number",
            literal.span,
            "write a smaller one",
        )
        return None
    return value


@dataclass(frozen=True, eq=False)
class Number(Kind):
    word: ClassVar[str] = "number"
    annotation: ClassVar[str] = "float"
    numeric: ClassVar[bool] = True
    amount: ClassVar[bool] = True
    filtered: ClassVar[str] = "Range"
    samples: ClassVar[frozenset[str]] = frozenset(("from", "normal", "lognormal", "uniform"))
    written: ClassVar[str] = "number"
    bounds: Bounds[float] = Bounds()

    @classmethod
    def read(cls, node: Type, report: Report) -> Number | None:
        if node.range is not None and node.range.single:
            text = node.range.span.text
            report.add(
                "unexpected-range",
                "a number is bound by a range",
                node.range.span,
                f"write {text}.. or ..{text}",
            )
            return None
        bounds = read_bounds(node, report, _float)
        return None if bounds is None else cls(bounds)

    def stored(self) -> Stored:
        return Stored("double", range=str(self.bounds))

    def default(self, given: Bound, report: Report) -> float | None:
        return _float(given, report)

    def control(self, field: Declared) -> Control:
        ends = {"low": self.bounds.low, "high": self.bounds.high}
        return Control("Number", {name: repr(end) for name, end in ends.items() if end is not None})

    def draw(self, field: Declared, stream: Stream) -> Array:
        low, high = self.bounds.low, self.bounds.high
        if low is None:
            low = 0.0 if high is None or high >= 0 else high - 100
        if high is None:
            high = low + 100
        # Four more digits than the width needs: believable, and never past an end.
        places = max(0, 4 - math.floor(math.log10(high - low))) if high > low else 0
        if field.unique:
            step = (high - low) / 10**12
            return low + stream.integers(0, 10**12, unique=True) * step
        drawn = (low + stream.fractions() * (high - low)).round(min(places, 12))
        return drawn.clip(low, high)

    def cases(self, field: Declared) -> list[Case]:
        found = [
            Case('"a lot"', False, "no number"),
            Case('"nan"', False, "not a number"),
            Case('"inf"', False, "without end"),
        ]
        if self.bounds.low is not None:
            low = self.bounds.low
            found += [
                Case(f'"{low!r}"', True, "smallest"),
                Case(f'"{math.nextafter(low, -math.inf)!r}"', False, "too small"),
            ]
        if self.bounds.high is not None:
            high = self.bounds.high
            found += [
                Case(f'"{high!r}"', True, "largest"),
                Case(f'"{math.nextafter(high, math.inf)!r}"', False, "too large"),
            ]
        return found

    def describe(self) -> str:
        ends = ("" if end is None else f"{end:.15g}" for end in self.bounds)
        shown = "..".join(ends)
        return "number" if shown == ".." else f"number {shown}"
