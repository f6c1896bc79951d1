"""Values of rows under a rule of their parent that can't be solved for them: moved until it holds.

All rows of a parent go the same part of their way to one end of what they may be: the smallest part,
found by halving, with which the rule holds.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from ..rules.arrays import Column
from ..rules.tree import Hop
from ..schema.model import Field
from .columns import Drawn, Mask, as_column
from .families import Family, Joined, StoredParents, family_of, parents_of
from .gathered import Total
from .isolating import With
from .raw import Cut, Places
from .spreads import Units
from .streams import key_of, mixed
from .totals import units_of

_HALVINGS = 30
_ROOM = 0.2
"""The part of what a rule leaves within which rows are put that it would not let be."""


class _Gathered:
    """Parents with some rows in the place of those that a reference leads to."""

    def __init__(self, above: Any, via: tuple[str, str], rows: Any, owner: Places) -> None:
        self.above, self.via, self.rows, self.owner = above, via, rows, owner

    @property
    def size(self) -> int:
        return int(self.above.size)

    def column(self, name: str) -> Column:
        column: Column = self.above.column(name)
        return column

    def near(self, positions: Places) -> tuple[Any, Places]:
        return self, positions

    def follow(self, reference: str) -> Any:
        return self.above.follow(reference)

    def children(self, hop: Hop) -> tuple[Any, Places]:
        if (hop.model, hop.via) != self.via:
            found: tuple[Any, Places] = self.above.children(hop)
            return found
        if not isinstance(self.above, StoredParents):
            return self.rows, self.owner
        stored, owner = self.above.stored_children(hop)
        return Joined(stored, self.rows), np.append(owner, self.owner)


def leaned(
    rows: Cut,
    member: Field,
    total: Total,
    drawn: Drawn,
    ends: Callable[[Cut], tuple[Units, Units]],
    draw: Callable[[Cut], Drawn],
) -> Drawn:
    """A column of a field with the rows of each parent where a rule of that holds; see `within_totals`."""
    drawer = rows.drawer
    whole, spread = family_of(rows, total.via), drawer.spread(rows.model, member)
    if whole is None or spread is None:
        return drawn
    family = rows.other(rows.model, whole.numbers)
    first = draw(family)
    trial = _Trial(rows, member, total, whole, family, first)
    units = units_of(rows, member, first)
    bad = trial.broken(units)
    if not bad.any():
        return drawn
    words = mixed(
        whole.parents.astype(np.uint64), key_of(drawer.seed, total.parent, str(total.node))
    )
    chance = (words >> np.uint64(11)).astype(np.float64) * 2.0**-53
    moves = ~family.fixed if first.empty is None else ~family.fixed & ~first.empty
    for end in ends(family):
        units, bad = trial.moved(units, np.where(moves, end, units), bad, chance)
    known, places = whole.places(rows)
    values = np.where(known, units[places], units_of(rows, member, drawn))
    return Drawn(member.kind.drawn(values, spread.reach.places), drawn.empty)


class _Trial:
    """A rule of some parents, asked with the field of their rows as it might be."""

    def __init__(
        self, rows: Cut, member: Field, total: Total, whole: Family, family: Cut, first: Drawn
    ) -> None:
        self.rows, self.member, self.total = rows, member, total
        self.whole, self.family, self.empty = whole, family, first.empty
        self.above = parents_of(rows, whole, family)
        spread = rows.drawer.spread(rows.model, member)
        self.places = spread.reach.places if spread is not None else 0

    def broken(self, units: Units) -> Mask:
        """The parents whose rule does not hold with their rows as they are here."""
        model, member = self.rows.model, self.member
        drawn = Drawn(member.kind.drawn(units, self.places), self.empty)
        tried = With(self.family, member.name, as_column(model, member.name, drawn))
        gathered = _Gathered(self.above, (model.name, self.total.via), tried, self.whole.owner)
        is_stored = isinstance(self.above, StoredParents)
        node = self.total.whole if is_stored else self.total.node
        held = self.rows.arrays.evaluate(node, gathered)
        found: Mask = ~held.values.astype(bool) & ~held.empty & ~self.above.fixed
        return found

    def moved(self, units: Units, end: Units, bad: Mask, chance: Any) -> tuple[Units, Mask]:
        """The units with the rows of `bad` parents on their way to an end, and who is bad still."""
        owner = self.whole.owner
        can = bad & ~self.broken(np.where(bad[owner], end, units))

        def at(part: Any) -> Units:
            way = np.rint((units - end) * part[owner]).astype(np.int64)
            return np.where(can[owner], end + way, units)

        good, past = np.zeros(len(bad)), np.ones(len(bad))
        for _ in range(_HALVINGS if can.any() else 0):
            middle = (good + past) / 2
            held = ~self.broken(at(middle))
            good, past = np.where(held, middle, good), np.where(held, past, middle)
        # Not all at the edge, where it holds before that too.
        before = good * (1 - _ROOM * chance)
        good = np.where(self.broken(at(before)), good, before)
        return at(good), bad & ~can
