"""The pairs that a fill stores: those that break a rule are drawn anew, or taken away again."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from typing import Any

import numpy as np

from ..rules.tree import Aggregate, Apply, Node, walk
from ..schema.model import Many, Model, Rule
from ..schema.pairs import pairs_read
from ..schema.tables import SchemaNames
from ..storage.backend import Database
from .making import BATCH
from .pairs import Size, pairs_of, range_of
from .raw import Places, RawDrawer
from .streams import key_of, mixed
from .verify import Broken

_TRIES = 40
_SOME = 500
_FAR = 2**40
_GROWS = {"count": True, "sum": True, "max": True, "min": False}
"""Whether a function of a row's pairs comes to more where there are more."""
_LESS = 3
"""Of a row that has too many a third is taken away at once, one at least."""


class Pairing:
    """A relation to many whose pairs are made for `mine`, the keys of rows in the order they were made in.

    The first of these has the number `first`.
    """

    def __init__(
        self, database: Database, drawer: RawDrawer, model: Model, many: Many, first: int
    ) -> None:
        self.database, self.drawer = database, drawer
        self.model, self.many, self.first = model, many, first
        self.target = drawer.schema.models[many.target]
        self.mine: Any = ()
        self.theirs = self.keys(self.target, live="bin" in self.target.keeps)

    def keys(self, model: Model, *, live: bool = False) -> Any:
        """The keys of all stored rows of a model."""
        key = SchemaNames(self.drawer.schema).key(model.name)
        found = self.database.values(model.table, key, live=live)
        world = self.drawer.world
        order = None if world is None else world.order_of(model, found)
        found = found if order is None else [found[at] for at in order]
        return np.array(found, dtype=np.int64 if model.numbered else object)

    @cached_property
    def _plain(self) -> Sequence[Any]:
        """The keys of these rows as drivers take them."""
        return self.mine if isinstance(self.mine, range) else np.asarray(self.mine).tolist()

    def store(self) -> None:
        """Stores the pairs as they are first drawn, some at a time."""
        for begin in range(0, len(self.mine), BATCH):
            self._draw(np.arange(begin, min(begin + BATCH, len(self.mine))))

    def within(self, asked: Callable[[], Iterable[Broken]]) -> list[str]:
        """Changes the pairs until no rule is broken that `asked` tells of; returns remarks.

        Raises WelbikError where there is none to change any more.
        """
        broken, bare = list(asked()), list[str]()
        for attempt in range(1, _TRIES + 2):
            if not any(one.model in (self.model, self.target) for one in broken):
                break
            if attempt > _TRIES:
                bare = [
                    f"{len(one.keys):,} {one.model.name} are left without pairs: {one.rule.text}"
                    for one in broken
                ]
            self._change(broken, attempt)
            broken = list(asked())
        for one in broken:
            raise one.error(one.model.name)
        return bare

    def _change(self, broken: Sequence[Broken], attempt: int) -> None:
        """Changes pairs of rows that break a rule."""
        for one in broken:
            wish: Size = "any" if attempt % 6 == 0 else self._wish(one.rule)
            if one.model is self.model:
                self._anew(one.keys, attempt, wish)
            elif one.model is self.target:
                self._of_others(one.keys, attempt, wish)

    def _wish(self, rule: Rule) -> Size:
        """Whether a rule that is broken asks for more pairs or for fewer, as far as its form tells."""

        def reads(node: Node) -> bool:
            return self.many.table in pairs_read(self.drawer.schema, node)

        wishes = set(_wishes(rule.node, reads))
        return wishes.pop() if len(wishes) == 1 else "any"

    def _draw(self, at: Places, attempt: int = 0, size: Size = "any") -> None:
        """Stores pairs of some of these rows, by their places."""
        if not len(self.theirs) or not len(at):
            return
        rows = (len(self.mine), self.first)
        index, have = at + self.first, len(self.theirs)
        asked = (self.drawer, self.model, self.many, index, have, rows, attempt, size)
        owners, others = pairs_of(*asked)
        mine = (
            np.asarray(self.mine)[at] if not isinstance(self.mine, range) else at + self.mine.start
        )
        self._insert(mine[owners].tolist(), self.theirs[others].tolist())

    def _insert(self, mine: list[Any], theirs: list[Any]) -> None:
        if mine:
            names = [self.many.column, self.many.target_column]
            self.database.insert(self.many.table, names, [mine, theirs])

    def _anew(self, keys: Iterable[object], attempt: int, wish: Size) -> None:
        """Other pairs for some rows of these; at last none, where they need none."""
        if attempt > _TRIES and self.many.required:
            return
        wanted = set(keys)
        at = np.array([n for n, key in enumerate(self._plain) if key in wanted], dtype=np.int64)
        for some in _in_lots([self._plain[n] for n in at.tolist()]):
            self._run(f"DELETE FROM {{table}} WHERE {{mine}} IN ({self._marks(some)})", some)
        if attempt <= _TRIES:
            self._draw(at, attempt, wish)

    def _of_others(self, keys: Iterable[object], attempt: int, wish: Size) -> None:
        """Fewer pairs of rows that these are paired with, or more, or others."""
        inverse = self.target.by_name.get(self.many.other)
        low, high = 0, _FAR
        if isinstance(inverse, Many):
            low, high = range_of(self.drawer.schema, self.target, inverse, most=_FAR)
        mine, taken, given = set(self._plain), [], []
        for some in _in_lots(sorted(keys, key=str)):
            led: dict[object, list[object]] = {key: [] for key in some}
            sql = f"SELECT {{read}} FROM {{table}} WHERE {{theirs}} IN ({self._marks(some)})"
            for own, other in self._run(sql, some):
                led[other].append(own)
            has = self._has(list({own for owners in led.values() for own in owners}))
            for other, owners in led.items():
                # Those that have the most can do without one.
                ours = sorted(mine.intersection(owners), key=lambda own: (has[own], str(own)))
                less, more = _changed(len(owners), len(ours), wish, low, high)
                if attempt > _TRIES:
                    less, more = len(ours), 0
                taken += [(own, other) for own in ours[len(ours) - less :]]
                given += [(own, other) for own in self._more(other, owners, more, attempt)]
        for pair in taken:
            mark = self.database.mark
            self._run(
                f"DELETE FROM {{table}} WHERE {{mine}} = {mark} AND {{theirs}} = {mark}", pair
            )
        self._insert([own for own, _ in given], [other for _, other in given])

    def _more(
        self, other: object, owners: Sequence[object], lacks: int, attempt: int
    ) -> Iterator[object]:
        """So many rows of these to pair with another one, besides those that are."""
        if not lacks or not self._plain:
            return
        key = key_of(self.drawer.seed, self.model.name, self.many.name, str(other), attempt)
        words = mixed(np.arange(8 * lacks, dtype=np.uint64), key).tolist()
        offered = dict.fromkeys(self._plain[int(word) % len(self._plain)] for word in words)
        some = [own for own in offered if own not in owners]
        has = self._has(some)
        high = range_of(self.drawer.schema, self.model, self.many, most=_FAR)[1]
        yield from [own for own in some if has[own] < high][:lacks]

    def _has(self, mine: Sequence[object]) -> Counter[object]:
        """How many pairs rows of these have."""
        found: Counter[object] = Counter()
        for some in _in_lots(mine):
            sql = f"SELECT {{read}} FROM {{table}} WHERE {{mine}} IN ({self._marks(some)})"
            found.update(own for own, _ in self._run(sql, some))
        return found

    def _marks(self, values: Sequence[object]) -> str:
        return ", ".join([self.database.mark] * len(values))

    def _run(self, sql: str, values: Sequence[object]) -> list[tuple[Any, ...]]:
        """Runs a statement over the table of pairs."""
        many, database = self.many, self.database
        columns = (many.column, many.target_column)
        read = ", ".join(database.read(many.table, column) for column in columns)
        words = {"table": many.table, "mine": many.column, "theirs": many.target_column}
        named = {word: database.name(name) for word, name in words.items()}
        read = read.replace("%", "%%") if database.mark == "%s" else read
        return database.run(sql.format(**named, read=read), values)


def _wishes(node: Node, reads: Callable[[Node], bool], is_true: bool = True) -> Iterator[Size]:
    """What an expression asks for of the pairs that `reads` tells of, for it to be true or false."""
    if not isinstance(node, Apply):
        return
    if node.word not in ("<", "<="):
        for part in node.operands if node.word in ("and", "or", "not") else ():
            yield from _wishes(part, reads, is_true != (node.word == "not"))
        return
    for side, operand in enumerate(node.operands):
        for found in walk(operand):
            if isinstance(found, Aggregate) and reads(found):
                grows = _GROWS.get(found.function)
                # What grows with the pairs is too large on the left, too small on the right.
                on_right = bool(side) == is_true
                yield "any" if grows is None else "most" if grows == on_right else "fewest"


def _changed(all_of_it: int, ours: int, wish: Size, low: int, high: int) -> tuple[int, int]:
    """How many pairs of a row are taken away, of ours alone, and how many given."""
    if all_of_it < low:
        return 0, low - all_of_it
    if all_of_it > high:
        return min(ours, all_of_it - high), 0
    if wish == "most":
        return 0, min(high - all_of_it, max(1, all_of_it // 2))
    if wish == "fewest":
        return min(ours, max(1, ours // _LESS)), 0
    return ours, ours


def _in_lots(values: Sequence[Any]) -> Iterator[Sequence[Any]]:
    for begin in range(0, len(values), _SOME):
        yield values[begin : begin + _SOME]
