"""Days of the calendar."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Clock, Type
from ..rules.brought import use
from .base import Array, Case, Control, Declared, Here, Kind, Reach, Stored, wants
from .bounds import Bounds, FromNow, as_days, parse_time, read_bounds

_EPOCH = dt.date(1970, 1, 1).toordinal()
_BIRTH = ("born", "birth", "birthday", "birthdate", "dob")
_LIFETIME = 80 * 365
_AHEAD = ("due", "expires", "deadline", "until", "ends", "next")


def _day(given: Bound, report: Report) -> dt.date | FromNow | None:
    if isinstance(given, Clock):
        return as_days(given, "today", report)
    literal = wants(given, ("date",), "date", report)
    return None if literal is None else parse_time(literal, "date", report)


def _constant(end: dt.date | FromNow | None) -> dt.date | None:
    return None if isinstance(end, FromNow) else end


def day_number(end: dt.date | FromNow, today: int) -> int:
    """Days since 1970-01-01."""
    return today + end.days if isinstance(end, FromNow) else end.toordinal() - _EPOCH


def days_reached(
    bounds: Bounds[dt.date | FromNow], name: str, here: Here, unique: bool
) -> tuple[int, int]:
    """The days within the bounds; open ends reach three years back, or one ahead for due dates."""
    low = None if bounds.low is None else day_number(bounds.low, here.today)
    high = None if bounds.high is None else day_number(bounds.high, here.today)
    reach = 100_000 if unique else 3 * 365
    if low is None and high is None and any(word in name for word in _AHEAD):
        low, high = here.today, here.today + 365
    if low is None and any(word in name.split("_") for word in _BIRTH):
        reach = max(reach, _LIFETIME)
    if high is None:
        high = max(here.today, (low or 0) + (reach if low is not None and low > here.today else 0))
    if low is None:
        low = max(high - reach, -700_000)
    return low, high


@dataclass(frozen=True, eq=False)
class Date(Kind):
    word: ClassVar[str] = "date"
    annotation: ClassVar[str] = f"{use.dt}.date"
    # An optional date mostly tells what has not happened yet.
    often_empty: ClassVar[float] = 0.6
    filtered: ClassVar[str] = "Range"
    samples: ClassVar[frozenset[str]] = frozenset(("from", "within", "uniform"))
    written: ClassVar[str] = "date"
    names_rows: ClassVar[bool] = True
    schema_format: ClassVar[str] = "date"
    bounds: Bounds[dt.date | FromNow] = Bounds()

    @classmethod
    def read(cls, node: Type, report: Report) -> Date | None:
        bounds: Bounds[dt.date | FromNow] | None = read_bounds(node, report, _day)
        return None if bounds is None else cls(bounds)

    def stored(self) -> Stored:
        # A CHECK knows no clock, so an end that moves is held by the server alone.
        constant = Bounds(_constant(self.bounds.low), _constant(self.bounds.high))
        return Stored("date", range=str(constant))

    def default(self, given: Bound, report: Report) -> dt.date | FromNow | None:
        return _day(given, report)

    def source(self, value: object) -> str:
        if isinstance(value, FromNow):
            return _from_now(f"{use.clock}.today", value)
        assert isinstance(value, dt.date)
        return f"{use.dt}.date({value.year}, {value.month}, {value.day})"

    def control(self, field: Declared) -> Control:
        ends = {"low": self.bounds.low, "high": self.bounds.high}
        return Control(
            "Date", {name: self.source(end) for name, end in ends.items() if end is not None}
        )

    def size(self) -> int | None:
        low, high = self.bounds.low, self.bounds.high
        if low is None or high is None:
            return None
        today = dt.date.today().toordinal() - _EPOCH
        return max(0, day_number(high, today) - day_number(low, today) + 1)

    def reach(self, field: Declared, here: Here) -> Reach:
        return Reach(*days_reached(self.bounds, field.name, here, field.unique))

    def drawn(self, units: Array, places: int) -> Array:
        return units.astype("datetime64[D]")

    def cases(self, field: Declared) -> list[Case]:
        found = [Case('"2025-02-30"', False, "not in the calendar")]
        if self.bounds.low is not None:
            found += self._edge(self.bounds.low, -1, "first", "too early")
        if self.bounds.high is not None:
            found += self._edge(self.bounds.high, 1, "last", "too late")
        return found

    def _edge(self, end: dt.date | FromNow, step: int, inside: str, outside: str) -> list[Case]:
        if isinstance(end, FromNow):
            return [
                Case(_typed_day(end.days), True, inside),
                Case(_typed_day(end.days + step), False, outside),
            ]
        found = [Case(f'"{end}"', True, inside)]
        if dt.date.min < end < dt.date.max:
            found.append(Case(f'"{end + dt.timedelta(days=step)}"', False, outside))
        return found

    def describe(self) -> str:
        return f"date {self.bounds}".strip()


def _from_now(function: str, value: FromNow) -> str:
    """A callable that gives the moment, as source."""
    if not value.days:
        return function
    sign = "-" if value.days < 0 else "+"
    return f"lambda: {function}() {sign} {use.dt}.timedelta(days={abs(value.days)})"


def _typed_day(days: int) -> str:
    shift = f" {'-' if days < 0 else '+'} {use.dt}.timedelta(days={abs(days)})" if days else ""
    return f"str({use.clock}.today(){shift})"
