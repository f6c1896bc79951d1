"""Exact numbers with a fixed count of places."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from decimal import Decimal as Exact
from typing import Any, ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Literal, Type
from ..rules.brought import use
from .base import Case, Control, Declared, Here, Kind, Reach, Stored, wants
from .bounds import Bounds, read_bounds

_DIGITS = 18
"""What fits in 64 bits when the point is left out, as databases without decimals need it to stay exact."""


def _places(value: Exact | None) -> int:
    exponent = 0 if value is None else value.as_tuple().exponent
    return -exponent if isinstance(exponent, int) and exponent < 0 else 0


def _exact(given: Bound, report: Report) -> Exact | None:
    literal = wants(given, ("number",), "number", report)
    return None if literal is None else Exact(literal.text)


@dataclass(frozen=True, eq=False)
class Decimal(Kind):
    word: ClassVar[str] = "decimal"
    annotation: ClassVar[str] = use.Decimal
    numeric: ClassVar[bool] = True
    filtered: ClassVar[str] = "Range"
    samples: ClassVar[frozenset[str]] = frozenset(("from", "normal", "lognormal", "uniform"))
    written: ClassVar[str] = "number"
    bounds: Bounds[Exact] = Bounds()
    places: int = 2

    @classmethod
    def read(cls, node: Type, report: Report) -> Decimal | None:
        if node.range is not None and node.range.single:
            text = node.range.span.text
            report.add(
                "unexpected-range",
                "a decimal is bound by a range",
                node.range.span,
                f"write {text}.. or ..{text}",
            )
            return None
        bounds = read_bounds(node, report, _exact)
        if bounds is None:
            return None
        ends = [end for end in (bounds.low, bounds.high) if end is not None]
        places = max((_places(end) for end in ends), default=2)
        kind = cls(bounds, places)
        if kind.precision > _DIGITS and node.range is not None:
            report.add(
                "too-large",
                "these bounds need more than 18 digits",
                node.range.span,
                "bring them closer, or declare a number",
            )
            return None
        return kind

    def with_places(self, given: Literal, report: Report) -> Decimal:
        """The same with `places N` said; reported when the bounds have more places."""
        if given.kind != "number" or not given.text.isdigit() or int(given.text) > 12:
            report.add(
                "bad-places",
                f"{given.span.text} is no count of places",
                given.span,
                "write a whole number from 0 to 12",
            )
            return self
        places = int(given.text)
        if any(_places(end) > places for end in (self.bounds.low, self.bounds.high)):
            report.add(
                "bad-places",
                "the bounds have more places than that",
                given.span,
                "give the bounds fewer places",
            )
            return self
        kind = replace(self, places=places)
        if kind.precision > _DIGITS:
            report.add(
                "too-large",
                "these bounds and places need more than 18 digits",
                given.span,
                "take fewer places",
            )
            return self
        return kind

    @property
    def precision(self) -> int:
        """Digits in all, on both sides of the point."""
        if self.bounds.low is None or self.bounds.high is None:
            return max(15, self._whole_digits + self.places)
        return max(1, self._whole_digits + self.places)

    @property
    def _whole_digits(self) -> int:
        ends = [end for end in (self.bounds.low, self.bounds.high) if end is not None]
        return max((len(str(int(abs(end)))) if abs(end) >= 1 else 0 for end in ends), default=0)

    def _scaled(self, end: Exact) -> int:
        return int(end.scaleb(self.places))

    def stored(self) -> Stored:
        return Stored(f"decimal {self.precision} {self.places}", range=str(self.bounds))

    def default(self, given: Bound, report: Report) -> Exact | None:
        value = _exact(given, report)
        if value is not None and _places(value) > self.places:
            report.add(
                "wrong-value",
                f"{value} has more than {self.places} places",
                given.span,
                "round it, or say how many places",
            )
            return None
        return value

    def held(self, drawn: Sequence[Any]) -> list[Exact]:
        return [Exact(value).scaleb(-self.places) for value in drawn]

    def source(self, value: object) -> str:
        assert isinstance(value, Exact)
        return f"{use.Decimal}({value:.0f})" if value == int(value) else f'{use.Decimal}("{value}")'

    def _limits(self) -> tuple[Exact, Exact]:
        most = Exact(10) ** (self.precision - self.places) - Exact(1).scaleb(-self.places)
        low = -most if self.bounds.low is None else self.bounds.low
        return low, most if self.bounds.high is None else self.bounds.high

    def control(self, field: Declared) -> Control:
        low, high = self._limits()
        return Control(
            "Decimal",
            {"low": self.source(low), "high": self.source(high), "places": str(self.places)},
        )

    def size(self) -> int | None:
        if self.bounds.low is None or self.bounds.high is None:
            return None
        return self._scaled(self.bounds.high) - self._scaled(self.bounds.low) + 1

    def reach(self, field: Declared, here: Here) -> Reach:
        limits = self._limits()
        low, high = self.bounds.low, self.bounds.high
        if low is None:
            low = Exact(0) if high is None or high >= 0 else max(limits[0], high - 1000)
        if high is None:
            high = min(limits[1], low + 1000)
        return Reach(self._scaled(low), self._scaled(high))

    def cases(self, field: Declared) -> list[Case]:
        step = Exact(1).scaleb(-self.places)
        low, high = self._limits()
        return [
            Case('"a lot"', False, "no number"),
            Case(f'"{low:f}"', True, "smallest"),
            Case(f'"{low - step:f}"', False, "too small"),
            Case(f'"{high:f}"', True, "largest"),
            Case(f'"{high + step:f}"', False, "too large"),
            Case(f'"{low + step / 10:f}"', False, "too many places"),
        ]

    def describe(self) -> str:
        return f"decimal {self.bounds}".strip() + f", places {self.places}"
