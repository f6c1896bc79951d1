"""Times of the day."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from ..rules.brought import use
from .base import Case, Control, Declared, Here, Kind, Reach, Stored, wants
from .bounds import Bounds, parse_clock, read_bounds

_DAY = 24 * 60


def _time(given: Bound, report: Report) -> dt.time | None:
    literal = wants(given, ("time",), "time", report)
    if literal is None:
        return None
    try:
        return parse_clock(literal.text)
    except ValueError:
        report.add(
            "no-such-date", f"{literal.text} is no time of the day", literal.span, "hours end at 23"
        )
        return None


def _minutes(end: dt.time) -> int:
    return end.hour * 60 + end.minute


def _shown(end: dt.time) -> str:
    return end.isoformat("seconds" if end.second else "minutes")


@dataclass(frozen=True, eq=False)
class Time(Kind):
    word: ClassVar[str] = "time"
    annotation: ClassVar[str] = f"{use.dt}.time"
    filtered: ClassVar[str] = "Range"
    written: ClassVar[str] = "time"
    schema_format: ClassVar[str] = "time"
    bounds: Bounds[dt.time] = Bounds()

    @classmethod
    def read(cls, node: Type, report: Report) -> Time | None:
        bounds: Bounds[dt.time] | None = read_bounds(node, report, _time)
        return None if bounds is None else cls(bounds)

    def stored(self) -> Stored:
        return Stored("time", range=str(self.bounds))

    def default(self, given: Bound, report: Report) -> dt.time | None:
        return _time(given, report)

    def held(self, drawn: Sequence[Any]) -> list[dt.time]:
        return [dt.time(at // 3600, at // 60 % 60, at % 60) for at in drawn]

    def neutral(self, value: object) -> str:
        return value.isoformat() if isinstance(value, dt.time) else str(value)

    def source(self, value: object) -> str:
        assert isinstance(value, dt.time)
        seconds = f", {value.second}" if value.second else ""
        return f"{use.dt}.time({value.hour}, {value.minute}{seconds})"

    def control(self, field: Declared) -> Control:
        ends = {"low": self.bounds.low, "high": self.bounds.high}
        return Control(
            "Time", {name: self.source(end) for name, end in ends.items() if end is not None}
        )

    def size(self) -> int | None:
        return None

    def reach(self, field: Declared, here: Here) -> Reach:
        """Whole minutes, by day where no bounds are said."""
        low = 7 * 60 if self.bounds.low is None else _minutes(self.bounds.low)
        high = 20 * 60 if self.bounds.high is None else _minutes(self.bounds.high)
        if field.unique:
            first = 0 if self.bounds.low is None else self._seconds(self.bounds.low)
            last = _DAY * 60 - 1 if self.bounds.high is None else self._seconds(self.bounds.high)
            return Reach(first, last)
        if self.bounds.low is not None and self.bounds.low.second:
            low += 1
        if high < low:
            # Both ends are in one minute, or the usual day lies outside of them.
            first = 0 if self.bounds.low is None else self._seconds(self.bounds.low)
            last = _DAY * 60 - 1 if self.bounds.high is None else self._seconds(self.bounds.high)
            return Reach(first, last)
        return Reach(low * 60, high * 60, 60)

    @staticmethod
    def _seconds(end: dt.time) -> int:
        return _minutes(end) * 60 + end.second

    def cases(self, field: Declared) -> list[Case]:
        found = [Case('"24:30"', False, "no time of the day")]
        for end, step, inside, outside in (
            (self.bounds.low, -1, "first", "too early"),
            (self.bounds.high, 1, "last", "too late"),
        ):
            if end is None:
                continue
            found.append(Case(f'"{_shown(end)}"', True, inside))
            beyond = self._seconds(end) + step
            if 0 <= beyond < _DAY * 60:
                hours, rest = divmod(beyond, 3600)
                time = dt.time(hours, rest // 60, rest % 60)
                found.append(Case(f'"{_shown(time)}"', False, outside))
        return found

    def describe(self) -> str:
        low, high = self.bounds
        if low is None and high is None:
            return "time"
        return f"time {'' if low is None else _shown(low)}..{'' if high is None else _shown(high)}"
