"""Expressions over whole columns at once, with NumPy.

A column is its values and a mask of the places that are empty. Decimals are whole numbers
of their smallest place, texts objects, dates `datetime64[D]`, moments `datetime64[us]` in
UTC, times whole microseconds of the day, durations whole seconds, relations the position of the row.
"""

from __future__ import annotations

import datetime as dt
import operator
import re
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple, Protocol
from zoneinfo import ZoneInfo

from .tree import Aggregate, Apply, Clock, Const, Hop, Node, Type, Value

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_FAR = 2.0**62
"""Beyond it a floating point number no longer tells whether 64 bits hold a whole one."""
_UPPER = str.maketrans("abcdefghijklmnopqrstuvwxyz", "ABCDEFGHIJKLMNOPQRSTUVWXYZ")
_LOWER = str.maketrans("ABCDEFGHIJKLMNOPQRSTUVWXYZ", "abcdefghijklmnopqrstuvwxyz")


class Column(NamedTuple):
    """Values, one element a row, and where they are empty."""

    values: NDArray[Any]
    empty: NDArray[np.bool_]


class Rows(Protocol):
    """Rows of a model, as an expression reads them."""

    @property
    def size(self) -> int:
        """How many there are."""

    def column(self, name: str) -> Column:
        """The values of a field, or the positions of a reference's rows."""

    def follow(self, reference: str) -> Rows:
        """The rows of a reference's model, which its column's positions count."""

    def near(self, positions: NDArray[np.int64]) -> tuple[Rows, NDArray[np.int64]]:
        """These rows, or just those at some positions, and where these stand there."""

    def children(self, hop: Hop) -> tuple[Rows, NDArray[np.int64]]:
        """The rows that a hop leads to, and for each the position of its owner here."""


class Arrays:
    """Works expressions out over rows. `now` is aware, and what `today` and `now` mean."""

    def __init__(self, now: dt.datetime, zone: str = "UTC") -> None:
        self.zone = ZoneInfo(zone)
        self.now = now

    def evaluate(self, node: Node, rows: Rows) -> Column:
        """What the expression gives for each row."""
        import numpy as np

        if isinstance(node, Const):
            return _constant(self.plain(node), node.type, rows.size)
        if isinstance(node, Clock):
            here = self.now.astimezone(self.zone)
            value = here.date() if node.word == "today" else _naive(self.now)
            return _constant(value, node.type, rows.size)
        if isinstance(node, Value):
            return self._value(node, rows)
        if isinstance(node, Aggregate):
            return self._aggregate(node, rows)
        parts = [self.evaluate(part, rows) for part in node.operands]
        if node.word in ("and", "or"):
            return _logic(node.word, *parts)
        if node.word == "empty":
            return Column(parts[0].empty, np.zeros(rows.size, dtype=bool))
        empty = parts[0].empty.copy()
        for part in parts[1:]:
            empty |= part.empty
        values, more = self._apply(node, parts, empty)
        return Column(values, empty if more is None else empty | more)

    def plain(self, node: Const) -> Any:
        """A constant as columns hold it."""
        if isinstance(node.value, dt.datetime):
            return _naive(node.value.replace(tzinfo=self.zone))
        if node.type.name == "decimal":
            return int(node.value.scaleb(node.type.places))  # type: ignore[union-attr]
        if isinstance(node.value, dt.timedelta):
            return int(node.value.total_seconds())
        if isinstance(node.value, dt.time):
            at = node.value
            return ((at.hour * 60 + at.minute) * 60 + at.second) * 10**6 + at.microsecond
        return node.value

    def _value(self, node: Value, rows: Rows) -> Column:
        import numpy as np

        positions = np.arange(rows.size)
        empty = np.zeros(rows.size, dtype=bool)
        for step in node.path:
            found = rows.column(step.reference)
            empty |= found.empty[positions]
            positions = np.where(empty, 0, found.values[positions])
            rows = rows.follow(step.reference)
            there = np.flatnonzero(~empty)
            if not rows.size or not there.size:
                return Column(
                    np.zeros(len(empty), _dtype(node.type)), np.ones(len(empty), dtype=bool)
                )
            # Only what is led to is asked for: the rows of a tree would never come to an end.
            rows, places = rows.near(positions[there])
            positions = np.zeros(len(empty), dtype=np.int64)
            positions[there] = places
        column = rows.column(node.name)
        return Column(column.values[positions], column.empty[positions] | empty)

    def _aggregate(self, node: Aggregate, rows: Rows) -> Column:
        import numpy as np

        size = rows.size
        positions, empty = np.arange(size), np.zeros(size, dtype=bool)
        for step in node.path:
            found = rows.column(step.reference)
            empty |= found.empty[positions]
            positions = np.where(empty, 0, found.values[positions])
            rows = rows.follow(step.reference)
            there = np.flatnonzero(~empty)
            if not rows.size or not there.size:
                return Column(np.zeros(size, _dtype(node.type)), np.ones(size, dtype=bool))
            rows, places = rows.near(positions[there])
            positions = np.zeros(size, dtype=np.int64)
            positions[there] = places
        base = rows.size
        owner = np.arange(base)
        for hop in node.hops:
            rows, above = rows.children(hop)
            # Who leads to none is told by -1, whose rows are no one's either.
            owner = np.where(above < 0, -1, owner[above]) if len(owner) else owner
        kept = owner >= 0 if len(owner) == rows.size else np.ones(rows.size, dtype=bool)
        if node.where is not None:
            where = self.evaluate(node.where, rows)
            kept &= where.values.astype(bool) & ~where.empty
        given = self.evaluate(node.value, rows) if node.value is not None else None
        if given is not None:
            kept &= ~given.empty
        found = _grouped(node, given, owner[kept] if rows.size else owner[:0], kept, base)
        if not base:
            return Column(np.zeros(size, dtype=found.values.dtype), np.ones(size, dtype=bool))
        return Column(found.values[positions], found.empty[positions] | empty)

    def _apply(self, node: Apply, parts: list[Column], empty: Any) -> tuple[Any, Any]:
        """Values of an operation, and where they are empty though all it works on is there."""
        import numpy as np

        word = node.word
        first = parts[0].values
        second = parts[1].values if len(parts) > 1 else first
        if word == "not":
            return ~first.astype(bool), None
        if word in ("=", "<", "<="):
            return _compared(word, first, second, empty), None
        if word in ("+", "-", "*", "/", "neg", "abs", "round", "cast", "to_exact"):
            return _arithmetic(node, first, second)
        if word == "shift":
            return first + second.astype("timedelta64[D]"), None
        if word == "days_between":
            return (first - second).astype(np.int64), None
        if word in ("year", "month", "day"):
            return _calendar(word, first), None
        if word == "local_date":
            return self._local(first), None
        if word in ("least", "greatest"):
            less = _compared("<=", first, second, empty)
            return np.where(less == (word == "least"), first, second), None
        if word == "trim":
            values = _each(lambda text: text.strip(" "), first, empty)
            return values, _each(lambda text: not text, values, empty).astype(bool)
        if word == "matches":
            assert node.pattern is not None
            pattern = re.compile(node.pattern.text)
            found = _each(lambda text: pattern.fullmatch(text) is not None, first, empty)
            return found.astype(bool), None
        return _texts(word, first, second, empty), None

    def _local(self, moments: Any) -> Any:
        import numpy as np

        if self.zone.key == "UTC":
            return moments.astype("datetime64[D]")
        known, where = np.unique(moments, return_inverse=True)
        days = [
            np.datetime64(m.replace(tzinfo=dt.UTC).astimezone(self.zone).date(), "D")
            for m in known.astype("datetime64[us]").tolist()
        ]
        return np.array(days, dtype="datetime64[D]")[where]


def _naive(moment: dt.datetime) -> dt.datetime:
    return moment.astimezone(dt.UTC).replace(tzinfo=None)


def _dtype(kind: Type) -> str:
    return {
        **{"text": "object", "boolean": "bool", "number": "float64", "other": "object"},
        **{"date": "datetime64[D]", "datetime": "datetime64[us]"},
    }.get(kind.name, "int64")


def _constant(value: Any, kind: Type, size: int) -> Column:
    import numpy as np

    values = np.empty(size, dtype=_dtype(kind))
    values[:] = value
    return Column(values, np.zeros(size, dtype=bool))


def _logic(word: str, left: Column, right: Column) -> Column:
    """`and` and `or` of SQL: what is not known stays so unless the other side settles it."""
    settles = word == "or"
    import numpy as np

    settled = np.zeros(len(left.empty), dtype=bool)
    for side in (left, right):
        settled |= (side.values.astype(bool) == settles) & ~side.empty
    unknown = (left.empty | right.empty) & ~settled
    return Column(settled if settles else ~settled, unknown)


def _compared(word: str, left: Any, right: Any, empty: Any) -> Any:
    import numpy as np

    if left.dtype == object or right.dtype == object:
        out = np.zeros(len(left), dtype=bool)
        for at in np.flatnonzero(~empty).tolist():
            a, b = left[at], right[at]
            out[at] = a == b if word == "=" else a < b if word == "<" else a <= b
        return out
    if word == "=":
        return left == right
    return left < right if word == "<" else left <= right


def _arithmetic(node: Apply, first: Any, second: Any) -> tuple[Any, Any]:
    import numpy as np

    word = node.word
    if word == "/":
        zero = second == 0
        with np.errstate(all="ignore"):
            return first / np.where(zero, 1.0, second), zero
    if word == "cast":
        return _cast(first, node.operands[0].type, node.type), None
    if word == "round":
        return _rounded(node, first), None
    if word == "to_exact":
        whole = np.floor(np.abs(first) * 10.0**node.type.places + 0.5)
        return np.copysign(whole, first).astype(np.int64), None
    with np.errstate(all="ignore"):
        if word in _OPERATIONS:
            return _saturated(_OPERATIONS[word], first, second), None
        return -first if word == "neg" else np.abs(first), None


def _cast(values: Any, have: Type, wanted: Type) -> Any:
    import numpy as np

    if wanted.name == "number":
        floats = values.astype(np.float64)
        return floats / 10.0**have.places if have.name == "decimal" else floats
    return _saturated(operator.mul, values, np.int64(10 ** (wanted.places - have.places)))


_OPERATIONS: dict[str, Callable[[Any, Any], Any]] = {
    "+": operator.add,
    "-": operator.sub,
    "*": operator.mul,
}


def _saturated(operation: Callable[[Any, Any], Any], first: Any, second: Any) -> Any:
    """The result of an operation; whole numbers beyond 64 bits stop at their end instead of wrapping."""
    import numpy as np

    found = operation(first, second)
    if getattr(found, "dtype", None) != np.int64:
        return found
    near = operation(np.asarray(first, np.float64), np.asarray(second, np.float64))
    if np.all(np.abs(near) < _FAR):
        return found
    ends = np.iinfo(np.int64)
    return np.where(near >= _FAR, ends.max, np.where(near <= -_FAR, ends.min + 1, found))


def _rounded(node: Apply, values: Any) -> Any:
    import numpy as np

    places = int(node.operands[1].value)  # type: ignore[union-attr,arg-type]
    have = node.operands[0].type
    if have.name == "number":
        scale = 10.0**places
        return np.copysign(np.floor(np.abs(values) * scale + 0.5) / scale, values)
    step = 10 ** (have.places - places)
    return np.sign(values) * ((np.abs(values) + step // 2) // step)


def _calendar(word: str, days: Any) -> Any:
    import numpy as np

    if word == "year":
        return days.astype("datetime64[Y]").astype(np.int64) + 1970
    months = days.astype("datetime64[M]")
    if word == "month":
        return months.astype(np.int64) % 12 + 1
    return (days - months.astype("datetime64[D]")).astype(np.int64) + 1


def _each(function: Any, values: Any, empty: Any) -> Any:
    import numpy as np

    out = np.empty(len(values), dtype=object)
    for at in np.flatnonzero(~empty).tolist():
        out[at] = function(values[at])
    return out


def _texts(word: str, first: Any, second: Any, empty: Any) -> Any:
    import numpy as np

    if word == "length":
        out = np.zeros(len(first), dtype=np.int64)
        for at in np.flatnonzero(~empty).tolist():
            out[at] = len(first[at])
        return out
    if word == "||":
        out = np.empty(len(first), dtype=object)
        for at in np.flatnonzero(~empty).tolist():
            out[at] = first[at] + second[at]
        return out
    table = _LOWER if word == "lower" else _UPPER
    return _each(lambda text: text.translate(table), first, empty)


def _grouped(node: Aggregate, given: Column | None, owner: Any, kept: Any, size: int) -> Column:
    """An aggregate for each of `size` owners; `owner` has one element for each row kept."""
    import numpy as np

    counts = np.bincount(owner, minlength=size) if size else np.zeros(0, dtype=np.int64)
    if given is None:
        return Column(counts, np.zeros(size, dtype=bool))
    values = given.values[kept]
    nothing = counts == 0
    if node.function in ("sum", "avg"):
        total = np.zeros(size, dtype=values.dtype if values.dtype != object else np.int64)
        np.add.at(total, owner, values)
        if node.function == "sum":
            return Column(total, nothing)
        assert node.value is not None
        floats = _cast(total, node.value.type, node.type)
        return Column(floats / np.maximum(counts, 1), nothing)
    out = np.empty(size, dtype=values.dtype)
    if values.dtype != object:
        at, best_of = _firsts(values, owner, least=node.function == "min")
        out[at] = best_of
        return Column(out, nothing)
    best: dict[int, Any] = {}
    less = node.function == "min"
    for at, value in zip(owner.tolist(), values, strict=True):
        if at not in best or (value < best[at]) == less and value != best[at]:
            best[at] = value
    for at, value in best.items():
        out[at] = value
    return Column(out, nothing)


def _firsts(values: Any, owner: Any, *, least: bool) -> tuple[Any, Any]:
    """The owners of some values, and the least or the greatest that each has."""
    import numpy as np

    order = np.lexsort((values, owner))
    owners = owner[order]
    ends = np.append(owners[1:] != owners[:-1], True)[: len(owners)]
    if least:
        ends = np.append(True, owners[1:] != owners[:-1])[: len(owners)]
    return owners[ends], values[order][ends]
