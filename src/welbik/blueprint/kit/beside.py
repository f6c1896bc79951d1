"""Where a row stands in its list as that was left: the way back, the rows before and after."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cache, partial
from typing import Any, NamedTuple

import sqlalchemy as sa
from flask import request

from . import fragments, light, paging, places, prepared
from .database import fetch
from .listing import Asked, Listing
from .lists import List
from .show import upper

_APART = sa.LABEL_STYLE_TABLENAME_PLUS_COL


class Neighbours(Listing):
    """A list as it was left, to tell what stands beside a row of it."""

    def of(self, row: Any) -> tuple[Any, Any]:
        """The rows before and after one; None where there is none."""
        rows = cache(lambda: self.kind.joined(self.matching, self.sort))
        values = self.kind.held(row, self.sort)
        if values is None or self.narrowed:
            make = partial(self._own, rows)
            own = prepared.own(self.kind.model, row)
            values = next(iter(self._rows(("own", self.sort), make, own)), None)
        if values is None:
            return None, None
        ways = [self._way(rows, back, list(values)) for back in (True, False)]
        near = self._nearest([first for first, _ in ways])
        lines = [near.get(n) or further() for n, (_, further) in enumerate(ways)]
        return self._named(lines[0]), self._named(lines[1])

    def _way(
        self, rows: Callable[[], Any], back: bool, values: list[Any]
    ) -> tuple[Asked, Callable[[], Any]]:
        """The statement that most often finds a neighbour, and what looks for it further on."""
        keys = self.kind.order(self.sort)

        def page(segment: paging.Segment, given: Sequence[bool]) -> Any:
            return self.kind.page_of(rows(), keys, segment, back, given)

        stretches = list(paging.stretches(keys, back, values))
        leader = None if self.narrowed else self._leader()
        _, segment, start = stretches[0]
        led = leader is not None and not (segment.alone and segment.holds(None))
        if leader is not None and led:
            first = self._asked_led(rows, keys, back, start, leader.key_in(start), 1)
        else:
            first = self._asked_of(page, stretches[0], back, 1)

        def further() -> Any:
            for stretch in stretches if led else stretches[1:]:
                lines = None
                if not self.narrowed:  # Else those of many parents may be left out.
                    beyond = stretch is stretches[0]
                    lines = self._led(rows, keys, back, stretch, 1, beyond=beyond)
                if lines is None:
                    lines = self._of(page, stretch, back, 1)
                if lines:
                    return lines[0]
            return None

        return first, further

    def _nearest(self, asked: Sequence[Asked]) -> dict[int, Any]:
        """The first row of each of some statements, asked as one; none where it has no row."""
        told = tuple(one[0] for one in asked)
        values = {name: value for _, _, some in asked for name, value in some.items()}

        def make() -> Any:
            # Of two tables columns may be called alike but for their capitals.
            two = [one[1]().set_label_style(_APART).subquery() for one in asked]
            numbered = [sa.select(sa.literal(n), rows) for n, rows in enumerate(two)]
            return sa.union_all(*numbered)

        return {line[0]: line[1:] for line in self._rows(("near", *told), make, values)}

    def _named(self, line: Any) -> Any:
        if line is None:
            return None
        found = self.kind.read(line)
        # A list loads what it shows, which may be less than the row's name.
        return found if light.names_itself(found) else fetch(self.kind.model, found.id)

    def _own(self, rows: Callable[[], Any]) -> Any:
        """The statement for what the list is sorted by, of one row."""
        own = rows().where(*prepared.is_own(self.kind.model))
        return own.with_only_columns(*(k.column for k in self.kind.order(self.sort)))


class Place(NamedTuple):
    """The address of a row's list and what that is called; the row's neighbours in it."""

    back: str
    label: str
    before: Any
    after: Any


def here(kind: List, row: Any) -> Place | None:
    """The place of a row; None where it is new."""
    if row.id is None or fragments.asked():
        return None
    if str(request.endpoint).endswith(".view_page"):
        places.see(row)
    endpoint = f"{kind.model.ENDPOINT}.list_page"
    listing = Neighbours(kind, asked=places.asked(endpoint))
    before, after = listing.of(row)
    narrowed = ", filtered" if listing.search or listing.conditions else ""
    label = f"{upper(kind.model.PLURAL)}{narrowed}"
    return Place(places.list_url(endpoint, row), label, before, after)
