"""How the values of a field with an order are spread, and values drawn between any two ends.

Each distribution is drawn through its inverse, cut to the ends that hold for a row (Devroye,
"Non-Uniform Random Variate Generation", 1986, II.2): nothing piles up at an end. Values are whole
numbers of what columns hold, see `kinds.base.Reach`.
"""

from __future__ import annotations

import datetime as dt
import math
from functools import cached_property, lru_cache
from typing import Any, Protocol
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from ..kinds.base import Reach
from ..schema.model import Field, Model, Term
from .columns import Here
from .meaning import BORN, ages_of, is_price, is_work
from .streams import RowStream

Units = NDArray[np.int64]
Fractions = NDArray[np.float64]
_FAR = 2**61
_DAY = 86_400
_MOST_DAYS = 400_000


class Spread(Protocol):
    """Values of a field; `reach` is between what they lie where nothing else holds."""

    reach: Reach

    def draw(self, stream: RowStream, low: Units, high: Units) -> Units:
        """A value for each row between two ends, both included; the low ones are not above."""

    def at(self, fractions: Fractions, low: Units, high: Units) -> Units:
        """The value that some part of all between two ends lies below."""


class Even:
    """All values alike."""

    def __init__(self, reach: Reach) -> None:
        self.reach = reach

    def draw(self, stream: RowStream, low: Units, high: Units) -> Units:
        return self.at(stream.fractions(), low, high)

    def at(self, fractions: Fractions, low: Units, high: Units) -> Units:
        low, high = np.maximum(low, -_FAR), np.minimum(high, _FAR)
        step = self.reach.step
        first = -(-low // step)
        count = high // step - first + 1
        fine = count < 1
        first, count = np.where(fine, low, first), np.where(fine, high - low + 1, count)
        at = np.minimum((fractions * count).astype(np.int64), count - 1)
        found: Units = np.where(fine, first + at, (first + at) * step)
        return found


class Priced(Even):
    """Prices: mostly just below a round one."""

    _ENDS = np.array([99, 99, 99, 95, 50, 50, 0, 0])

    def draw(self, stream: RowStream, low: Units, high: Units) -> Units:
        drawn = super().draw(stream, low, high)
        ends = self._ENDS[(stream.fractions("ending") * len(self._ENDS)).astype(np.int64)]
        ended = drawn // 100 * 100 + ends
        found: Units = np.where((ended >= low) & (ended <= high), ended, drawn)
        return found


class Bell:
    """Normal values, or lognormal ones: their logarithms are normal."""

    def __init__(self, reach: Reach, middle: float, spread: float, *, logs: bool = False) -> None:
        self.reach, self.logs = reach, logs
        self.middle = math.log(middle) if logs else middle
        self.spread = math.log(spread) if logs else spread

    def draw(self, stream: RowStream, low: Units, high: Units) -> Units:
        return self.at(stream.fractions(), low, high)

    def at(self, fractions: Fractions, low: Units, high: Units) -> Units:
        from scipy.special import ndtr, ndtri

        half = self.reach.step / 2
        below, above = self._standard(low - half), self._standard(high + half)
        # Far out on the right only the left is exact: it is looked at in a mirror.
        turned = below > 0
        left = ndtr(np.where(turned, -above, below))
        width = ndtr(np.where(turned, -below, above)) - left
        part = np.where(turned, 1 - fractions, fractions)
        with np.errstate(all="ignore"):
            found = ndtri(left + part * width)
            found = self.middle + self.spread * np.where(turned, -found, found)
            values = np.exp(found) if self.logs else found
        lost = ~np.isfinite(values) | (width < 1e-280)
        even = low + fractions * np.minimum(high - low, np.maximum(1, self.spread))
        values = np.where(lost, even, np.clip(values, low, high))
        step = self.reach.step
        whole: Units = (np.rint(values / step) * step).astype(np.int64)
        return np.clip(whole, low, high)

    def _standard(self, ends: NDArray[Any]) -> Fractions:
        values: Fractions = ends.astype(np.float64)
        if self.logs:
            with np.errstate(all="ignore"):
                values = np.where(values > 0, np.log(np.maximum(values, 1e-300)), -np.inf)
        found: Fractions = (values - self.middle) / self.spread
        return found


class Listed:
    """One of some values, all alike."""

    def __init__(self, reach: Reach, values: list[int]) -> None:
        self.values = np.array(sorted(set(values)), dtype=np.int64)
        self.reach = reach._replace(low=int(self.values[0]), high=int(self.values[-1]), step=1)

    def draw(self, stream: RowStream, low: Units, high: Units) -> Units:
        return self.at(stream.fractions(), low, high)

    def at(self, fractions: Fractions, low: Units, high: Units) -> Units:
        first = np.searchsorted(self.values, low)
        count = np.searchsorted(self.values, high, side="right") - first
        at = first + np.minimum((fractions * count).astype(np.int64), count - 1)
        found: Units = np.where(
            count > 0, self.values[np.clip(at, 0, len(self.values) - 1)], np.clip(low, low, high)
        )
        return found


class Calendar:
    """Days: more of them lately, in summer and from Monday to Friday."""

    def __init__(self, reach: Reach) -> None:
        self.reach = reach

    @cached_property
    def _sums(self) -> Fractions:
        return _busy(self.reach.low, self.reach.high)

    def draw(self, stream: RowStream, low: Units, high: Units) -> Units:
        return self.at(stream.fractions(), low, high)

    def at(self, fractions: Fractions, low: Units, high: Units) -> Units:
        first = self.reach.low
        low = np.clip(low, first, self.reach.high)
        high = np.clip(high, low, self.reach.high)
        before, after = self._sums[low - first], self._sums[high - first + 1]
        at = np.searchsorted(self._sums, before + fractions * (after - before), side="right") - 1
        found: Units = np.clip(at + first, low, high)
        return found


class Moments:
    """Days of a calendar, and a time of the day that does not follow from them."""

    def __init__(self, reach: Reach, zone: str, hours: tuple[int, int], *, flat: bool) -> None:
        self.reach, self.hours = reach, (hours[0] * 3600, hours[1] * 3600)
        self.first = reach.low // _DAY - 1
        days = Reach(self.first, reach.high // _DAY + 1)
        self.days: Spread = Even(days) if flat else Calendar(days)
        self.offsets = _offsets(days.low, days.high, zone)

    def draw(self, stream: RowStream, low: Units, high: Units) -> Units:
        return self._drawn(stream.fractions(), stream.fractions("time of day"), low, high)

    def at(self, fractions: Fractions, low: Units, high: Units) -> Units:
        return self._drawn(fractions, fractions, low, high)

    def _drawn(self, days: Fractions, times: Fractions, low: Units, high: Units) -> Units:
        low, high = np.maximum(low, self.reach.low), np.minimum(high, self.reach.high)
        start, end = self._local(low), self._local(high)
        day = self.days.at(days, *self._whole(start, np.maximum(end, start)))
        least = np.where(day == start // _DAY, start % _DAY, 0)
        most = np.where(day == end // _DAY, end % _DAY, _DAY - 1)
        first, last = np.maximum(least, self.hours[0]), np.minimum(most, self.hours[1])
        none = first > last
        first, last = np.where(none, least, first), np.where(none, most, last)
        # Most in the middle of the day.
        part = 0.5 + np.arcsin(2 * times - 1) / math.pi
        second = first + part * (last - first)
        whole = -(-second // self.reach.step) * self.reach.step
        second = np.where(whole <= last, whole, np.floor(second)).astype(np.int64)
        found = day * _DAY + second - self._offset(day)
        clipped: Units = np.clip(found, low, np.maximum(low, high))
        return clipped

    def _whole(self, start: Units, end: Units) -> tuple[Units, Units]:
        """The first and the last day between two moments that have a part of the hours."""
        first = start // _DAY + (start % _DAY > self.hours[1])
        last = end // _DAY - (end % _DAY < self.hours[0])
        none = first > last
        return np.where(none, start // _DAY, first), np.where(none, end // _DAY, last)

    def _offset(self, days: Units) -> Units:
        if self.offsets is None:
            return np.zeros(len(days), dtype=np.int64)
        return self.offsets[np.clip(days - self.first, 0, len(self.offsets) - 1)]

    def _local(self, moments: Units) -> Units:
        return moments + self._offset(moments // _DAY)


@lru_cache(maxsize=32)
def _busy(low: int, high: int) -> Fractions:
    """How much has happened before each day from `low` to the one after `high`."""
    days = np.arange(low, high + 1)
    growth = 1 + 0.5 * np.arange(len(days)) / max(1, len(days))
    # 1970-01-01 was a Thursday; day 172 of a year is midsummer.
    weekend = np.where((days + 3) % 7 >= 5, 0.35, 1.0)
    season = 1 + 0.4 * np.cos(2 * math.pi * (days - 172) / 365.2425)
    return np.concatenate([[0.0], np.cumsum(growth * weekend * season)])


@lru_cache(maxsize=32)
def _offsets(low: int, high: int, zone: str) -> Units | None:
    """How many seconds clocks are ahead of UTC, by day; None where they never are."""
    if zone == "UTC":
        return None
    here, found = ZoneInfo(zone), []
    for day in range(low, high + 1):
        noon = dt.datetime(1970, 1, 1, 12) + dt.timedelta(days=day)
        ahead = noon.replace(tzinfo=here).utcoffset()
        found.append(int(ahead.total_seconds()) if ahead else 0)
    return np.array(found, dtype=np.int64)


def spread_of(model: Model, field: Field, here: Here, since: int | None = None) -> Spread | None:
    """How a field's values are spread, as `sample` says, or its type and name; None without an order.

    `since` is the first day of what days and moments come after, where they have no first one.
    """
    reach = field.kind.reach(field, here)
    if reach is None or field.unique:
        return None if reach is None else Even(reach)
    if since is not None:
        first = since if field.kind.value_type().name == "date" else since * _DAY
        reach = reach._replace(low=min(reach.low, first))
    for term in field.sample:
        if term.word in ("normal", "lognormal"):
            return _bell(field, term, reach)
        if term.word == "within":
            return _within(field, term, reach, here)
        if term.word == "from":
            return Listed(reach, [units_of(field, value, here, reach) for value in term.arguments])
    even = any(term.word == "uniform" for term in field.sample)
    type_ = field.kind.value_type().name
    if type_ == "datetime" and (reach.high - reach.low) // _DAY < _MOST_DAYS:
        hours = (8, 18) if is_work(field.name) else (7, 20)
        return Moments(reach, here.timezone, hours, flat=even)
    if even or type_ not in ("date", "decimal"):
        return Even(reach)
    if type_ == "decimal":
        priced = field.kind.value_type().places == 2 and is_price(field.name)
        return Priced(reach) if priced else Even(reach)
    if set(field.name.split("_")) & BORN:
        return Even(_aged(model, reach, here))
    return Calendar(reach) if reach.high - reach.low < _MOST_DAYS else Even(reach)


def _aged(model: Model, reach: Reach, here: Here) -> Reach:
    """The days on which those were born that are of a believable age today."""
    youngest, oldest = ages_of(model)
    low = max(reach.low, here.today - round(oldest * 365.25))
    high = min(reach.high, here.today - round(youngest * 365.25))
    return reach._replace(low=low, high=high) if low <= high else reach


def _bell(field: Field, term: Term, reach: Reach) -> Spread:
    middle, spread = (float(a) for a in term.arguments)  # type: ignore[arg-type]
    logs = term.word == "lognormal"
    type_ = field.kind.value_type()
    places = type_.places
    if type_.name == "number":
        width = middle * (spread - 1) if logs else spread
        least = max(1, 2 - math.floor(math.log10(max(width, 1e-12))))
        places = min(15, max(least, reach.places if reach.places == 5 else 0))
        low, high = (end * 10.0 ** (places - reach.places) for end in (reach.low, reach.high))
        bounds = getattr(field.kind, "bounds", None)
        if bounds is not None:
            low = low if bounds.low is None else math.ceil(bounds.low * 10.0**places)
            high = high if bounds.high is None else math.floor(bounds.high * 10.0**places)
        reach = Reach(math.ceil(low), math.floor(high), 1, places)
    scale = 10.0**places
    reach = _opened(field, reach, middle * scale, spread, scale, logs=logs)
    reach = reach._replace(
        step=field.kind.grain if reach.high - reach.low > 4 * field.kind.grain else 1
    )
    return Bell(reach, middle * scale, spread if logs else spread * scale, logs=logs)


def _opened(
    field: Field, reach: Reach, middle: float, spread: float, scale: float, *, logs: bool
) -> Reach:
    """Ends that are not declared lie where hardly a value does."""
    bounds = getattr(field.kind, "bounds", None)
    most = 2**31 - 1 if field.kind.stored().type in ("integer", "seconds") else 10**15
    low, high = reach.low, reach.high
    factor = min(spread**7, 1e9) if logs else 0
    if bounds is None or bounds.low is None:
        low = math.floor(middle / factor) if logs else math.floor(middle - 8 * spread * scale)
    if bounds is None or bounds.high is None:
        high = math.ceil(middle * factor) if logs else math.ceil(middle + 8 * spread * scale)
    low, high = max(low, -most), min(high, most)
    return reach._replace(low=min(low, high), high=max(low, high))


def _within(field: Field, term: Term, reach: Reach, here: Here) -> Spread:
    """Days back from today, evenly, within the field's own bounds."""
    days = term.arguments[0]
    assert isinstance(days, dt.timedelta)
    first, last = here.today - days.days, here.today
    bounds = getattr(field.kind, "bounds", None)
    moments = field.kind.value_type().name == "datetime"
    if moments:
        first, last = first * _DAY, last * _DAY
    low = first if bounds is None or bounds.low is None else max(first, reach.low)
    high = last if bounds is None or bounds.high is None else min(last, reach.high)
    reach = reach._replace(low=min(low, high), high=high)
    return Moments(reach, here.timezone, (7, 20), flat=True) if moments else Even(reach)


def units_of(field: Field, value: Any, here: Here, reach: Reach) -> int:
    """A declared value in the units of a reach."""
    from .fixed import encoded

    held = encoded(field, value, here)
    if isinstance(held, np.datetime64):
        return int(held.astype(np.int64))
    return round(held * 10**reach.places) if reach.places else int(held)
