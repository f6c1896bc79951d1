"""How rows are shared out among their parents: each one's parent, and each parent's rows.

Both ways are worked out for any rows, none before them: the number of rows is split between the
two halves of the parents, and so on down to one parent, by a number that follows from the place of
the split alone. What all parents get adds up, and each gets what it may.
"""

from __future__ import annotations

import math
from functools import cached_property
from typing import Any, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from .columns import Mask
from .streams import key_of, mixed, permuted, unpermuted

Places = NDArray[np.int64]
_KEPT = 2**22
"""Up to so many parents it is kept where each one's rows begin; for more it is worked out again."""
_FAVOUR = 2.7
"""The shift of the Zipf–Mandelbrot law: how far the first parent stands out."""


NO_END = 1 << 40
"""More rows than there will ever be."""


class Law(NamedTuple):
    """How many rows each parent may get, and by what rule: range, any, evenly or skewed."""

    word: str = "any"
    low: int = 0
    high: int | None = None


class Shared(Protocol):
    """Rows of a model and their parents."""

    def parents(self, index: Places) -> tuple[Places, Mask]:
        """The parent of each row by its number, and which have none."""

    def children(self, parents: Places) -> tuple[Places, Places]:
        """The rows of some parents, and for each the place of its parent among those given."""


class Sharing:
    """`rows` rows from number `start` on, shared out among `have` parents.

    The share `empty` has none. With `unique` no two rows have the same parent.
    """

    def __init__(
        self,
        key: int,
        rows: int,
        have: int,
        law: Law = Law(),
        *,
        empty: float = 0.0,
        start: int = 0,
        unique: bool = False,
    ) -> None:
        # Among other parents, rows are shared out anew.
        self.key, self.rows, self.have, self.start = key_of(key, have), rows, have, start
        self.unique = unique
        none = round(rows * empty)
        if unique:
            none = max(none, rows - have)
        self.none = none if have else rows
        self.total = rows - self.none
        self.law = self._possible(law)

    def _possible(self, law: Law) -> Law:
        """The law, widened as little as the numbers ask for."""
        if not self.have:
            return law
        each = self.total / self.have
        if law.word == "evenly":
            return Law("range", math.floor(each), math.ceil(each))
        high = law.high if law.high is None else max(law.high, math.ceil(each))
        return Law(law.word, min(law.low, math.floor(each)), high)

    def parents(self, index: Places) -> tuple[Places, Mask]:
        if not self.total:
            return np.zeros(len(index), dtype=np.int64), np.ones(len(index), dtype=bool)
        order = permuted((index - self.start) % self.rows, self.rows, self.key) - self.none
        empty: Mask = order < 0
        order = np.maximum(order, 0)
        if self.unique:
            return permuted(order, self.have, key_of(self.key, "each")), empty
        return self._parent_at(order), empty

    def children(self, parents: Places) -> tuple[Places, Places]:
        owner = np.arange(len(parents))
        if not self.total or not len(parents):
            return owner[:0], owner[:0]
        if self.unique:
            first = unpermuted(parents, self.have, key_of(self.key, "each"))
            count = (first < self.total).astype(np.int64)
        else:
            first, count = self._rows_of(parents)
        owner = np.repeat(owner, count)
        within = np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count)
        order = np.repeat(first, count) + within + self.none
        return unpermuted(order, self.rows, self.key) + self.start, owner

    def siblings(self, index: Places) -> tuple[Places, Places]:
        """The place of each row among those of its parent, and how many these are."""
        if not self.total:
            return np.zeros(len(index), dtype=np.int64), np.ones(len(index), dtype=np.int64)
        order = permuted((index - self.start) % self.rows, self.rows, self.key) - self.none
        order = np.maximum(order, 0)
        first, count = self._rows_of(self._parent_at(order))
        return order - first, count

    @property
    def most(self) -> int:
        """The most rows that one parent may have."""
        if self.unique or not self.total:
            return 1
        if self.have <= _KEPT:
            return int(np.diff(np.append(self._begins, self.total)).max())
        return self.total if self.law.high is None else self.law.high

    def _parent_at(self, order: Places) -> Places:
        if self.have <= _KEPT:
            found: Places = np.searchsorted(self._begins, order, side="right").astype(np.int64) - 1
            return found
        return self._descended(lambda first, left, half: order - first < left, len(order))[0]

    def _rows_of(self, parents: Places) -> tuple[Places, Places]:
        """Where the rows of parents begin, and how many there are."""
        if self.have <= _KEPT:
            ends = np.append(self._begins, self.total)
            first = ends[parents].astype(np.int64)
            return first, ends[parents + 1] - first
        _, first, count = self._descended(lambda first, left, half: parents < half, len(parents))
        return first, count

    @cached_property
    def _begins(self) -> NDArray[Any]:
        """The number of the first row of each parent; a parent without rows shares it."""
        size, total, at = np.array([self.have]), np.array([self.total]), np.array([0])
        while size.max() > 1:
            half = (size + 1) // 2
            left = np.where(size > 1, self._left(size, half, total, at), total)
            size = np.stack([half, size - half], axis=1).ravel()
            total = np.stack([left, total - left], axis=1).ravel()
            at = np.stack([at, at + half], axis=1).ravel()
            kept = size > 0
            size, total, at = size[kept], total[kept], at[kept]
        begins: NDArray[Any] = np.cumsum(total) - total
        return begins.astype(np.int32) if self.total < 2**31 else begins

    def _descended(self, goes_left: object, count: int) -> tuple[Places, Places, Places]:
        """The parents that some questions lead to, where each one's rows begin, and how many."""
        size, total = np.full(count, self.have), np.full(count, self.total)
        at, first = np.zeros(count, dtype=np.int64), np.zeros(count, dtype=np.int64)
        while size.max(initial=1) > 1:
            half = (size + 1) // 2
            left = np.where(size > 1, self._left(size, half, total, at), total)
            to_left = goes_left(first, left, at + half) | (size == 1)  # type: ignore[operator]
            at = np.where(to_left, at, at + half)
            first = np.where(to_left, first, first + left)
            total = np.where(to_left, left, total - left)
            size = np.where(to_left, half, size - half)
        return at, first, total

    def _left(self, size: Places, half: Places, total: Places, at: Places) -> Places:
        """How many of `total` rows go to the first `half` of `size` parents from `at` on."""
        rest = size - half
        low, high = self.law.low, self.law.high
        least, most = half * low, total - rest * low
        if high is not None:
            least = np.maximum(least, total - rest * high)
            most = np.minimum(most, half * high)
        words = mixed(at.astype(np.uint64) * np.uint64(64) + _levels(size), self.key)
        fraction = ((words >> np.uint64(11)) + np.uint64(1)) * (2.0**-53 * (1 - 2.0**-40))
        if self.law.word == "range":
            middle = total * (half / size)
            spread = np.sqrt(self._variance(total / size) * half * (rest / size))
        else:
            share = half / size if self.law.word == "any" else _favoured(at, half, size)
            middle, spread = total * share, np.sqrt(total * share * (1 - share))
        # Logistic instead of normal: as good here, and its inverse is a logarithm.
        scale = np.maximum(spread * (math.sqrt(3) / math.pi), 1e-9)
        below = _logistic((least - 0.5 - middle) / scale)
        above = _logistic((most + 0.5 - middle) / scale)
        part = below + fraction * (above - below)
        with np.errstate(divide="ignore", invalid="ignore"):
            drawn = middle + scale * np.log(part / (1 - part))
        if self.law.word == "range":
            # Of two parents all ways to share are alike.
            drawn = np.where(size == 2, least - 0.5 + fraction * (most - least + 1), drawn)
        drawn = np.where(np.isfinite(drawn), drawn, middle)
        found: Places = np.clip(np.rint(drawn), least, most).astype(np.int64)
        return found

    def _variance(self, mean: NDArray[np.float64]) -> NDArray[np.float64]:
        """Of numbers in the range with some mean, none likelier than that asks for."""
        means, variances = self._variances
        return np.interp(mean, means, variances)

    @cached_property
    def _variances(self) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Means and variances of the distributions of greatest entropy (Jaynes, 1957)."""
        low, high = self.law.low, self.law.high
        assert high is not None
        values = np.linspace(low, high, min(high - low, 400) + 1)
        tilts = np.linspace(-30, 30, 241)[:, None] / max(1, high - low)
        weights = np.exp(tilts * (values - (low + high) / 2))
        weights /= weights.sum(axis=1, keepdims=True)
        means = (weights * values).sum(axis=1)
        return means, (weights * (values - means[:, None]) ** 2).sum(axis=1)


def _logistic(values: NDArray[np.float64]) -> NDArray[np.float64]:
    found: NDArray[np.float64] = 1 / (1 + np.exp(-np.clip(values, -500, 500)))
    return found


def _levels(size: Places) -> NDArray[np.uint64]:
    # The same parents begin splits of several sizes: those must not go alike.
    found: NDArray[np.uint64] = np.ceil(np.log2(np.maximum(size, 1))).astype(np.uint64)
    return found


def _favoured(at: Places, half: Places, size: Places) -> NDArray[np.float64]:
    """The share of the first half where earlier parents are favoured (Mandelbrot, 1953)."""
    lower, middle, upper = (np.log1p(x / _FAVOUR) for x in (at, at + half, at + size))
    share: NDArray[np.float64] = (middle - lower) / np.maximum(upper - lower, 1e-300)
    return share


class Tree:
    """Rows of a model that lead to others of it: generation after generation, by their numbers.

    The first generation has no parents, and of the later ones so many that the share `empty` of
    all has none. Those of each lead to rows of the one before.
    """

    def __init__(self, key: int, rows: int, law: Law, *, empty: float) -> None:
        self.rows = rows
        none = round(rows * empty)
        first = min(rows, max(1, none // 2))
        self.ends = _generations(rows, first)
        later = max(0, none - int(self.ends[0])) / max(1, rows - int(self.ends[0]))
        self._of: list[Sharing] = []
        self._chosen: list[Places] = []
        for number in range(1, len(self.ends)):
            begin, end = int(self.ends[number - 1]), int(self.ends[number])
            before = begin - (int(self.ends[number - 2]) if number > 1 else 0)
            part = key_of(key, "generation", number)
            have = before
            if law.word == "range" and law.high:
                # Not all have some: those that do have as many as is asked for.
                wanted = (end - begin) * (1 - later) / max(1.0, (law.low + law.high) / 2)
                have = max(1, min(before, round(wanted)))
            sharing = Sharing(part, end - begin, have, law, empty=later, start=begin)
            self._of.append(sharing)

    def generation(self, index: Places) -> Places:
        found: Places = np.searchsorted(self.ends, index, side="right").astype(np.int64)
        return np.minimum(found, len(self.ends) - 1)

    def slices(self, index: Places) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The part of all rows that those of each row's generation are: where it begins, and ends."""
        number = self.generation(index)
        ends = np.concatenate([[0], self.ends]) / max(1, self.rows)
        return ends[number], ends[number + 1]

    def parents(self, index: Places) -> tuple[Places, Mask]:
        found = np.zeros(len(index), dtype=np.int64)
        empty = np.ones(len(index), dtype=bool)
        numbers = self.generation(index)
        for number, sharing in enumerate(self._of, 1):
            at = np.flatnonzero(numbers == number)
            if not at.size:
                continue
            ranks, none = sharing.parents(index[at])
            found[at] = self._row(number, ranks)
            empty[at] = none
        return found, empty

    def children(self, parents: Places) -> tuple[Places, Places]:
        numbers = self.generation(parents)
        rows: list[Places] = [np.zeros(0, dtype=np.int64)]
        owners: list[Places] = [np.zeros(0, dtype=np.int64)]
        for number, sharing in enumerate(self._of, 1):
            at = np.flatnonzero(numbers == number - 1)
            ranks = self._rank(number, parents[at])
            kept = ranks < sharing.have
            found, owner = sharing.children(ranks[kept])
            rows.append(found)
            owners.append(at[kept][owner])
        return np.concatenate(rows), np.concatenate(owners)

    def _span(self, number: int) -> tuple[int, int]:
        """The first row of the generation before one, and how many it has."""
        begin = int(self.ends[number - 2]) if number > 1 else 0
        return begin, int(self.ends[number - 1]) - begin

    def _row(self, number: int, ranks: Places) -> Places:
        begin, size = self._span(number)
        return permuted(ranks, size, key_of(self._of[number - 1].key, "ranks")) + begin

    def _rank(self, number: int, rows: Places) -> Places:
        begin, size = self._span(number)
        return unpermuted(rows - begin, size, key_of(self._of[number - 1].key, "ranks"))


def _generations(rows: int, first: int) -> Places:
    """Where each generation ends: sizes grow, or shrink, by one factor; a row or more in each."""
    depth = 1 + min(9, max(1, round(math.log(max(rows, 2)) / math.log(6))))
    depth = min(depth, rows, 1 + rows - first) or 1
    low, high = 0.01, float(max(2, rows))
    for _ in range(80):
        factor = (low + high) / 2
        if first * sum(factor**n for n in range(depth)) < rows:
            low = factor
        else:
            high = factor
    sizes = [max(1.0, first * low**number) for number in range(depth)]
    ends = np.rint(np.cumsum(sizes) * (rows / sum(sizes))).astype(np.int64)
    ends[-1] = rows
    return np.unique(np.maximum.accumulate(np.clip(ends, min(1, rows), rows)))


class Chain:
    """Rows that lead each to the one before: where no two may have the same."""

    def __init__(self, key: int, rows: int, *, empty: float) -> None:
        self.key, self.rows, self.share = key, rows, empty

    def parents(self, index: Places) -> tuple[Places, Mask]:
        words = mixed(index.astype(np.uint64), self.key)
        empty: Mask = ((words >> np.uint64(11)) * 2.0**-53 < self.share) | (index == 0)
        return np.maximum(index - 1, 0), empty

    def children(self, parents: Places) -> tuple[Places, Places]:
        at = np.flatnonzero(parents + 1 < self.rows)
        _, empty = self.parents(parents[at] + 1)
        at = at[~empty]
        return parents[at] + 1, at


class Picked:
    """A sharing among some of the parents alone: `there` are their positions, in order."""

    def __init__(self, sharing: Sharing, there: Places) -> None:
        self.sharing, self.there = sharing, there

    def parents(self, index: Places) -> tuple[Places, Mask]:
        ranks, empty = self.sharing.parents(index)
        return (self.there[ranks].astype(np.int64) if len(self.there) else ranks), empty

    def children(self, parents: Places) -> tuple[Places, Places]:
        ranks = np.searchsorted(self.there, parents)
        kept = np.flatnonzero(
            (ranks < len(self.there))
            & (self.there[np.minimum(ranks, len(self.there) - 1)] == parents)
            if len(self.there)
            else np.zeros(len(parents), dtype=bool)
        )
        found, owner = self.sharing.children(ranks[kept])
        return found, kept[owner]
