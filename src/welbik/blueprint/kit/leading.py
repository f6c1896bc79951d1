"""Long lists that are sorted by a related row: those come in their order, each with its own.

A database would look up what every row leads to, and sort them all, before it has the first.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from typing import Any, NamedTuple

import sqlalchemy as sa

from . import paging

_FIRST, _AT_ONCE = 16, 512
# Beyond these the database may as well sort all.
_READ, _ASKED = 8_000, 300
KEY = "leads"
"""The parameter of a stretch: the key of the row that all of it leads to."""


Ask = Callable[[tuple[Any, ...], Callable[[], Any], Mapping[str, Any]], list[Any]]
"""What gives the rows of a statement: by what tells it apart, by what makes it, and its values."""


class TooMany(Exception):
    """More related rows than it is worth to go through."""


class Leader(NamedTuple):
    """Related rows by which a list is sorted first: `keys` are those of the list that they hold.

    The last of them is their own. `present` says of one whether any row leads to it, where an
    index tells.
    """

    keys: Sequence[paging.Key]
    present: Any

    @property
    def stretch(self) -> paging.Segment:
        """The rows that lead to one of them: all that they are sorted by is one value there."""
        column = self.keys[-1].column
        key = sa.bindparam(KEY, type_=column.type)
        return paging.Segment(column == key, len(self.keys), lambda value: True)


def found(
    leader: Leader,
    within: paging.Segment,
    back: bool,
    start: Sequence[Any],
    some: Callable[[Any, bool, int], list[Any]],
    most: int,
    ask: Ask,
) -> list[Any]:
    """Up to so many rows of a stretch in the order of a list, behind the values `start` if any.

    `some` finds so many that lead to the row of a key, from the start's values on or all.
    Raises TooMany where that is not worth it.
    """
    edge = list(start[: len(leader.keys)])
    rows = some(edge[-1], True, most) if edge else []
    if len(rows) >= most:
        return rows
    keys = _in_order(leader, within, back, edge[within.alone :], ask)
    for number, key in enumerate(keys):
        if number == _ASKED:
            raise TooMany
        rows += some(key, False, most - len(rows))
        if len(rows) >= most:
            break
    return rows


def _in_order(
    leader: Leader,
    within: paging.Segment,
    back: bool,
    edge: list[Any],
    ask: Ask,
) -> Iterator[Any]:
    """The keys of a stretch's related rows that any row leads to, behind the values `edge`."""
    keys = leader.keys[within.alone :]
    order = [key._replace(down=key.down != back) for key in keys]
    size, read = _FIRST, 0
    while read < _READ:
        given = tuple(value is not None for value in edge)
        values = {paging.parameter(n): value for n, value in enumerate(edge)}
        make = partial(_next, leader, within, order, given)
        lines = ask(("leaders", back, given), make, {**values, "most": size})
        yield from (row[-2] for row in lines if row[-1])
        if len(lines) < size:
            return
        edge, read, size = list(lines[-1])[:-1], read + size, min(2 * size, _AT_ONCE)
    raise TooMany


def _next(
    leader: Leader,
    within: paging.Segment,
    order: Sequence[paging.Key],
    given: Sequence[bool],
) -> Any:
    """The statement for the related rows of a stretch, behind certain values if any."""
    rows = sa.select(*(key.column for key in order), leader.present)
    rows = rows if within.where is None else rows.where(within.where)
    rows = rows.where(paging.behind(order, given)) if given else rows
    most = sa.bindparam("most", type_=sa.Integer)
    return rows.order_by(*(key.ordered for key in order)).limit(most)
