"""A comparison solved for the field in it: the last value that still keeps it, for each row."""

from __future__ import annotations

import datetime as dt
from typing import Any, Protocol
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from ..rules.arrays import Column
from ..rules.tree import Apply, Node, Value, walk
from ..schema.model import Field
from .clauses import Clause
from .columns import Mask
from .raw import Cut
from .spreads import Spread, Units

_FAR = 2**61


class With:
    """Rows with another column in the place of one of theirs."""

    def __init__(self, rows: Any, name: str, column: Column) -> None:
        self.rows, self.name, self.given = rows, name, column

    @property
    def size(self) -> int:
        return int(self.rows.size)

    def column(self, name: str) -> Column:
        return self.given if name == self.name else self.rows.column(name)

    def near(self, positions: Any) -> Any:
        return self.rows.near(positions)

    def follow(self, reference: str) -> Any:
        return self.rows.follow(reference)

    def children(self, hop: Any) -> Any:
        return self.rows.children(hop)


class Limits(Protocol):
    """What is left of a field in some rows; see `limits.Limits`."""

    @property
    def rows(self) -> Cut: ...
    @property
    def member(self) -> Field: ...
    @property
    def spread(self) -> Spread | None: ...
    @property
    def low(self) -> Units | None: ...
    @property
    def high(self) -> Units | None: ...

    def holds(self, node: Node, units: Units) -> Mask:
        """Where a rule holds for some values of the field."""


def bound_of(limits: Limits, clause: Clause) -> tuple[Units, Mask]:
    """The end that a clause puts to a field, in its units, and where it puts one at all."""
    rows, name = limits.rows, limits.member.name
    smaller, larger = clause.node.operands
    inside = _holds(smaller, name)
    side, other = (smaller, larger) if inside else (larger, smaller)
    given = rows.arrays.evaluate(other, rows)
    if given.empty.all():
        return np.zeros(rows.size, dtype=np.int64), ~given.empty
    strict = clause.node.word == "<"
    try:
        units = _solved(limits, side, given.values, upper=inside, strict=strict)
    except _Unsolved:
        units = searched(limits, clause)
    return np.clip(units, -_FAR, _FAR), ~given.empty


class _Unsolved(Exception):
    """An expression that has no plain inverse: values are searched for instead."""


def _holds(node: Node, name: str) -> bool:
    return any(isinstance(p, Value) and not p.path and p.name == name for p in walk(node))


def _solved(limits: Limits, node: Node, ends: NDArray[Any], *, upper: bool, strict: bool) -> Units:
    """The last value of the field for which `node` is not past `ends`."""
    if isinstance(node, Value):
        return _last(limits, ends, upper=upper, strict=strict)
    assert isinstance(node, Apply)
    name, word, parts = limits.member.name, node.word, node.operands
    number = node.type.name == "number"
    if word == "cast" and not number and parts[0].type.exact:
        scale = 10 ** (node.type.places - parts[0].type.places)
        ends = ends + (0 if not strict else (-1 if upper else 1))
        found = ends // scale if upper else -(-ends // scale)
        return _solved(limits, parts[0], found, upper=upper, strict=False)
    if word == "local_date":
        # Up to a day is up to the last moment of it.
        after = upper != strict
        starts = _starts(limits, ends + np.timedelta64(int(after), "D"))
        return _solved(limits, parts[0], starts, upper=upper, strict=upper)
    if number:
        raise _Unsolved
    if word == "neg":
        return _solved(limits, parts[0], -ends, upper=not upper, strict=strict)
    if word in ("+", "-", "shift"):
        first = _holds(parts[0], name)
        rest = limits.rows.arrays.evaluate(parts[1] if first else parts[0], limits.rows)
        values = rest.values.astype("timedelta64[D]") if word == "shift" else rest.values
        if word == "-" and not first:
            return _solved(limits, parts[1], values - ends, upper=not upper, strict=strict)
        moved = ends + values if word == "-" else ends - values
        return _solved(limits, parts[0] if first else parts[1], moved, upper=upper, strict=strict)
    raise _Unsolved


def _last(limits: Limits, ends: NDArray[Any], *, upper: bool, strict: bool) -> Units:
    """The last value of the field's own units up to some ends, as rules have them."""
    type_ = limits.member.kind.value_type().name
    assert limits.spread is not None
    if type_ == "number":
        scale = 10.0**limits.spread.reach.places
        scaled = np.clip(ends.astype(np.float64) * scale, -_FAR, _FAR)
        whole = np.floor(scaled + 1e-6) if upper else np.ceil(scaled - 1e-6)
        past = whole / scale >= ends if upper else whole / scale <= ends
        over = whole / scale > ends if upper else whole / scale < ends
        whole -= (past if strict else over) * (1 if upper else -1)
        numbers: Units = whole.astype(np.int64)
        return numbers
    units: Units = ends.astype(np.int64)
    if type_ not in ("datetime", "time"):
        return units + (0 if not strict else (-1 if upper else 1))
    if type_ == "datetime":
        units = ends.astype("datetime64[us]").astype(np.int64)
    units = units + (0 if not strict else (-1 if upper else 1))
    found: Units = units // 10**6 if upper else -(-units // 10**6)
    return found


def _starts(limits: Limits, days: NDArray[Any]) -> NDArray[Any]:
    """The first moments of days, in UTC."""
    zone = limits.rows.arrays.zone
    if zone.key == "UTC":
        return days.astype("datetime64[us]")
    known, where = np.unique(days.astype("datetime64[D]"), return_inverse=True)
    return np.array([_start(day, zone) for day in known.tolist()], dtype="datetime64[us]")[where]


def _start(day: dt.date, zone: ZoneInfo) -> dt.datetime:
    moment = dt.datetime.combine(day, dt.time(), zone)
    return moment.astimezone(dt.UTC).replace(tzinfo=None)


def searched(limits: Limits, clause: Clause) -> Units:
    """The last value that a rule which only turns once still holds for, by halving."""
    assert limits.low is not None and limits.high is not None
    # Twice the ends must be a number of 64 bits too.
    low, high = np.clip(limits.low, -_FAR, _FAR), np.clip(limits.high, -_FAR, _FAR)
    beyond = low - 1 if clause.upper else high + 1
    good, bad = (beyond, high + 1) if clause.upper else (beyond, low - 1)
    while (np.abs(bad - good) > 1).any():
        middle = (good + bad) // 2
        held = limits.holds(
            clause.node, np.clip(middle, limits.low, np.maximum(limits.high, limits.low))
        )
        far = np.abs(bad - good) > 1
        good = np.where(far & held, middle, good)
        bad = np.where(far & ~held, middle, bad)
    return good
