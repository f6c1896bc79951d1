"""Long lists that are sorted by a related row: those come in their order, each with its own.

A database would look up what every row leads to, and sort them all, before it has the first.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cache, partial
from itertools import takewhile
from typing import Any, NamedTuple

import sqlalchemy as sa

from . import paging
from .lists import List

_FIRST, _AT_ONCE = 16, 512
# Beyond these the database may as well sort all.
_READ, _ASKED = 8_000, 300
# The parameter of a stretch: the key of the row that all of it leads to.
_KEY = "leads"

Some = Callable[[Mapping[str, Any], bool, int], list[Any]]
Ask = Callable[[tuple[Any, ...], Callable[[], Any], Mapping[str, Any]], list[Any]]
"""What gives the rows of a statement: by what tells it apart, by what makes it, and its values."""


class TooManyError(Exception):
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
        key = sa.bindparam(_KEY, type_=column.type)
        return paging.Segment(column == key, len(self.keys), lambda value: True)

    def key_in(self, start: Sequence[Any]) -> dict[str, Any]:
        """The parameter of its stretch, of what the row with some values leads to."""
        return {_KEY: start[len(self.keys) - 1]}

    def rows(
        self,
        within: paging.Segment,
        back: bool,
        start: Sequence[Any],
        some: Some,
        most: int,
        ask: Ask,
    ) -> list[Any] | None:
        """Up to so many rows of a stretch in their order, behind the values `start` if any.

        `some` finds so many that lead to one row, from the start's values on or all of them.
        None where that is not worth it.
        """
        edge = list(start[: len(self.keys)])
        rows = some(self.key_in(start), True, most) if edge else []
        if len(rows) >= most:
            return rows
        keys = self._in_order(within, back, edge[within.alone :], ask)
        try:
            for number, key in enumerate(keys):
                if number == _ASKED:
                    return None
                rows += some({_KEY: key}, False, most - len(rows))
                if len(rows) >= most:
                    break
        except TooManyError:
            return None
        return rows

    def _in_order(
        self, within: paging.Segment, back: bool, edge: list[Any], ask: Ask
    ) -> Iterator[Any]:
        """The keys of a stretch's related rows that any row leads to, behind the values `edge`."""
        keys = self.keys[within.alone :]
        order = [key._replace(down=key.down != back) for key in keys]
        size, read = _FIRST, 0
        while read < _READ:
            given = tuple(value is not None for value in edge)
            values = {paging.parameter(n): value for n, value in enumerate(edge)}
            make = partial(self._next, within, order, given)
            lines = ask(("leaders", back, given), make, {**values, "most": size})
            yield from (row[-2] for row in lines if row[-1])
            if len(lines) < size:
                return
            edge, read = list(lines[-1])[:-1], read + size
            size = min(2 * size, _AT_ONCE)
        raise TooManyError

    def _next(
        self, within: paging.Segment, order: Sequence[paging.Key], given: Sequence[bool]
    ) -> Any:
        """The statement for the related rows of a stretch, behind certain values if any."""
        rows = sa.select(*(key.column for key in order), self.present)
        rows = rows if within.where is None else rows.where(within.where)
        rows = rows.where(paging.behind(order, given)) if given else rows
        most = sa.bindparam("most", type_=sa.Integer)
        return rows.order_by(*(key.ordered for key in order)).limit(most)


@cache
def through(kind: List, sort: str) -> Leader | None:
    """The related rows by which a list is sorted first, where they can be gone through instead."""
    columns = kind.sorts.get(sort.partition(",")[0].removeprefix("-"), ())
    if not columns or columns[0].parent is sa.inspect(kind.model):
        return None
    leading, keys = columns[0].parent, kind.order(sort)
    own, *others = leading.mapper.primary_key
    if others:
        return None
    own = getattr(leading.entity, leading.mapper.get_property_by_column(own).key)
    ends = [n for n, key in enumerate(keys, 1) if key.column is own]
    theirs = list(takewhile(lambda column: column is not own, columns))
    if not ends or any(column.parent is not leading for column in theirs):
        return None
    reference = kind.reference(leading)
    if reference is None:
        return Leader(keys[: ends[0]], sa.literal(1))
    # A value, not whether there is one: that may be worked out for all rows at once.
    one = sa.select(sa.literal(1)).where(reference == own).limit(1)
    return Leader(keys[: ends[0]], one.scalar_subquery())
