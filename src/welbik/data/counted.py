"""Rows that a rule of their parent counts by what they hold: as many of a kind as it asks for.

They are drawn as if there were no such rule. Where a parent has too many of a kind some, told by chance,
are drawn again until they are of it no more; where it has too few, until enough others are.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..schema.model import Field
from .bounding import ends_of
from .columns import Drawn, Mask
from .families import Family, StoredParents, family_of, parents_of, stored_rows
from .gathered import Counted
from .raw import Cut, Places
from .spreads import Units
from .streams import key_of, mixed

_TRIES = 48
Draw = Callable[[Any, int], Drawn]
"""Draws the field for some rows, the so-many-th time."""


def within_counts(
    rows: Cut, member: Field, asked: Sequence[Counted], drawn: Drawn, draw: Draw
) -> Drawn:
    """A column of a field of which rules of the parent say how many are of a kind; one parent's alone."""
    whole = family_of(rows, asked[0].via)
    if whole is None:
        return drawn
    family = rows.other(rows.model, whole.numbers)
    counting = _Counting(rows, member, whole, family, draw)
    kinds = [counting.kind(one) for one in asked]
    if all(kind.is_kept(whole.owner) for kind in kinds):
        return drawn
    counting.settle(kinds)
    known, places = whole.places(rows)
    mine = np.zeros(rows.size, dtype=bool) if drawn.empty is None else drawn.empty
    out = np.where(known, counting.empty[places], mine)
    found = drawn.values.copy()
    found[known] = counting.values[places][known]
    return Drawn(found, out if out.any() else None)


@dataclass
class _Kind:
    """What a rule counts: which rows are `met`, and between how many each parent is to have.

    Those of stored rows are taken off both ends already.
    """

    asked: Counted
    met: Mask
    least: Units
    most: Units

    def count(self, owner: Places) -> Units:
        return np.bincount(owner[self.met], minlength=len(self.most)).astype(np.int64)

    def is_kept(self, owner: Places) -> bool:
        count = self.count(owner)
        return bool(((count <= self.most) & (count >= self.least)).all())


class _Counting:
    """The rows of some parents, with the field as it is drawn so far."""

    def __init__(self, rows: Cut, member: Field, whole: Family, family: Any, draw: Draw) -> None:
        self.rows, self.member, self.whole, self.family, self.draw = (
            *(rows, member, whole),
            *(family, draw),
        )
        self.above = parents_of(rows, whole, family)
        held = draw(family, 0)
        self.values = held.values.copy()
        self.empty = np.zeros(family.size, dtype=bool) if held.empty is None else held.empty.copy()
        family.drawn[member.name] = Drawn(self.values, self.empty)

    def kind(self, asked: Counted) -> _Kind:
        size = np.bincount(self.whole.owner, minlength=self.above.size).astype(np.int64)
        there = np.zeros(self.above.size, dtype=np.int64)
        if isinstance(self.above, StoredParents):
            stored, owner, kept = stored_rows(self.rows, asked.via, self.above)
            kept &= _is_met(stored, self.rows, asked)
            there = np.bincount(owner[kept], minlength=self.above.size).astype(np.int64)
        reach = np.zeros(self.above.size, dtype=np.int64), size + there
        least, most = ends_of(self.above, self.member, asked, 0, reach)
        met = _is_met(self.family, self.rows, asked)
        return _Kind(asked, met, least - there, most - there)

    def settle(self, kinds: Sequence[_Kind]) -> None:
        """Brings the counts between their ends, as far as that can be."""
        for attempt in range(len(kinds) + 1):
            for kind in kinds:
                others = [one for one in kinds if one is not kind]
                self._lessen(kind, others, attempt)
                self._add(kind, others, attempt)
            if all(kind.is_kept(self.whole.owner) for kind in kinds):
                return

    def _lessen(self, kind: _Kind, others: Sequence[_Kind], attempt: int) -> None:
        over = self._first(kind, kind.met, kind.most, others)
        over = kind.met & ~over & ~self.family.fixed
        over &= (kind.count(self.whole.owner) > kind.most)[self.whole.owner]
        self._again(np.flatnonzero(over), kind, others, attempt, want=False)

    def _add(self, kind: _Kind, others: Sequence[_Kind], attempt: int) -> None:
        owner = self.whole.owner
        lacks = np.maximum(kind.least - kind.count(owner), 0)
        some = ~kind.met & (lacks > 0)[owner] & ~self.family.fixed
        self._again(np.flatnonzero(some), kind, others, attempt, want=True, lacks=lacks)

    def _first(self, kind: _Kind, some: Mask, most: Units, others: Sequence[_Kind]) -> Mask:
        """Of some rows those that come first, no more than so many of each parent."""
        key = key_of(self.rows.drawer.seed, self.rows.model.name, str(kind.asked.node))
        chance = mixed(self.whole.numbers.astype(np.uint64), key).astype(np.float64)
        # Fixed rows stay as they are, and what another rule counts rather does.
        tied = np.sum([one.met for one in others], axis=0) if others else np.zeros(len(some))
        rank = np.where(self.family.fixed, -1, tied)
        at = np.flatnonzero(some)
        at = at[np.lexsort((chance[at], rank[at], self.whole.owner[at]))]
        owner = self.whole.owner[at]
        place = np.arange(len(at)) - np.searchsorted(owner, owner, side="left")
        found = np.zeros(len(some), dtype=bool)
        found[at] = place < most[owner]
        return found

    def _again(
        self,
        at: Places,
        kind: _Kind,
        others: Sequence[_Kind],
        attempt: int,
        *,
        want: bool,
        lacks: Units | None = None,
    ) -> None:
        """Draws rows again until they are of a kind, or of it no more; of those that `lacks` only so many."""
        found = np.zeros(self.family.size, dtype=bool)
        values, empty = self.values.copy(), self.empty.copy()
        for number in range(1, _TRIES + 1):
            if lacks is not None:
                enough = np.bincount(self.whole.owner[found], minlength=len(lacks)) >= lacks
                at = at[~enough[self.whole.owner[at]]]
            if not len(at):
                break
            some = self.family.some(at)
            del some.drawn[self.member.name]
            again = self.draw(some, attempt * _TRIES + number)
            values[at] = again.values
            empty[at] = False if again.empty is None else again.empty
            some.drawn[self.member.name] = again
            good = _is_met(some, self.rows, kind.asked) == want
            for one in others:
                good &= self._is_fine(one, _is_met(some, self.rows, one.asked), at)
            found[at[good]] = True
            at = at[~good]
        if lacks is not None:
            found = self._first(kind, found, lacks, others)
        self.values[found], self.empty[found] = values[found], empty[found]
        kind.met[found] = want
        for one in others:
            one.met[:] = _is_met(self.family, self.rows, one.asked)

    def _is_fine(self, kind: _Kind, met: Mask, at: Places) -> Mask:
        """Where rows that come to be of another kind, or no longer are, leave that within its ends."""
        owner = self.whole.owner[at]
        count = kind.count(self.whole.owner)[owner]
        more, less = met & ~kind.met[at], ~met & kind.met[at]
        fine: Mask = ~(more & (count >= kind.most[owner])) & ~(less & (count <= kind.least[owner]))
        return fine


def _is_met(rows: Any, whose: Cut, asked: Counted) -> Mask:
    held = whose.arrays.evaluate(asked.where, rows)
    met: Mask = held.values.astype(bool) & ~held.empty
    return met
