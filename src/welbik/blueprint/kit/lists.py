"""Lists: sorted by a known column, a page at a time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

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
    others: str
    """The rest of the query in the address: not this list's own sort and page."""

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
        sort = request.args.get(f"{self.name}sort", "")
        return self._query(sort if self.sort == sort else "", number)

    def sorted_by(self, column: str) -> str:
        """The query that sorts by a column, or turns it round if it is sorted by it."""
        return self._query(f"-{column}" if self.sort == column else column)

    def direction(self, column: str) -> str:
        """How the list is sorted by a column, in the words of ARIA; empty if it is not."""
        first = self.sort.partition(",")[0]
        if first.removeprefix("-") != column:
            return ""
        return "descending" if first.startswith("-") else "ascending"

    def _query(self, sort: str, number: int = 1) -> str:
        # Names of columns and numbers need no quoting.
        parts = [self.others] if self.others else []
        parts += [f"{self.name}sort={sort}"] if sort else []
        parts += [f"{self.name}page={number}"] if number > 1 else []
        return f"?{'&'.join(parts)}"


def page(rows: Select[Any], sorts: Sorts, first: str = "", name: str = "") -> Listing:
    """A page of rows; `first` is the sort when the address names none.

    Only the keys of `sorts` are taken from the address. Equal rows keep the order of
    their ids, so that no row is on two pages.
    """
    model = rows.column_descriptions[0]["entity"]
    asked = request.args.to_dict()
    sort = asked.pop(f"{name}sort", "")
    sort = sort if sort.removeprefix("-") in sorts else first
    total = _count(rows, model)
    number = _number(asked.pop(f"{name}page", ""), total)
    ordered = rows.order_by(*_order(sort, sorts), model.id)
    some = ordered.limit(settings.PAGE).offset((number - 1) * settings.PAGE)
    return Listing(
        session().scalars(some).all(), total, number, sort, name, urlencode(asked)
    )


def _count(rows: Select[Any], model: Any) -> int:
    count = select(func.count()).select_from(model)
    if rows.whereclause is not None:
        # What is asked for may name joined rows, so the joins stay.
        count = rows.with_only_columns(
            func.count(), maintain_column_froms=True
        ).order_by(None)
    return session().scalar(count) or 0


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
