"""Moments: kept in UTC, typed and shown in the site's time zone."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar
from zoneinfo import ZoneInfo

from ..language.diagnostics import Report
from ..language.syntax import Bound, Clock, Type
from ..rules.brought import use
from .base import Array, Case, Control, Declared, Here, Kind, Reach, Stored, wants
from .bounds import Bounds, FromNow, as_days, parse_time, read_bounds
from .date import days_reached


def _moment(given: Bound, report: Report) -> dt.datetime | FromNow | None:
    if isinstance(given, Clock):
        return as_days(given, "now", report)
    literal = wants(given, ("datetime",), "datetime", report)
    if literal is None:
        return None
    value = parse_time(literal, "datetime", report)
    return value if isinstance(value, dt.datetime) else None


def _second(end: dt.datetime | FromNow, here: Here) -> int:
    """Seconds since 1970 in UTC; what moves is told from the beginning of today, which is past."""
    zone = ZoneInfo(here.timezone)
    if isinstance(end, FromNow):
        day = dt.date(1970, 1, 1) + dt.timedelta(days=here.today + end.days)
        return int(dt.datetime.combine(day, dt.time(), zone).timestamp())
    return int(end.replace(tzinfo=zone).timestamp())


def _day(end: dt.datetime | FromNow | None) -> dt.date | FromNow | None:
    return end.date() if isinstance(end, dt.datetime) else end


@dataclass(frozen=True, eq=False)
class DateTime(Kind):
    word: ClassVar[str] = "datetime"
    annotation: ClassVar[str] = f"{use.dt}.datetime"
    # An optional date mostly tells what has not happened yet.
    often_empty: ClassVar[float] = 0.6
    filtered: ClassVar[str] = "Range"
    samples: ClassVar[frozenset[str]] = frozenset(("from", "within", "uniform"))
    written: ClassVar[str] = "datetime"
    names_rows: ClassVar[bool] = True
    schema_format: ClassVar[str] = "date-time"
    bounds: Bounds[dt.datetime | FromNow] = Bounds()

    @classmethod
    def read(cls, node: Type, report: Report) -> DateTime | None:
        bounds: Bounds[dt.datetime | FromNow] | None = read_bounds(node, report, _moment)
        return None if bounds is None else cls(bounds)

    def stored(self) -> Stored:
        # Bounds are local times, stored moments are UTC: the server compares them.
        return Stored("timestamp")

    def default(self, given: Bound, report: Report) -> dt.datetime | FromNow | None:
        return _moment(given, report)

    def source(self, value: object) -> str:
        if isinstance(value, FromNow):
            if not value.days:
                return f"{use.clock}.now"
            sign = "-" if value.days < 0 else "+"
            return f"lambda: {use.clock}.now() {sign} {use.dt}.timedelta(days={abs(value.days)})"
        assert isinstance(value, dt.datetime)
        return f'{use.clock}.local("{value.isoformat(timespec="minutes")}")'

    def held(self, drawn: Sequence[Any]) -> list[dt.datetime]:
        return [moment.replace(tzinfo=dt.UTC) for moment in drawn]

    def neutral(self, value: object) -> str:
        return value.isoformat() if isinstance(value, dt.datetime) else str(value)

    def control(self, field: Declared) -> Control:
        ends = {"low": self.bounds.low, "high": self.bounds.high}
        return Control(
            "Moment", {name: self.source(end) for name, end in ends.items() if end is not None}
        )

    def reach(self, field: Declared, here: Here) -> Reach:
        """Whole minutes, where the bounds leave room for some."""
        low, high = self.bounds.low, self.bounds.high
        days: Bounds[dt.date | FromNow] = Bounds(_day(low), _day(high))
        first, last = days_reached(days, field.name, here, field.unique)
        start = FromNow("now", first - here.today) if low is None else low
        # An end that moves goes on by itself; a beginning that moves is left behind a day later.
        if isinstance(low, FromNow):
            start = FromNow("now", low.days + 1)
        end = FromNow("now", last - here.today) if high is None else high
        ends = _second(start, here), _second(end, here)
        minutes = -(-ends[0] // 60) * 60, ends[1] // 60 * 60
        if minutes[0] <= minutes[1]:
            return Reach(*minutes, 60)
        return Reach(ends[0], max(ends))

    def drawn(self, units: Array, places: int) -> Array:
        return units.astype("datetime64[s]")

    def cases(self, field: Declared) -> list[Case]:
        found = [Case('"yesterday"', False, "no moment")]
        if self.bounds.low is not None:
            found += self._edge(self.bounds.low, -1, "first", "too early")
        if self.bounds.high is not None:
            found += self._edge(self.bounds.high, 1, "last", "too late")
        return found

    def _edge(self, end: dt.datetime | FromNow, step: int, inside: str, outside: str) -> list[Case]:
        if isinstance(end, FromNow):
            # Tests may run long after they are collected: what lies ahead lies well ahead.
            ahead, behind = _typed(end.days, 120), _typed(end.days, -2)
            near, far = (ahead, behind) if step < 0 else (behind, ahead)
            return [Case(near, True, inside), Case(far, False, outside)]
        beyond = end + dt.timedelta(minutes=step)
        return [
            Case(f'"{end.isoformat(timespec="minutes")}"', True, inside),
            Case(f'"{beyond.isoformat(timespec="minutes")}"', False, outside),
        ]

    def describe(self) -> str:
        return f"datetime {self.bounds}".strip()


def _typed(days: int, minutes: int) -> str:
    shift = f"days={days}, minutes={minutes}" if days else f"minutes={minutes}"
    return f"{use.clock}.typed({use.clock}.now() + {use.dt}.timedelta({shift}))"
