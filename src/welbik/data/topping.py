"""Rows added beside stored ones: parents that have too few get theirs first, and none gets too many."""

from __future__ import annotations

import numpy as np

from .columns import Mask
from .sharing import NO_END, Places
from .streams import mixed, permuted

_APART = 13
_IN_STEAD = 100
"""So many rows may stand in for others, beside as many as there are."""


class Topping:
    """`rows` rows from number `start` on, for parents that have `there` rows each; see `sharing.Shared`.

    They are to have `least` to `most`. The share `empty` has none. `room` says how many more each may get at the most. What there is no
    room for is shared out by chance, or has no parent where rows may be without.
    """

    def __init__(
        self,
        key: int,
        rows: int,
        there: Places,
        least: Places,
        most: Places,
        *,
        empty: float = 0.0,
        start: int = 0,
        room: Places | None = None,
        required: bool = True,
    ) -> None:
        self.key, self.rows, self.have, self.start = key, rows, len(there), start
        turn = permuted(np.arange(rows), rows, key)
        given = rows - round(rows * empty)
        chosen = _slots(key, given + rows + _IN_STEAD, there, least, most, room)
        chosen, self.others = chosen[:given], chosen[given:]
        self.required = required
        if required:
            over = self._any(np.arange(given - len(chosen)))
            chosen = np.concatenate([chosen, over])
        self.none: Mask = turn >= len(chosen)
        self.of = np.zeros(rows, dtype=np.int64)
        self.of[~self.none] = chosen[turn[~self.none]]

    def parents(self, index: Places) -> tuple[Places, Mask]:
        at = index - self.start
        inside = (at >= 0) & (at < self.rows)
        # Rows that stand in for others are more than were reckoned with: they take what room is left.
        left = len(self.others)
        beyond = np.where(inside, 0, at - self.rows)
        free = (beyond >= 0) & (beyond < left)
        other = self._any(index)
        if left:
            other = np.where(free, self.others[np.where(free, beyond, 0)], other)
        at = np.where(inside, at, 0)
        none = np.full(len(index), not self.required) & ~free
        return np.where(inside, self.of[at], other), np.where(inside, self.none[at], none)

    def another(self, index: Places, attempt: int) -> Places:
        """Other parents of rows, of those that have room left where any has."""
        if not len(self.others):
            return self.parents(index)[0]
        return self.others[(index - self.start + attempt * _APART) % len(self.others)]

    def _any(self, numbers: Places) -> Places:
        """Parents by chance, whatever room they have."""
        found = mixed(numbers.astype(np.uint64), self.key) % np.uint64(self.have)
        return found.astype(np.int64)

    def siblings(self, index: Places) -> tuple[Places, Places]:
        """The place of each row among the new ones of its parent, and how many there are."""
        at = np.clip(index - self.start, 0, self.rows - 1)
        order = np.argsort(self.of, kind="stable")
        count = np.bincount(self.of, minlength=self.have)
        place = np.empty(self.rows, dtype=np.int64)
        place[order] = np.arange(self.rows) - np.repeat(np.cumsum(count) - count, count)
        return place[at], count[self.of[at]]

    def children(self, parents: Places) -> tuple[Places, Places]:
        place = np.full(self.have, -1, dtype=np.int64)
        place[parents] = np.arange(len(parents))
        owner = np.where(self.none, -1, place[self.of])
        rows = np.flatnonzero(owner >= 0)
        return rows + self.start, owner[rows]


def _slots(
    key: int, wanted: int, there: Places, least: Places, most: Places, room: Places | None
) -> Places:
    """Up to so many parents, one for each row: first what they lack, then what they may have."""
    have = len(there)
    free = np.full(have, wanted) if room is None else np.minimum(room, wanted)
    # What they must have goes before what they were found to have no room for.
    lack = np.minimum(np.maximum(least - there, 0), wanted)
    free = np.maximum(free, lack)
    most = np.where(most < NO_END, most, there + lack + wanted)
    more = np.minimum(np.maximum(most - np.maximum(there, least), 0), free - lack)
    found: list[Places] = []
    for number, some in enumerate((lack, more)):
        left = wanted - sum(map(len, found))
        places = np.repeat(np.arange(have), _of_use(some, left))
        mixed_up = places[permuted(np.arange(len(places)), max(1, len(places)), key + number)]
        found.append(mixed_up[:left])
    return np.concatenate(found)


def _of_use(room: Places, wanted: int) -> Places:
    """Room for so many rows: where each parent has more than that, all of it would fill the memory."""
    each = 2 * wanted // max(1, len(room)) + 1
    while np.minimum(room, each).sum() < min(wanted, room.sum()):
        each *= 2
    return np.minimum(room, each)
