"""Pages of a list, each found by the values of the row before it (keyset paging).

So the thousandth page costs what the first does, and a row that comes or goes moves no
other to another page.
"""

from __future__ import annotations

import base64
import datetime as dt
import json
from collections.abc import Sequence
from decimal import Decimal
from typing import Any, NamedTuple

import sqlalchemy as sa

from .database import nulls_are_low
from .show import measured


class Key(NamedTuple):
    """A column that a list is sorted by: downwards or not, and whether it may be empty."""

    column: Any
    down: bool
    nullable: bool

    @property
    def ordered(self) -> Any:
        return self.column.desc() if self.down else self.column.asc()


def behind(order: Sequence[Key], given: Sequence[bool]) -> Any:
    """The condition that rows come behind one with certain values of the sorted columns.

    The values are parameters named by `parameter`; `given` says which of them are not empty.
    Built from the last column to the first: behind by a column, or equal there and behind
    by the next. What is empty comes before all values, or behind them, as the database
    has it.
    """
    found: Any = None
    for number, (key, there) in reversed(
        list(enumerate(zip(order, given, strict=True)))
    ):
        column = key.column
        empty_first = nulls_are_low() != key.down
        bound: Any = sa.bindparam(parameter(number), type_=column.type)
        if there:
            beyond = column < bound if key.down else column > bound
            same = column == bound
            if not empty_first and key.nullable:
                beyond = sa.or_(beyond, column.is_(None))
        else:
            beyond = column.is_not(None) if empty_first else sa.false()
            same = column.is_(None)
        if found is None:
            found = beyond
        elif there and (empty_first or not key.nullable):
            # Said so that an index can be entered at the value.
            reached = column <= bound if key.down else column >= bound
            found = sa.and_(reached, sa.or_(beyond, sa.and_(same, found)))
        else:
            found = sa.or_(beyond, sa.and_(same, found))
    return found


def parameter(number: int) -> str:
    """What the value of a sorted column is called in a statement."""
    return f"edge_{number}"


def is_nullable(column: Any) -> bool:
    columns = getattr(getattr(column, "property", None), "columns", [])
    return not columns or bool(getattr(columns[0], "nullable", True))


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
    except (ValueError, TypeError, ArithmeticError, AttributeError):
        return None


def _plain(value: Any) -> Any:
    if isinstance(value, dt.date | dt.time):
        return value.isoformat()
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
        return found.replace(tzinfo=found.tzinfo or dt.UTC)
    if issubclass(kind, dt.date | dt.time):
        return kind.fromisoformat(value)
    if kind is Decimal:
        return measured(str(value))
    if kind is int and not -(2**63) <= value < 2**63:
        raise ValueError(value)
    return kind(value)
