"""How rows that filters leave are found where an index has those of a choice in their order.

The choice leads then, and all else is compared in its index. Where a database knows nothing of
how many rows have a value, it is found out, and said.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import sqlalchemy as sa

from . import counting, expressions, filters
from .database import dialect, session
from .lists import List

# So many entries of an index are looked at before another filter is tried.
_READ = 10_000


def by_choice(
    kind: List, sort: str, asked: Mapping[str, str], conditions: Mapping[str, Any]
) -> Narrowing | None:
    """How the rows of a list that meet conditions are found by a choice; None where none leads."""
    in_order = [_stored(key.column, kind.model) for key in kind.order(sort)]
    indexes = kind.model.__table__.indexes
    known = [[str(column) for column in index.expressions] for index in indexes]

    def leads(one: filters.Filter) -> bool:
        wanted = [_stored(one.column, kind.model), *in_order]
        goes = any(columns[: len(wanted)] == wanted for columns in known)
        return goes and _is_one(one, asked[one.name])

    asking = [kind.filters[name] for name in conditions]
    alone = all(one.column.parent.entity is kind.model for one in asking)
    found = next((one.name for one in asking if leads(one)), "")
    return Narrowing(kind.model, found, conditions, alone) if found else None


class Narrowing:
    """Rows that meet conditions, found by the one of `name`; `alone` if all are of their own."""

    def __init__(
        self, model: Any, name: str, conditions: Mapping[str, Any], alone: bool
    ) -> None:
        self.model, self.name = model, name
        self.conditions, self.alone = conditions, alone

    def led(self, rows: Any) -> Any:
        """The rows, with a word to the database to go by the choice that leads."""
        return rows.where(*self._said("", "likely"))

    def page(self, kind: List, plain: Any, rows: Any, *asked: Any) -> Any:
        """As `List.page_of`; the keys are told first, by an index alone, where that is sooner.

        `plain` has the rows with nothing joined to them.
        """
        found = kind.page_of(rows, *asked)
        if dialect().looks_up_late or not self.alone:
            return found
        some = kind.page_of(self.led(plain), *asked)
        keys = some.with_only_columns(self.model.id.label("key")).subquery()
        return found.limit(None).join(keys, keys.c.key == self.model.id)

    def unled(self, rows: Any) -> Any:
        """The rows, with a word to go by what else is filtered by."""
        return rows.where(*self._said("likely", "unlikely"))

    def _said(self, lead: str, rest: str) -> Iterator[Any]:
        for name, found in self.conditions.items():
            word = lead if name == self.name else rest
            # As a Boolean it is hidden from its index.
            kind = sa.Boolean() if word == "likely" else sa.Integer()
            yield expressions.hinted(word, found, kind) if word else found

    def counted(self, rows: Any, most: int) -> tuple[int, Any] | None:
        """How many rows there are, up to `most` and one, and all of them by what finds them soonest.

        None where the database itself knows best.
        """
        if dialect().knows_shares or not self.alone or len(self.conditions) < 2:
            return None
        rest = [found for name, found in self.conditions.items() if name != self.name]
        few = expressions.hinted("unlikely", sa.and_(*rest), sa.Integer())
        others = sa.select(self.model).where(few)
        first = rows.where(self.conditions[self.name])
        by_rest, by_lead = self.unled(rows), self.led(rows)
        if self._counted(others, most) <= most:
            return self._counted(by_rest, most), by_rest
        # Where the choice is met often, enough of its first rows meet the rest.
        met = sa.case((sa.and_(*rest), 1)).label("met")
        some = first.with_only_columns(met).select_from(self.model).limit(_READ)
        near = some.subquery()
        found = self._counted(sa.select(near).where(near.c.met == 1), most, near)
        if found > most or self._counted(first, _READ) <= _READ:
            return found, by_lead
        best = by_rest if self._counted(others, _READ) <= _READ else by_lead
        return self._counted(best, most), best

    def _counted(self, rows: Any, most: int, of: Any = None) -> int:
        asked = counting.count(rows, self.model if of is None else of, most)
        return int(session().scalar(sa.select(asked)) or 0)


def _stored(column: Any, model: Any) -> str:
    """The column of a model's own table; empty where it is another's, or worked out."""
    if getattr(getattr(column, "parent", None), "entity", None) is not model:
        return ""
    return str(getattr(column.property, "columns", [""])[0])


def _is_one(one: filters.Filter, text: str) -> bool:
    """Whether rows of one choice alone are asked for, or those without any."""
    return isinstance(one, filters.Choice) and (
        text in one.labels or text == filters.EMPTY
    )
