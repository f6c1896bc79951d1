"""Lengths of time: kept as whole seconds, typed and shown as hours and minutes."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Clock, Literal, Type
from ..rules.brought import use
from ..rules.python import length_source
from ..rules.text import as_hours
from .base import Case, Control, Declared, Here, Kind, Reach, Stored
from .bounds import Bounds, read_bounds

_CLOCK = re.compile(r"(\d{1,6}):([0-5]\d)(?::([0-5]\d))?")
_LONGEST = dt.timedelta(seconds=2**31 - 1)


def _length(given: Bound, report: Report, unit: str = "") -> dt.timedelta | None:
    """What `8 hours` or `1:30` stands for; a bare number counts `unit`, and 0 needs none."""
    text = "" if isinstance(given, Clock) else given.text
    if isinstance(given, Literal) and given.kind == "number" and (unit or not float(text)):
        text = f"{text} {unit or 'seconds'}"
    found = parsed(text)
    if found is not None and abs(found) <= _LONGEST:
        return found
    report.add(
        "wrong-value",
        f"{given.span.text} is no length of time",
        given.span,
        "write it as 8 hours, 90 minutes, 30 seconds or 1:30",
    )
    return None


def parsed(text: str) -> dt.timedelta | None:
    """The length that `1.5 hours` or `1:30:00` says; None where it is none of whole seconds."""
    clock = _CLOCK.fullmatch(text)
    if clock:
        hours, minutes, seconds = (int(part or 0) for part in clock.groups())
        return dt.timedelta(hours=hours, minutes=minutes, seconds=seconds)
    number, _, unit = text.partition(" ")
    try:
        found = dt.timedelta(**{f"{unit.removesuffix('s')}s": float(number)})
    except (TypeError, ValueError, OverflowError):
        return None
    return found if not found.microseconds else None


@dataclass(frozen=True, eq=False)
class Duration(Kind):
    word: ClassVar[str] = "duration"
    annotation: ClassVar[str] = f"{use.dt}.timedelta"
    numeric: ClassVar[bool] = True
    filtered: ClassVar[str] = "Range"
    samples: ClassVar[frozenset[str]] = frozenset(("from", "normal", "lognormal", "uniform"))
    # People tell time in minutes.
    grain: ClassVar[int] = 60
    written: ClassVar[str] = "time"
    # Without a first end nothing takes less than no time.
    bounds: Bounds[dt.timedelta] = Bounds(dt.timedelta())

    @classmethod
    def read(cls, node: Type, report: Report) -> Duration | None:
        if node.range is not None and node.range.single:
            text = node.range.span.text
            report.add(
                "unexpected-range",
                "a duration is bound by a range",
                node.range.span,
                f"write 0..{text} or {text}..",
                fix=f"0..{text}",
            )
            return None
        high = node.range.high if node.range else None
        # `1..8 hours` counts hours at both of its ends.
        unit = high.text.partition(" ")[2] if isinstance(high, Literal) else ""

        def end(given: Bound, report: Report) -> dt.timedelta | None:
            return _length(given, report, unit)

        bounds = read_bounds(node, report, end)
        if bounds is None:
            return None
        moves_below = bounds.high is not None and bounds.high < dt.timedelta()
        low = bounds.low if bounds.low is not None or moves_below else dt.timedelta()
        return cls(Bounds(low, bounds.high))

    def stored(self) -> Stored:
        low, high = ("" if end is None else str(_seconds(end)) for end in self.bounds)
        return Stored("seconds", range=f"{low}..{high}")

    def default(self, given: Bound, report: Report) -> dt.timedelta | None:
        return _length(given, report)

    def held(self, drawn: Sequence[Any]) -> list[dt.timedelta]:
        return [dt.timedelta(seconds=seconds) for seconds in drawn]

    def in_json(self, value: Any) -> Any:
        return None if value is None else as_hours(value)

    def read_json(self, value: object) -> dt.timedelta | None:
        return parsed(value) if isinstance(value, str) else None

    def neutral(self, value: object) -> str:
        assert isinstance(value, dt.timedelta)
        return str(_seconds(value))

    def source(self, value: object) -> str:
        assert isinstance(value, dt.timedelta)
        return length_source(value)

    def control(self, field: Declared) -> Control:
        ends = {"low": self.bounds.low, "high": self.bounds.high}
        return Control(
            "Duration", {name: length_source(end) for name, end in ends.items() if end is not None}
        )

    def _ends(self) -> tuple[int, int]:
        """The bounds in seconds, a working day where an end is open."""
        low = None if self.bounds.low is None else _seconds(self.bounds.low)
        high = None if self.bounds.high is None else _seconds(self.bounds.high)
        if low is None:
            low = (high or 0) - 8 * 3600
        return low, low + 8 * 3600 if high is None else high

    def size(self) -> int | None:
        if self.bounds.low is None or self.bounds.high is None:
            return None
        low, high = self._ends()
        return high - low + 1

    def reach(self, field: Declared, here: Here) -> Reach:
        """By five minutes or by one where the bounds leave room for some."""
        low, high = self._ends()
        if field.unique:
            high = high if self.bounds.high is not None else low + 10**9
            return Reach(low, high)
        for step in (300, 60):
            first, last = -(-low // step), high // step
            if last - first >= 4:
                return Reach(first * step, last * step, step)
        return Reach(low, high)

    def cases(self, field: Declared) -> list[Case]:
        found = [Case('"soon"', False, "no length of time"), Case('"1:75"', False, "75 minutes")]
        for end, step, inside, outside in (
            (self.bounds.low, -1, "shortest", "too short"),
            (self.bounds.high, 1, "longest", "too long"),
        ):
            if end is not None:
                beyond = as_hours(end + dt.timedelta(seconds=step))
                found.append(Case(f'"{as_hours(end)}"', True, inside))
                found.append(Case(f'"{beyond}"', False, outside))
        return found

    def tell(self, value: object) -> str:
        assert isinstance(value, dt.timedelta)
        return as_hours(value)

    def describe(self) -> str:
        low, high = ("" if end is None else as_hours(end) for end in self.bounds)
        return f"duration {low}..{high}" if high or low != "0:00" else "duration"


def _seconds(value: dt.timedelta) -> int:
    return int(value.total_seconds())
