"""One page of a list, as the address asks for it: its rows, and the addresses around it.

All that is asked stands in the address, so that it can be shared and gone back to.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cache, cached_property, partial
from itertools import islice
from typing import Any
from urllib.parse import parse_qsl, urlsplit

import sqlalchemy as sa
from flask import current_app, make_response, redirect, render_template, request
from flask.typing import ResponseReturnValue

from .. import settings
from . import (
    cells,
    counting,
    export,
    expressions,
    links,
    paging,
    places,
    prepared,
    words,
)
from .database import session
from .fields import ONE_LINE
from .filters import Choice, Filter
from .lists import List

SIZES = (10, 25, 50, 100, 200)
# No field is called so: names of fields begin with a letter, and hold no dash.
_OWN = "_"
_SEARCH, _PANEL, _AS, _CHOSEN = "_search", "_filter", "_as", "_chosen"
_COLUMNS = "_columns"
_SORT, _AFTER, _BEFORE, _SIZE = "sort", "after", "before", "size"
# What the panel's controls are called beyond the names of their filters.
_ENDS = ("-low", "-high", "-empty")
_LONGEST, _LONGEST_URL = 500, 8_000
_FEW = 500


def answer(kind: List, template: str) -> ResponseReturnValue:
    """The page of a list that the address asks for, or all of it as a table to save."""
    tidy = _tidy(kind)
    if tidy is not None:
        return redirect(f"{request.path}{tidy}")
    listing = Listing(kind)
    if request.args.get(_AS) == "csv":
        columns = listing.columns or kind.declared
        return export.answer(kind.model.PLURAL, columns, listing.everything())
    if not listing.all_chosen:
        places.remember()
    answer = make_response(render_template(template, listing=listing))
    try:
        before = urlsplit(
            request.headers.get("HX-Current-URL", "")[:_LONGEST_URL]
        ).query
    except ValueError:
        before = ""
    if dict(parse_qsl(before)).get(_SEARCH) and listing.search:
        # Each letter that is typed is no page to go back to.
        answer.headers["HX-Replace-Url"] = request.full_path
    return answer


def _tidy(kind: List) -> str | None:
    """Where what a form sent stands in the notation of the address; None if it does so."""
    asked = request.args
    loose = any(not value or key.endswith(_ENDS) for key, value in asked.items())
    if not loose and len(asked) == sum(map(len, asked.listvalues())):
        return None
    found = {k: v for k, v in asked.items() if v and not k.endswith((*_ENDS, "-find"))}
    for name, one in kind.filters.items():
        try:
            found[name] = one.typed(asked)
        except ValueError:
            found.pop(name, None)
    if _COLUMNS in asked:
        found[_COLUMNS] = ",".join(asked.getlist(_COLUMNS))
    finds = {k: v for k, v in asked.items() if v and k.endswith("-find")}
    return links.address({k: v for k, v in found.items() if v} | finds)


Asked = tuple[tuple[Any, ...], Callable[[], Any], Mapping[str, Any]]
"""A statement: what tells it apart, what makes it, and the values of its parameters."""

Page = Callable[[paging.Segment, Sequence[bool]], Any]


def _edge(values: Sequence[Any]) -> tuple[tuple[bool, ...], dict[str, Any]]:
    """Which values of an edge there are, and all as parameters."""
    given = tuple(value is not None for value in values)
    return given, {paging.parameter(n): value for n, value in enumerate(values)}


class Listing:
    """One page of a list, as the address asks for it.

    Of rows `under` another only those, by a column and its value; `name` tells lists on a
    page apart. With a query `asked` before it loads nothing, and can say what stands beside
    a row.
    """

    def __init__(
        self,
        kind: List,
        *,
        under: tuple[Any, Any] | None = None,
        name: str = _OWN,
        size: int = 0,
        asked: str | None = None,
    ) -> None:
        self.kind = kind
        self.name = name
        sent = request.args.to_dict() if asked is None else dict(parse_qsl(asked))
        self.asked: dict[str, str] = sent
        # Ticks are of this page: no link from it takes them along.
        self.all_chosen = self.asked.pop(_CHOSEN, "") == "all"
        sort = self.asked.get(f"{name}{_SORT}", "")
        self.sort = sort if sort.removeprefix("-") in kind.sorts else kind.first
        self.size = self._size(size)
        self.search = ""
        if kind.search and name == _OWN:
            self.search = self.asked.get(_SEARCH, "").replace("\0", "")[:_LONGEST]
        self.unread: list[str] = []
        if sort and sort != self.sort:
            self.unread.append(f"{name}{_SORT}={sort[:80]}")
        self.conditions = self._conditions() if name == _OWN else {}
        self.columns = self._columns() if name == _OWN else []
        self.under = under
        # Where a filter meets another, or a bin, each row is looked up: counting stops sooner.
        met = len(self.conditions) + (kind.rows.whereclause is not None) > 1
        self.most = counting.MET if self.conditions and met else counting.COUNTED
        self.as_tree = (
            self.asked.get(_AS) == "tree"
            and kind.tree is not None
            and not self.narrowed
        )
        self._is_whole = not (self.narrowed or self.as_tree)
        if asked is not None:
            return
        narrow = kind.narrowing if self.conditions and not self.search else None
        self._by = narrow and narrow(kind, self.sort, self.asked, self.conditions)
        self._few: Any = None
        self.rows, self.first, self._more, self._edges = self._load()

    @cached_property
    def plain(self) -> Any:
        """The rows but for filters; put together only for a statement that is not known yet."""
        rows = self.kind.rows
        if self.under:
            rows = rows.where(prepared.under(*self.under))
        if self.search:
            rows = words.having(rows, self.search, self.kind.search)
        return rows

    @cached_property
    def matching(self) -> Any:
        """All rows that are asked for; of a tree those without any above."""
        given = [*self.conditions.values()]
        if self.as_tree:
            given.append(self.kind.tree.column.is_(None))
        return self.plain.where(*given) if given else self.plain

    def _size(self, size: int) -> int:
        asked = self.asked.get(f"{self.name}{_SIZE}", "")
        return int(asked) if asked in map(str, SIZES) else size or settings.PAGE

    def _conditions(self) -> dict[str, Any]:
        """What is filtered by; what can't be read is told, and left out."""
        found = {}
        for name, one in self.kind.filters.items():
            text = self.asked.get(name, "")
            if not text:
                continue
            try:
                if len(text) > _LONGEST or ONE_LINE.search(text):
                    raise ValueError(text)
                found[name] = one.condition(text)
            except (ValueError, OverflowError):
                self.unread.append(f"{name}={text[:80]}")
        return found

    def _columns(self) -> list[cells.Column]:
        """The columns that are asked for instead of those declared; the first is always there."""
        text = self.asked.get(_COLUMNS, "")
        if not text:
            return []
        first, *rest = self.kind.every
        names = text.split(",")
        found = [one for one in rest if text == "*" or one.path in names]
        unknown = {*names} - {one.path for one in self.kind.every} - {"*"}
        if unknown:
            self.unread.append(f"{_COLUMNS}={','.join(sorted(unknown))[:80]}")
        return [] if [first, *found] == self.kind.declared else [first, *found]

    def _load(self) -> tuple[list[Any], int, bool, list[tuple[Any, ...]]]:
        """The rows; the place of the first; whether more follow; the values at both edges."""
        keys = self.kind.order(self.sort)
        back = bool(self.asked.get(f"{self.name}{_BEFORE}"))
        text = self.asked.get(f"{self.name}{_BEFORE if back else _AFTER}", "")
        start = paging.place(text, [key.column for key in keys]) if text else None
        if start is None:
            back = False
        found = self._some(keys, back, start[1] if start else None)
        more, found = len(found) > self.size, found[: self.size]
        if back:
            found.reverse()
        edges = (
            [tuple(row)[-len(keys) :] for row in (found[0], found[-1])] if found else []
        )
        rows = list(map(self.kind.read, found))
        if start is None:
            return rows, 1, more, edges
        first = max(1, start[0] - len(rows)) if back else start[0]
        # Going back, what follows is known to be there, and what comes before is not.
        return rows, 1 if back and not more else first, back or more, edges

    def _some(
        self, keys: Sequence[paging.Key], back: bool, start: list[Any] | None
    ) -> list[Any]:
        """The rows of a page and one more, from some values of the sorted columns on."""
        stretches = paging.stretches(keys, back, start)
        # A list in one stretch is read the same way however long it is.
        plain = self._is_whole and len(stretches) == 1 and self._leader() is None
        few = plain or self._are_few()

        @cache
        def rows() -> Any:
            if few:
                found = self.matching if self._few is None else self._few
            else:
                # Those of many are met sooner in the order of the list than by a filter.
                led = self._by.led if self._by else partial(self._said, "likely")
                found = led(self.plain)
            return self.kind.joined(found, self.sort)

        def page(segment: paging.Segment | None, given: Sequence[bool]) -> Any:
            told = (rows(), keys, segment, back, given)
            if self._by and not few:
                return self._by.page(self.kind, self.plain, *told)
            return self.kind.page_of(*told, after=few and bool(self.conditions))

        if start is None and not plain and self.counted <= self.size:
            # All of them: no stretch is gone through by itself.
            whole = partial(page, None, ())
            return self._rows(("all", self.sort), whole, {"most": self.size + 1})
        found: list[Any] = []
        for stretch in stretches:
            left = self.size + 1 - len(found)
            led = None if few else self._led(rows, keys, back, stretch, left)
            found += self._of(page, stretch, back, left) if led is None else led
            if len(found) > self.size:
                break
        return found

    def _of(
        self, page: Page, stretch: paging.Stretch, back: bool, most: int
    ) -> list[Any]:
        """Up to so many rows of a stretch."""
        return self._rows(*self._asked_of(page, stretch, back, most))

    def _asked_of(
        self, page: Page, stretch: paging.Stretch, back: bool, most: int
    ) -> Asked:
        number, segment, start = stretch
        given, edge = _edge(start)
        told = ("rows", self.sort, number, back, given)
        return told, partial(page, segment, given), {**edge, "most": most}

    def _leader(self) -> Any:
        """The related rows that the list is gone through by; None where there are none."""
        return self.kind.through and self.kind.through(self.kind, self.sort)

    def _led(
        self,
        rows: Callable[[], Any],
        keys: Sequence[paging.Key],
        back: bool,
        stretch: paging.Stretch,
        most: int,
        *,
        beyond: bool = False,
    ) -> list[Any] | None:
        """The rows of a stretch by what they lead to; None where that is not worth it.

        Those `beyond` what the row of its values leads to, where it is known to have no more.
        """
        number, segment, start = stretch
        leader = self._leader()
        if leader is None or (segment.alone and segment.holds(None)):
            return None

        def some(key: Mapping[str, Any], is_first: bool, most: int) -> list[Any]:
            if is_first and beyond:
                return []
            edge = start if is_first else []
            return self._rows(*self._asked_led(rows, keys, back, edge, key, most))

        def ask(
            asked: tuple[Any, ...], make: Callable[[], Any], values: Mapping[str, Any]
        ) -> list[Any]:
            return self._rows((*asked, self.sort, number), make, values)

        found: list[Any] | None = leader.rows(segment, back, start, some, most, ask)
        return found

    def _asked_led(
        self,
        rows: Callable[[], Any],
        keys: Sequence[paging.Key],
        back: bool,
        start: Sequence[Any],
        key: Mapping[str, Any],
        most: int,
    ) -> Asked:
        """What is asked for so many rows that lead to one, behind some values if any."""
        given, edge = _edge(start)

        def make() -> Any:
            stretch = self._leader().stretch
            return self.kind.page_of(rows(), keys, stretch, back, given)

        told = ("led", self.sort, back, given)
        return told, make, {**edge, **key, "most": most}

    def _rows(
        self, asked: tuple[Any, ...], make: Callable[[], Any], values: Mapping[str, Any]
    ) -> list[Any]:
        """The rows of a statement; those of the whole list are put into words only once."""
        if not self._is_whole:
            return list(session().connection().execute(make(), values))
        if self.under:
            column, key = self.under
            asked, values = (column, *asked), {**values, prepared.UNDER: key}
        return prepared.ask(self.kind.prepared, asked, make, values)

    @cached_property
    def counted(self) -> int:
        """How many rows match, up to where counting stops."""
        if self._by and (told := self._by.counted(self.plain, self.most)):
            count, self._few = told
            return int(count)
        alone = len(self.conditions) == 1
        # Of several the database knows best by which to go.
        said = self._said("unlikely", self.plain) if alone else self.matching
        rows = self._joined(said)
        ((count,),) = self._rows(
            ("count",),
            lambda: sa.select(counting.count(rows, self.kind.model, self.most)),
            {},
        )
        return int(count)

    def _said(self, word: str, rows: Any) -> Any:
        """Rows that match, with a word to the database on how many filters leave."""
        # A boolean gets `= 1` behind it, which hides the condition from its index: wanted
        # where many rows are left, and those are found by the order of the list.
        kind = sa.Boolean() if word == "likely" else sa.Integer()
        first = self.kind.order(self.sort)[0].column if word == "likely" else None
        for name, found in self.conditions.items():
            # Where a list begins within its own order is found by an index.
            leads = self.kind.filters[name].column is first
            told = found if leads else expressions.hinted(word, found, kind)
            rows = rows.where(told)
        return rows

    def _joined(self, rows: Any, *more: str) -> Any:
        """The rows, with what is searched or filtered by joined in, and nothing to be shown."""
        kind = self.kind
        asked = [kind.filters[name].column for name in (*self.conditions, *more)]
        asked += kind.search if self.search else []
        root = sa.inspect(kind.model)
        alone = all(getattr(column, "parent", None) is root for column in asked)
        return rows if alone else kind.joined(rows)

    def _are_few(self) -> bool:
        """Whether so few rows match that it is best to find them all, and to sort them then."""
        alone = len(self.conditions) == 1 and not (self.search or self._by)
        if self.counted <= self.most or not alone:
            return self.counted <= self.most
        # An index tells it alone, where rows in the bin count along.
        rows = self._said("unlikely", sa.select(self.kind.model))
        if self._joined(rows) is not rows:
            return False
        asked = counting.count(rows, self.kind.model, counting.SORTED)
        return int(session().scalar(sa.select(asked)) or 0) <= counting.SORTED

    @property
    def narrowed(self) -> bool:
        """Whether a search or a filter leaves rows out."""
        return bool(self.search or self.conditions)

    @cached_property
    def whole(self) -> dict[Any, Any]:
        """The rows of the page with all that they hold, by their keys."""
        keys = [row.id for row, _ in self.lines]
        rows = cells.whole(self.kind.model, keys, self.columns, shortened=True)
        return {row.id: row for row in rows}

    @cached_property
    def lines(self) -> list[tuple[Any, int]]:
        """The rows as they are shown, each with how far it stands below the first ones."""
        if not self.as_tree:
            return [(row, 0) for row in self.rows]
        return list(self.kind.tree.lines(self.kind, self.rows, self.sort))

    @property
    def place(self) -> str:
        """Which part of its page it is."""
        return "#_listing" if self.name == _OWN else "#_tabbed"

    @cached_property
    def total(self) -> int:
        """How many rows there are, counted only where not all of them are on the page."""
        whole = not self._more and self.first == 1
        return len(self.rows) if whole else self.counted

    @property
    def told(self) -> str:
        """How many there are, or that it is more than were counted."""
        return counting.told(self.total, self.most)

    @property
    def last(self) -> int:
        return self.first + len(self.rows) - 1

    @cached_property
    def earlier(self) -> str:
        """The address of the page before; empty where there is none."""
        if self.first <= 1 or not self.rows:
            return ""
        return self._at(**{_BEFORE: paging.token(self.first, self._edges[0])})

    @cached_property
    def further(self) -> str:
        if not self._more:
            return ""
        return self._at(**{_AFTER: paging.token(self.last + 1, self._edges[1])})

    @property
    def start(self) -> str:
        """The address of the first page."""
        return self._at()

    @cached_property
    def _unplaced(self) -> dict[str, str]:
        """What is asked but for the place in the list."""
        mine = {f"{self.name}{word}" for word in (_AFTER, _BEFORE)}
        return {k: v for k, v in self.asked.items() if k not in mine}

    def _at(self, **place: str) -> str:
        """This list's address at another place, all else the same."""
        there = {f"{self.name}{k}": v for k, v in place.items()}
        return links.address(self._unplaced | there)

    def but(self, /, **changed: str) -> str:
        """The address with some parameters changed, at the first page; empty ones are left out."""
        kept = self._unplaced | changed
        return links.address({k: v for k, v in kept.items() if v})

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
        return self._with_panel("open")

    @property
    def chooses_columns(self) -> bool:
        """Whether the columns to choose from are shown."""
        return self.asked.get(_PANEL) == "columns"

    @property
    def columns_switch(self) -> str:
        return self._with_panel("columns")

    def _with_panel(self, panel: str) -> str:
        """The address with a panel, or without it where it is shown."""
        if self.asked.get(_PANEL) != panel:
            return links.address(self.asked | {_PANEL: panel})
        return links.address({k: v for k, v in self.asked.items() if k != _PANEL})

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
        return self.but(**{name: "" for name in (*self.kind.filters, _SEARCH)})

    @property
    def sizes(self) -> list[tuple[int, str]]:
        return [
            (size, self.but(**{f"{self.name}{_SIZE}": str(size)})) for size in SIZES
        ]

    @property
    def columns_to_choose(self) -> list[tuple[cells.Column, bool]]:
        """Every column but the first, and whether it is shown."""
        shown = self.columns or self.kind.declared
        return [(column, column in shown) for column in self.kind.every[1:]]

    @property
    def tree_switch(self) -> str:
        """The address that shows rows under those they stand below, or as a list again."""
        return self.but(**{_AS: "" if self.as_tree else "tree"})

    @property
    def choose_all(self) -> str:
        """The address that ticks all rows of the page, where there is no script."""
        return links.address(self.asked | {_CHOSEN: "all"})

    @property
    def download(self) -> str:
        return self.but(**{_AS: "csv"})

    @property
    def download_whole(self) -> str:
        """The address of the download of all that a row holds."""
        return self.but(**{_AS: "csv", _COLUMNS: "*"})

    def counts(self, one: Choice) -> dict[str, str]:
        """How many rows each choice would leave, with all other filters as they are."""
        others = [c for name, c in self.conditions.items() if name != one.name]
        rows = self._joined(self.plain.where(*others), one.name)
        return one.counts(rows, self.kind.model)

    def kept(self, *less: str) -> list[tuple[str, str]]:
        """The parameters that a form sends along with its own, which are those of `less`."""
        gone = {f"{self.name}{_AFTER}", f"{self.name}{_BEFORE}", *less}
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
        # On a connection of their own: not every driver reads something else meanwhile.
        engine = current_app.extensions["engine"]
        # Whoever saves it slowly holds the statement up, and may.
        with engine.connect().execution_options(unlimited=True) as aside:
            rows = self._in_order(aside)
            if not self.columns:
                yield from rows
                return
            for some in batched(rows, _FEW):
                keys = [row.id for row in some]
                yield from cells.whole(self.kind.model, keys, self.columns)
                session().expunge_all()

    def _in_order(
        self, connection: sa.Connection, most: int | None = None
    ) -> Iterator[Any]:
        keys = self.kind.order(self.sort)
        rows = self.kind.joined(self.matching, self.sort)
        for segment in paging.segments(keys[0]):
            some = rows if segment.where is None else rows.where(segment.where)
            some = some.order_by(*(key.ordered for key in keys[segment.alone :]))
            if most is None:
                some = some.execution_options(yield_per=_FEW)
            else:
                some = some.limit(most)
            yield from map(self.kind.read, connection.execute(some))

    def keys(self, most: int) -> list[Any]:
        """The keys of rows that match, in order, and no more than so many."""
        rows = self._in_order(session().connection(), most)
        return [row.id for row in islice(rows, most)]


def batched(rows: Iterable[Any], most: int) -> Iterator[list[Any]]:
    """Some rows at a time."""
    left = iter(rows)
    while some := list(islice(left, most)):
        yield some
