"""Lists: searched, filtered, sorted by a known column, a page at a time.

All that is asked stands in the address, so that it can be shared and gone back to. A page
begins behind the last row of the one before (keyset paging), so that the thousandth page
costs what the first does.
"""

from __future__ import annotations

import base64
import datetime as dt
import json
from collections.abc import Iterator, Mapping, Sequence
from decimal import Decimal
from functools import cached_property
from typing import Any, NamedTuple
from urllib.parse import urlencode

import sqlalchemy as sa
from flask import redirect, render_template, request
from flask.typing import ResponseReturnValue

from .. import settings
from . import counting, export, light, words
from .database import nulls_are_low, session
from .filters import Choice, Filter

SIZES = (10, 25, 50, 100, 200)
# No field is called so: names of fields hold no dash, and these words begin a clause.
_SEARCH, _SORT, _PANEL = "search", "sort", "filter"
_AFTER, _BEFORE, _SIZE = "page-after", "page-before", "page-size"
_LONGEST = 500


class Key(NamedTuple):
    """A column that a list is sorted by: downwards or not, and whether it may be empty."""

    column: Any
    down: bool
    nullable: bool

    @property
    def ordered(self) -> Any:
        return self.column.desc() if self.down else self.column.asc()


class List:
    """What a list shows and what it can be asked.

    `rows` selects what is shown, first of the model itself, then of `related` entities by
    path. `columns` has for each path its heading, and what it is sorted by; `first` are the
    sort keys used when none is asked.
    """

    def __init__(
        self,
        model: Any,
        rows: Any,
        columns: Mapping[str, Sequence[Any]],
        *,
        related: Mapping[str, Any] | None = None,
        first: str = "",
        search: Sequence[Any] = (),
        filters: Sequence[Filter] = (),
    ) -> None:
        self.model = model
        self.rows = rows
        self.sorts = {name: rest for name, (_, *rest) in columns.items() if rest}
        self.headings = {name: head for name, (head, *_) in columns.items() if head}
        self.first = first
        self.search = search
        self.filters = {one.name: one for one in filters}
        self.related = related or {}

    @cached_property
    def read(self) -> Any:
        """What makes a row of the list of a result's row."""
        return light.reader(self.rows, self.related)

    def answer(self, template: str) -> ResponseReturnValue:
        """The page of the list that the address asks for, or all of it as a table to save."""
        tidy = self._tidy()
        if tidy is not None:
            return redirect(f"{request.path}{tidy}")
        listing = self.page()
        if request.args.get("as") == "csv":
            return export.answer(self.model.PLURAL, self.headings, listing.everything())
        return render_template(template, listing=listing)

    def page(self, *where: Any, name: str = "", size: int = 0) -> Listing:
        """A page of the rows that meet some conditions; `name` tells lists on a page apart."""
        return Listing(self, self.rows.where(*where), name, size)

    def _tidy(self) -> str | None:
        """Where what a form sent stands in the notation of the address; None if it does so."""
        asked = request.args
        loose = any(
            not value or key.endswith(("-low", "-high", "-empty"))
            for key, value in asked.items()
        )
        if not loose and len(asked) == sum(map(len, asked.listvalues())):
            return None
        found = {
            k: v
            for k, v in asked.items()
            if v and k.rpartition("-")[0] not in self.filters
        }
        for name, one in self.filters.items():
            try:
                found[name] = one.typed(asked)
            except ValueError:
                found.pop(name, None)
        finds = {k: v for k, v in asked.items() if v and k.endswith("-find")}
        return address({k: v for k, v in found.items() if v} | finds)

    @cached_property
    def _maybe(self) -> set[Any]:
        """The related entities that a row may be without."""
        found: set[Any] = set()
        mappers = {"": (sa.inspect(self.model), False)}
        for path, entity in self.related.items():
            above, _, name = path.rpartition(".")
            mapper, maybe = mappers[above]
            relation = mapper.relationships[name]
            maybe = maybe or any(column.nullable for column in relation.local_columns)
            mappers[path] = (relation.mapper, maybe)
            if maybe:
                found.add(sa.inspect(entity))
        return found

    def order(self, sort: str) -> list[Key]:
        """What a sort goes by; the key of the row comes last, so that no two are equal."""
        found: list[Key] = []
        for key in filter(None, sort.split(",")):
            down = key.startswith("-")
            for column in self.sorts[key.removeprefix("-")]:
                maybe = _is_nullable(column) or column.parent in self._maybe
                found.append(Key(column, down, maybe))
        mapper = sa.inspect(self.model)
        name = mapper.get_property_by_column(mapper.primary_key[0]).key
        return [*found, Key(getattr(self.model, name), False, False)]


class Listing:
    """One page of a list, as the address asks for it."""

    def __init__(self, kind: List, rows: Any, name: str, size: int) -> None:
        self.kind = kind
        self.name = name
        self.asked: dict[str, str] = request.args.to_dict()
        sort = self.asked.get(f"{name}{_SORT}", "")
        self.sort = sort if sort.removeprefix("-") in kind.sorts else kind.first
        self.size = self._size(size)
        self.search = (
            self.asked.get(_SEARCH, "")[:_LONGEST] if kind.search and not name else ""
        )
        self.unread: list[str] = []
        self.conditions = {} if name else self._conditions()
        searched = words.having(rows, self.search, kind.search) if self.search else rows
        self.plain = searched
        self.matching = (
            searched.where(*self.conditions.values()) if self.conditions else searched
        )
        self.rows, self.first, self._more, self._edges = self._load()
        self.total = self._total()

    def _size(self, size: int) -> int:
        asked = self.asked.get(f"{self.name}{_SIZE}", "")
        return int(asked) if asked in map(str, SIZES) else size or settings.PAGE

    def _conditions(self) -> dict[str, Any]:
        """What is filtered by; what can't be read is told, and left out."""
        found = {}
        for name, one in self.kind.filters.items():
            text = self.asked.get(name, "")
            if not text or len(text) > _LONGEST:
                continue
            try:
                found[name] = one.condition(text)
            except (ValueError, OverflowError):
                self.unread.append(f"{name}={text}")
        return found

    def _load(self) -> tuple[list[Any], int, bool, tuple[Any, Any]]:
        """The rows; the place of the first; whether more follow; the values at both edges."""
        order = self.kind.order(self.sort)
        keys = [key.column for key in order]
        statement = self.matching.add_columns(*keys)
        back = bool(self.asked.get(f"{self.name}{_BEFORE}"))
        start = place(
            self.asked.get(f"{self.name}{_BEFORE if back else _AFTER}", ""), keys
        )
        if start is not None:
            order = [key._replace(down=key.down != back) for key in order]
            statement = statement.where(behind(order, start[1]))
        some = statement.order_by(*(key.ordered for key in order))
        found: list[Any] = list(
            session().connection().execute(some.limit(self.size + 1))
        )
        more, found = len(found) > self.size, found[: self.size]
        if back and start is not None:
            found.reverse()
        edges = (
            tuple(tuple(row)[-len(keys) :] for row in (found[0], found[-1]))
            if found
            else ()
        )
        rows = list(map(self.kind.read, found))
        if start is None:
            return rows, 1, more, edges  # type: ignore[return-value]
        first = max(1, start[0] - len(rows)) if back else start[0]
        # Going back, what follows is known to be there, and what comes before is not.
        return rows, 1 if back and not more else first, back or more, edges  # type: ignore[return-value]

    def _total(self) -> int:
        if not self._more and self.first == 1:
            return len(self.rows)
        counted = sa.select(counting.count(self.matching, self.kind.model))
        return session().connection().scalar(counted) or 0

    @property
    def told(self) -> str:
        """How many there are, or that it is more than were counted."""
        return counting.told(self.total)

    @property
    def last(self) -> int:
        return self.first + len(self.rows) - 1

    @property
    def earlier(self) -> str:
        """The address of the page before; empty where there is none."""
        if self.first <= 1 or not self.rows:
            return ""
        return self._at(**{_BEFORE: token(self.first, self._edges[0])})

    @property
    def further(self) -> str:
        if not self._more:
            return ""
        return self._at(**{_AFTER: token(self.last + 1, self._edges[1])})

    @property
    def start(self) -> str:
        """The address of the first page."""
        return self._at()

    def _at(self, **place: str) -> str:
        """This list's address at another place, all else the same."""
        mine = {f"{self.name}{word}" for word in (_AFTER, _BEFORE)}
        kept = {k: v for k, v in self.asked.items() if k not in mine}
        return address(kept | {f"{self.name}{k}": v for k, v in place.items()})

    def but(self, /, **changed: str) -> str:
        """The address with some parameters changed, at the first page; empty ones are left out."""
        mine = {f"{self.name}{word}" for word in (_AFTER, _BEFORE)}
        kept = {k: v for k, v in self.asked.items() if k not in mine} | changed
        return address({k: v for k, v in kept.items() if v})

    def sorted_by(self, column: str) -> str:
        """The address that sorts by a column, or turns it round if it is sorted by it."""
        wanted = f"-{column}" if self.sort == column else column
        return self.but(**{f"{self.name}{_SORT}": wanted})

    def direction(self, column: str) -> str:
        """How the list is sorted by a column, in the words of ARIA; empty if it is not."""
        first = self.sort.partition(",")[0]
        if first.removeprefix("-") != column:
            return ""
        return "descending" if first.startswith("-") else "ascending"

    @property
    def panel(self) -> bool:
        """Whether the filters are shown."""
        return self.asked.get(_PANEL) == "open"

    @property
    def switch(self) -> str:
        """The address that shows the filters, or hides them."""
        shown = address(self.asked | {_PANEL: "" if self.panel else "open"})
        return (
            shown.replace(f"{_PANEL}=&", "").removesuffix(f"{_PANEL}=")
            if self.panel
            else shown
        )

    @property
    def active(self) -> list[tuple[str, str, str]]:
        """What is filtered by: the label, what is asked, and the address without it."""
        return [
            (one.label, one.told(self.asked[name]), self.but(**{name: ""}))
            for name, one in self.kind.filters.items()
            if name in self.conditions
        ]

    @property
    def clear(self) -> str:
        """The address without any filter or search."""
        return self.but(**{name: "" for name in self.kind.filters}, search="")

    @property
    def sizes(self) -> list[tuple[int, str]]:
        return [
            (size, self.but(**{f"{self.name}{_SIZE}": str(size)})) for size in SIZES
        ]

    @property
    def download(self) -> str:
        return self._at(**{"as": "csv"})

    def counts(self, one: Choice) -> dict[str, str]:
        """How many rows each choice would leave, with all other filters as they are."""
        others = [c for name, c in self.conditions.items() if name != one.name]
        return one.counts(self.plain.where(*others), self.kind.model)

    def kept(self, *less: str) -> list[tuple[str, str]]:
        """The parameters that a form sends along with its own, which are those of `less`."""
        gone = {_AFTER, _BEFORE, *less}
        return [
            (k, v)
            for k, v in self.asked.items()
            if k not in gone and not k.endswith("-find")
        ]

    def kept_by_panel(self) -> list[tuple[str, str]]:
        return self.kept(*self.kind.filters)

    def finding(self, one: Filter) -> str:
        """What is typed to find related rows to filter by."""
        return self.asked.get(f"{one.name}-find", "")[:_LONGEST]

    def everything(self) -> Iterator[Any]:
        """All rows that match, in order, a few at a time."""
        order = (key.ordered for key in self.kind.order(self.sort))
        rows = self.matching.order_by(*order).execution_options(yield_per=500)
        return map(self.kind.read, session().connection().execute(rows))


def behind(order: Sequence[Key], values: Sequence[Any]) -> Any:
    """The condition that rows come behind one with these values of the sorted columns.

    Built from the last column to the first: behind by a column, or equal there and behind
    by the next. What is empty comes before all values, or behind them, as the database
    has it.
    """
    found: Any = None
    for key, value in reversed(list(zip(order, values, strict=True))):
        column = key.column
        empty_first = nulls_are_low() != key.down
        if value is None:
            beyond = column.is_not(None) if empty_first else sa.false()
            same = column.is_(None)
        else:
            bound = sa.literal(value, column.type)
            beyond = column < bound if key.down else column > bound
            same = column == bound
            if not empty_first and key.nullable:
                beyond = sa.or_(beyond, column.is_(None))
        if found is None:
            found = beyond
        elif value is not None and (empty_first or not key.nullable):
            # Said so that an index can be entered at the value.
            reached = column <= bound if key.down else column >= bound
            found = sa.and_(reached, sa.or_(beyond, sa.and_(same, found)))
        else:
            found = sa.or_(beyond, sa.and_(same, found))
    return found


def _is_nullable(column: Any) -> bool:
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
        return Decimal(value) if Decimal(value).is_finite() else None
    if kind is int and not -(2**63) <= value < 2**63:
        raise ValueError(value)
    return kind(value)


def address(asked: Mapping[str, str]) -> str:
    """The query of an address, as short as it may be."""
    return f"?{urlencode(asked, safe=',:')}"
