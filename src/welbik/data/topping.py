"""Rows added beside stored ones: parents that have too few get theirs first, and none gets too many."""

from __future__ import annotations

import numpy as np

from .columns import Mask
from .sharing import Law, Places
from .streams import mixed, permuted


class Topping:
    """`rows` rows from number `start` on, for parents that have `there` rows each; see `sharing.Shared`.

    The share `empty` has none. What a law has no room for is shared out by chance.
    """

    def __init__(
        self, key: int, rows: int, there: Places, law: Law, *, empty: float = 0.0, start: int = 0
    ) -> None:
        self.key, self.rows, self.have, self.start = key, rows, len(there), start
        turn = permuted(np.arange(rows), rows, key)
        given = rows - round(rows * empty)
        self.none: Mask = turn >= given
        chosen = _slots(key, given, there, law)
        self.of = np.zeros(rows, dtype=np.int64)
        self.of[~self.none] = chosen[turn[~self.none]]

    def parents(self, index: Places) -> tuple[Places, Mask]:
        at = index - self.start
        inside = (at >= 0) & (at < self.rows)
        at = np.where(inside, at, 0)
        # Rows that stand in for others are more than were reckoned with.
        other = mixed(index.astype(np.uint64), self.key) % np.uint64(self.have)
        found = np.where(inside, self.of[at], other.astype(np.int64))
        return found, np.where(inside, self.none[at], False)

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


def _slots(key: int, wanted: int, there: Places, law: Law) -> Places:
    """So many parents, one for each row: first what they lack, then what they may have, then any."""
    have = len(there)
    lack = np.maximum(law.low - there, 0)
    most = np.full(have, law.high) if law.high is not None else there + lack + wanted
    room = np.maximum(most - np.maximum(there, law.low), 0)
    found, left = [], wanted
    for number, some in enumerate((lack, room)):
        places = np.repeat(np.arange(have), np.minimum(some, left))
        mixed_up = places[permuted(np.arange(len(places)), max(1, len(places)), key + number)]
        found.append(mixed_up[:left])
        left -= len(found[-1])
    over = mixed(np.arange(left).astype(np.uint64), key) % np.uint64(have)
    return np.concatenate([*found, over.astype(np.int64)])
