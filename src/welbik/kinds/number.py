"""Floating point numbers."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from .base import Array, Case, Control, Declared, Here, Kind, Reach, Stored, wants
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


_COORDINATES = ("latitude", "longitude", "lat", "lon", "lng")


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

    def reach(self, field: Declared, here: Here) -> Reach:
        """As many places as leave some thousand values, for places on Earth some metres."""
        low, high = self.bounds.low, self.bounds.high
        if low is None:
            low = 0.0 if high is None or high >= 0 else high - 100
        if high is None:
            high = low + 100
        width = max(high - low, 1e-12)
        places = max(1, 2 - math.floor(math.log10(width)))
        if field.unique:
            places = max(places, 11 - math.floor(math.log10(width)))
        elif field.name.startswith(_COORDINATES):
            places = 5
        # No more than leave a value a whole number of 62 bits.
        most = min(15, math.floor(18 - math.log10(max(abs(low), abs(high), 1.0))))
        places = min(places, most)
        first, last = math.ceil(low * 10.0**places), math.floor(high * 10.0**places)
        while first > last and places < most:
            places += 1
            first, last = math.ceil(low * 10.0**places), math.floor(high * 10.0**places)
        return Reach(first, max(first, last), places=places)

    def drawn(self, units: Array, places: int) -> Array:
        values = units / 10.0**places
        low, high = self.bounds.low, self.bounds.high
        return values if low is None and high is None else values.clip(low, high)

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
