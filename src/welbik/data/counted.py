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
from .columns import Drawn, Mask, as_column
from .families import Family, StoredParents, family_of, parents_of, stored_rows
from .gathered import Counted
from .isolating import With
from .raw import Cut, Places
from .spreads import Units
from .streams import key_of, mixed
from .totalled import units_of

_TRIES = 48
_ROUNDS = 8
# More than there are rules over one field: fixed rows come before all that others count.
_MANY = 1000
Draw = Callable[[Any, int], Drawn]
"""Draws the field for some rows, the so-many-th time."""


def within_counts(
    rows: Cut, member: Field, asked: Sequence[Counted], drawn: Drawn, draw: Draw, turn: int
) -> Drawn:
    """A column of a field of which rules of the parent say how many are of a kind; one parent's alone.

    Each turn chooses others of the rows.
    """
    whole = family_of(rows, asked[0].via)
    if whole is None:
        return drawn
    family = rows.other(rows.model, whole.numbers)
    counting = _Counting(rows, member, whole, family, draw, turn)
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


def within_kinds(
    rows: Cut,
    member: Field,
    counted: Sequence[Counted],
    drawn: Drawn,
    ends: tuple[Units, Units],
) -> tuple[Units, Units]:
    """The ends of what a field may be in each row, as far as it stays of the kinds of which there must be
    enough, and comes to be of none of which there may be too many.

    What may be lies on one side of where a kind begins, found by halving.
    """
    if not counted:
        return ends
    spread = rows.drawer.spread(rows.model, member)
    assert spread is not None
    units = units_of(rows, member, drawn)

    def kinds(at: Units) -> list[Mask]:
        values = Drawn(member.kind.drawn(at, spread.reach.places), drawn.empty)
        tried = With(rows, member.name, as_column(rows.model, member.name, values))
        return [_is_met(tried, rows, one) for one in counted]

    here = kinds(units)
    sides = [{clause.upper for clause in (*one.clauses, *one.beside)} for one in counted]

    def may_be(at: Units) -> Mask:
        fine = np.ones(rows.size, dtype=bool)
        for before, now, upper in zip(here, kinds(at), sides, strict=True):
            fine &= (now <= before) if True in upper else True
            fine &= (now >= before) if False in upper else True
        return fine

    low, high = (_furthest(units, end, may_be) for end in ends)
    return low, high


def _furthest(units: Units, end: Units, may_be: Callable[[Units], Mask]) -> Units:
    """The last value on the way to an end, before one that may not be."""
    free = may_be(end)
    good, past = np.where(free, end, units), end
    while (apart := ~free & (np.abs(past - good) > 1)).any():
        middle = good + (past - good) // 2
        held = may_be(np.where(apart, middle, units))
        good = np.where(apart & held, middle, good)
        past = np.where(apart & ~held, middle, past)
    return good


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

    def __init__(
        self, rows: Cut, member: Field, whole: Family, family: Any, draw: Draw, turn: int
    ) -> None:
        self.rows, self.member, self.whole = rows, member, whole
        self.family, self.draw, self.turn = family, draw, turn
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
        for attempt in range(_ROUNDS):
            order = kinds if attempt % 4 < 2 else kinds[::-1]
            for at, kind in enumerate(order):
                others = [one for one in kinds if one is not kind]
                # Two rows may have to change places: every other time those that come later give way.
                heeded = order[:at] if attempt % 2 else others
                self._lessen(kind, others, heeded, attempt)
                self._add(kind, others, heeded, attempt)
            if all(kind.is_kept(self.whole.owner) for kind in kinds):
                return

    def _lessen(
        self, kind: _Kind, others: Sequence[_Kind], heeded: Sequence[_Kind], attempt: int
    ) -> None:
        over = self._first(kind, kind.met, kind.most, others, tied_first=True)
        over = kind.met & ~over & ~self.family.fixed
        over &= (kind.count(self.whole.owner) > kind.most)[self.whole.owner]
        self._again(np.flatnonzero(over), kind, others, heeded, attempt, want=False)

    def _add(
        self, kind: _Kind, others: Sequence[_Kind], heeded: Sequence[_Kind], attempt: int
    ) -> None:
        owner = self.whole.owner
        lacks = np.maximum(kind.least - kind.count(owner), 0)
        some = ~kind.met & (lacks > 0)[owner] & ~self.family.fixed
        self._again(np.flatnonzero(some), kind, others, heeded, attempt, want=True, lacks=lacks)

    def _first(
        self,
        kind: _Kind,
        some: Mask,
        most: Units,
        others: Sequence[_Kind],
        *,
        tied_first: bool = False,
    ) -> Mask:
        """Of some rows those that come first, no more than so many of each parent.

        Those that other rules count come last, or first.
        """
        words = (self.rows.model.name, str(kind.asked.node), *([self.turn] if self.turn else []))
        key = key_of(self.rows.drawer.seed, *words)
        chance = mixed(self.whole.numbers.astype(np.uint64), key).astype(np.float64)
        tied = np.sum([one.met for one in others], axis=0) if others else np.zeros(len(some))
        rank = np.where(self.family.fixed, -_MANY, -tied if tied_first else tied)
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
        heeded: Sequence[_Kind],
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
            for one in heeded:
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
