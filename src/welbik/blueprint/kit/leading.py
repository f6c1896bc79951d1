"""Long lists that are sorted by a related row: those come in their order, each with its own.

A database would look up what every row leads to, and sort them all, before it has the first.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any, NamedTuple

import sqlalchemy as sa

from . import paging

_FIRST, _AT_ONCE = 16, 512
# Beyond these the database may as well sort all.
_READ, _ASKED = 8_000, 300


class TooMany(Exception):
    """More related rows than it is worth to go through."""


class Leader(NamedTuple):
    """Related rows by which a list is sorted first: `keys` are those of the list that they hold.

    The last of them is their own. `present` says of one whether any row leads to it, where an
    index tells.
    """

    keys: Sequence[paging.Key]
    present: Any

    def stretch(self, key: Any) -> paging.Segment:
        """The rows that lead to one of them: all that they are sorted by is one value there."""
        column = self.keys[-1].column
        return paging.Segment(column == key, len(self.keys), lambda value: True)


def found(
    leader: Leader,
    within: paging.Segment,
    back: bool,
    start: Sequence[Any],
    some: Callable[[paging.Segment, bool, int], list[Any]],
    most: int,
    connection: sa.Connection,
) -> list[Any]:
    """Up to so many rows of a stretch in the order of a list, behind the values `start` if any.

    `some` finds so many that lead to one row, from the start's values on or from where it begins.
    Raises TooMany where that is not worth it.
    """
    edge = list(start[: len(leader.keys)])
    rows = some(leader.stretch(edge[-1]), True, most) if edge else []
    if len(rows) >= most:
        return rows
    keys = _in_order(leader, within, back, edge[within.alone :], connection)
    for number, key in enumerate(keys):
        if number == _ASKED:
            raise TooMany
        rows += some(leader.stretch(key), False, most - len(rows))
        if len(rows) >= most:
            break
    return rows


def _in_order(
    leader: Leader,
    within: paging.Segment,
    back: bool,
    edge: list[Any],
    connection: sa.Connection,
) -> Iterator[Any]:
    """The keys of a stretch's related rows that any row leads to, behind the values `edge`."""
    keys = leader.keys[within.alone :]
    order = [key._replace(down=key.down != back) for key in keys]
    columns = [key.column for key in order]
    size, read = _FIRST, 0
    while read < _READ:
        rows = sa.select(*columns, leader.present)
        rows = rows if within.where is None else rows.where(within.where)
        if edge:
            given = [value is not None for value in edge]
            rows = rows.where(paging.behind(order, given))
        rows = rows.order_by(*(key.ordered for key in order)).limit(size)
        values = {paging.parameter(n): value for n, value in enumerate(edge)}
        lines = list(connection.execute(rows, values))
        yield from (row[-2] for row in lines if row[-1])
        if len(lines) < size:
            return
        edge, read, size = list(lines[-1])[:-1], read + size, min(2 * size, _AT_ONCE)
    raise TooMany
