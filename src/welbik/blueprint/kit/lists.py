"""Lists: sorted by a known column, a page at a time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from flask import request
from sqlalchemy import Select, func, select

from .. import settings
from .database import session

Sorts = Mapping[str, Sequence[Any]]


@dataclass(frozen=True)
class Listing:
    """One page of rows. `name` tells lists on the same page apart in the address."""

    rows: Sequence[Any]
    total: int
    number: int
    sort: str
    name: str

    @property
    def pages(self) -> int:
        return max(1, -(-self.total // settings.PAGE))

    @property
    def first(self) -> int:
        return (self.number - 1) * settings.PAGE + 1

    @property
    def last(self) -> int:
        return self.first + len(self.rows) - 1

    def at(self, number: int) -> str:
        """The query that leads to another page of this list, all else the same."""
        return _query({f"{self.name}page": str(number) if number > 1 else ""})

    def sorted_by(self, column: str) -> str:
        """The query that sorts by a column, or turns it round if it is sorted by it."""
        turned = f"-{column}" if self.sort == column else column
        return _query({f"{self.name}sort": turned, f"{self.name}page": ""})

    def direction(self, column: str) -> str:
        """How the list is sorted by a column, in the words of ARIA; empty if it is not."""
        ways = {column: "ascending", f"-{column}": "descending"}
        return ways.get(self.sort.split(",")[0], "")


def _query(changes: Mapping[str, str]) -> str:
    from urllib.parse import urlencode

    kept = {name: value for name, value in request.args.items() if name not in changes}
    return "?" + urlencode(kept | {name: v for name, v in changes.items() if v})


def page(rows: Select[Any], sorts: Sorts, first: str = "", name: str = "") -> Listing:
    """A page of rows; `first` is the sort when the address names none.

    Only the keys of `sorts` are taken from the address. Equal rows keep the order of
    their ids, so that no row is on two pages.
    """
    model = rows.column_descriptions[0]["entity"]
    total = (
        session().scalar(
            select(func.count()).select_from(rows.order_by(None).subquery())
        )
        or 0
    )
    asked = request.args.get(f"{name}sort", "")
    sort = asked if asked.removeprefix("-") in sorts else first
    number = _number(request.args.get(f"{name}page", ""), total)
    ordered = rows.order_by(*_order(sort, sorts), model.id)
    some = ordered.limit(settings.PAGE).offset((number - 1) * settings.PAGE)
    return Listing(session().scalars(some).all(), total, number, sort, name)


def _number(asked: str, total: int) -> int:
    number = (
        int(asked) if asked.isascii() and asked.isdigit() and len(asked) < 10 else 1
    )
    return min(max(1, number), max(1, -(-total // settings.PAGE)))


def _order(sort: str, sorts: Sorts) -> list[Any]:
    found = []
    for key in filter(None, sort.split(",")):
        for column in sorts[key.removeprefix("-")]:
            found.append(column.desc() if key.startswith("-") else column.asc())
    return found
