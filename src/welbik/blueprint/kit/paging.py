"""Pages of a list, each found by the values of the row before it (keyset paging).

So the thousandth page costs what the first does, and a row that comes or goes moves no
other to another page.
"""

from __future__ import annotations

import base64
import datetime as dt
import json
from collections.abc import Callable, Sequence
from decimal import Decimal
from functools import partial
from operator import eq
from typing import Any, NamedTuple

import sqlalchemy as sa

from .show import measured


class Key(NamedTuple):
    """A column that a list is sorted by: downwards or not, and whether it may be empty.

    One with `choices` goes by their order, and not by their letters. `absent` says that it
    is empty where an index tells it better than the column itself.
    """

    column: Any
    down: bool
    nullable: bool
    choices: tuple[str, ...] = ()
    absent: Any = None

    @property
    def ordered(self) -> Any:
        return self.column.desc() if self.down else self.column.asc()


class Segment(NamedTuple):
    """A stretch of a list: the rows of it, and how many of its first columns are one value there.

    `holds` says whether a value of the first column belongs to it.
    """

    where: Any
    alone: int
    holds: Callable[[Any], bool]


def expanded(key: Key) -> list[Key]:
    """A key as those that a database sorts by alike everywhere: what is empty comes last."""
    if key.choices:
        choices = key.choices[::-1] if key.down else key.choices
        ranks = {choice: rank for rank, choice in enumerate(choices)}
        known = sa.case(*_typed(key.column, ranks), value=key.column, else_=len(ranks))
        rank = sa.case((key.column.is_(None), len(ranks) + 1), else_=known)
        plain = key._replace(choices=())
        return [Key(rank, False, False), plain]
    if key.nullable:
        return [Key(sa.case((key.column.is_(None), 1), else_=0), False, False), key]
    return [key]


def _typed(column: Any, ranks: dict[str, int]) -> list[tuple[Any, int]]:
    """What a column may hold, each as a value of its own type, with its rank."""
    return [(sa.literal(value, column.type), rank) for value, rank in ranks.items()]


Stretch = tuple[int, Segment, list[Any]]
"""The number of a segment, what it is, and the values of the row that it begins behind."""


def segments(key: Key) -> list[Segment]:
    """The stretches of a list that is sorted by a key first, each in the order of an index."""
    column = key.column
    found = []
    if key.choices:
        choices = key.choices[::-1] if key.down else key.choices
        found = [Segment(column == one, 1, partial(eq, one)) for one in choices]
        # What is none of the choices any more is not lost.
        others = sa.and_(column.is_not(None), *(column != one for one in choices))
        known = set(choices)
        found.append(Segment(others, 0, lambda v: v is not None and v not in known))
    elif key.nullable:
        found = [Segment(column.is_not(None), 0, lambda value: value is not None)]
    if key.nullable:
        absent = column.is_(None) if key.absent is None else key.absent
        found.append(Segment(absent, 1, lambda value: value is None))
    return found or [Segment(None, 0, lambda value: True)]


def stretches(
    keys: Sequence[Key], back: bool, start: list[Any] | None
) -> list[Stretch]:
    """The stretches of a list from a row's values on, or back: each with what it begins behind."""
    all_of_it = list(enumerate(segments(keys[0])))
    if back:
        all_of_it.reverse()
    values = start or []
    found = []
    for number, segment in all_of_it:
        if not values or segment.holds(values[0]):
            found.append((number, segment, values))
            values = []
    return found


def behind(order: Sequence[Key], given: Sequence[bool], first: int = 0) -> Any:
    """The condition that rows come behind one with certain values of the sorted columns.

    The values are parameters named by `parameter`, counted from `first`; `given` says which of
    them are not empty. Built from the last column to the first: behind by a column, or equal
    there and behind by the next. Before a column that may be empty comes one that says so.
    """
    found: Any = None
    for number, (key, there) in reversed(
        list(enumerate(zip(order, given, strict=True)))
    ):
        column = key.column
        if not there:
            same = column.is_(None)
            found = sa.false() if found is None else sa.and_(same, found)
            continue
        bound: Any = sa.bindparam(parameter(first + number), type_=column.type)
        beyond = column < bound if key.down else column > bound
        if found is None:
            found = beyond
            continue
        # Said so that an index can be entered at the value.
        reached = column <= bound if key.down else column >= bound
        found = sa.and_(reached, sa.or_(beyond, sa.and_(column == bound, found)))
    return found


def parameter(number: int) -> str:
    """What the value of a sorted column is called in a statement."""
    return f"edge_{number}"


def is_nullable(column: Any) -> bool:
    (held, *_) = getattr(getattr(column, "property", None), "columns", [column])
    # What stands for nothing in a column that is never empty is nothing, too.
    return getattr(held, "nullable", True) or hasattr(held.type, "stands")


def fits(column: Any, number: Any) -> bool:
    """Whether a whole-number column could hold a number; any other holds all that is measured."""
    (held, *_) = getattr(getattr(column, "property", None), "columns", [column])
    kind = getattr(held.type, "impl_instance", held.type)
    most = (
        2**31
        if isinstance(kind, sa.Integer) and not isinstance(kind, sa.BigInteger)
        else 2**63
    )
    return bool(-most <= number < most)


def token(place: int, values: Sequence[Any]) -> str:
    """A place in a list as one word of an address: its number, and the row's sorted values."""
    text = json.dumps([place, *map(_plain, values)], separators=(",", ":"))
    return base64.urlsafe_b64encode(text.encode()).decode().rstrip("=")


def place(text: str, keys: Sequence[Any]) -> tuple[int, list[Any]] | None:
    """What a word of an address says; None where it is none of ours."""
    try:
        found = json.loads(base64.urlsafe_b64decode(text + "=" * (-len(text) % 4)))
        number, *values = found
        if len(values) != len(keys) or not 0 < int(number) < 2**62:
            return None
        return int(number), [_value(v, k) for v, k in zip(values, keys, strict=True)]
    except (ValueError, TypeError, ArithmeticError, AttributeError, RecursionError):
        return None


def _plain(value: Any) -> Any:
    if isinstance(value, dt.date | dt.time):
        return value.isoformat()
    if isinstance(value, dt.timedelta):
        return int(value.total_seconds())
    return (
        value if value is None or isinstance(value, int | float | str) else str(value)
    )


def _value(value: Any, column: Any) -> Any:
    """A value as the column's own type; ValueError or TypeError where it is none."""
    if value is None:
        return None
    kind = column.type.python_type
    if issubclass(kind, dt.datetime):
        found = dt.datetime.fromisoformat(value)
        # Beyond these a time zone leads out of the calendar.
        if not dt.MINYEAR < found.year < dt.MAXYEAR:
            raise ValueError(value)
        return found.replace(tzinfo=found.tzinfo or dt.UTC)
    if issubclass(kind, dt.date | dt.time):
        read: Any = kind.fromisoformat(value)
        if getattr(read, "tzinfo", None) is not None:
            raise ValueError(value)
        return read
    if kind is Decimal:
        return measured(str(value))
    if kind in (int, dt.timedelta) and not fits(column, value):
        raise ValueError(value)
    if kind is dt.timedelta:
        return dt.timedelta(seconds=value)
    if kind is str and not all(c.isprintable() or c in "\n\t" for c in value):
        raise ValueError(value)
    return kind(value)
