"""What belongs to a row, on its page: a tab for each collection, of which one is open."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

import sqlalchemy as sa
from flask import request

from . import counting, prepared
from .links import address
from .listing import Listing
from .lists import List

_SHORT = 10


class Tab(NamedTuple):
    """A tab as the page shows it; no count where it holds no rows."""

    name: str
    label: str
    number: str
    url: str


@dataclass(frozen=True)
class Collection:
    """Rows that refer to a row by a column."""

    label: str
    list: List
    column: Any


class Tabs:
    """The tabs of a row's page. Only the rows of the open one are read."""

    def __init__(
        self,
        row: Any,
        collections: Mapping[str, Collection],
        others: Mapping[str, str],
    ) -> None:
        labels = {name: one.label for name, one in collections.items()}
        labels.update(others)
        asked = request.args.get("_tab", "")
        self.open = asked if asked in labels else next(iter(labels), "")
        self.listing: Listing | None = None
        counts = {}
        if self.open in collections:
            one = collections[self.open]
            self.listing = Listing(
                one.list, under=(one.column, row.id), name=f"{self.open}-", size=_SHORT
            )
            # The open one is counted for its pages already.
            counts[self.open] = self.listing.told
        closed = {k: v for k, v in collections.items() if k != self.open}
        counts |= _counts(row, closed)
        self.all = [
            Tab(name, label, counts.get(name, ""), address({"_tab": name}))
            for name, label in labels.items()
        ]


def _counts(row: Any, collections: Mapping[str, Collection]) -> dict[str, str]:
    """How many rows each collection has, in one query; counting stops at some point."""
    if not collections:
        return {}

    def make() -> Any:
        return sa.select(
            *(
                counting.count(
                    one.list.rows.where(prepared.under(one.column, row.id)),
                    one.list.model,
                )
                for one in collections.values()
            )
        )

    first, *_ = collections.values()
    columns = [one.column for one in collections.values()]
    (found,) = prepared.ask(
        first.list.prepared, ("counts", *columns), make, {prepared.UNDER: row.id}
    )
    return dict(zip(collections, map(counting.told, found), strict=True))
