"""All rows of some parents, with one field of them as it might be, for rules over what it comes to."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..rules.arrays import Column
from ..rules.tree import Hop
from ..schema.model import Field
from .columns import Drawn, Mask, as_column
from .families import Family, Joined, StoredParents, parents_of, stored_rows
from .gathered import Total
from .isolating import With
from .raw import Cut, Places
from .spreads import Spread, Units
from .streams import key_of, mixed
from .world import Some


class Totalled:
    """The rows of some parents: what a field of theirs is `first`, and between what it may be.

    `low` and `high` are in the units of the field's spread. Rows in `moves` may come to be anything
    between them; fixed ones, and those that have no value, stay as they are.
    """

    def __init__(
        self, rows: Cut, member: Field, whole: Family, drawn: Drawn, ends: tuple[Units, Units]
    ) -> None:
        self.rows, self.member, self.whole = rows, member, whole
        self.family = rows.other(rows.model, whole.numbers)
        self.above = parents_of(rows, whole, self.family)
        self.is_stored = isinstance(self.above, StoredParents)
        spread = rows.drawer.spread(rows.model, member)
        assert spread is not None
        self.places, self.empty = spread.reach.places, drawn.empty
        self.first = units_of(rows, member, drawn)
        self.low, self.high = ends
        size = self.family.size
        self.filled: Mask = np.ones(size, dtype=bool) if self.empty is None else ~self.empty
        self.moves: Mask = self.filled & ~self.family.fixed

    def of(self, some: Mask) -> Totalled:
        """The rows of only some of the parents."""
        mine = some[self.whole.owner]
        values = self.member.kind.drawn(self.first[mine], self.places)
        drawn = Drawn(values, None if self.empty is None else self.empty[mine])
        ends = self.low[mine], self.high[mine]
        return Totalled(self.rows, self.member, self.whole.of(some), drawn, ends)

    def drawn(self, units: Units) -> Drawn:
        """The field's column, of some units."""
        return Drawn(self.member.kind.drawn(units, self.places), self.empty)

    def broken(self, totals: Sequence[Total], units: Units) -> Mask:
        """The parents of which a rule does not hold with their rows as they are here."""
        model = self.rows.model
        tried = With(
            self.family, self.member.name, as_column(model, self.member.name, self.drawn(units))
        )
        bad = np.zeros(self.above.size, dtype=bool)
        for total in totals:
            above = _Gathered(self.above, (model.name, total.via), tried, self.whole.owner)
            if total.of_rows:
                bad |= self._broken_by_rows(total, tried, above)
                continue
            held = self.rows.arrays.evaluate(total.whole if self.is_stored else total.node, above)
            bad |= ~held.values.astype(bool) & ~held.empty
        found: Mask = bad & ~self.above.fixed
        return found

    def _broken_by_rows(self, total: Total, tried: With, above: _Gathered) -> Mask:
        """The parents of which a row breaks a rule of its own, stored rows too."""
        rows: Any = tried
        owner = self.whole.owner
        if isinstance(self.above, StoredParents):
            stored, their, there = stored_rows(self.rows, total.via, self.above)
            at = np.flatnonzero(there)
            rows, owner = Joined(Some(stored, at), tried), np.append(their[at], owner)
        held = self.rows.arrays.evaluate(total.node, _Below(rows, total.via, above, owner))
        found = np.zeros(self.above.size, dtype=bool)
        found[owner[~held.values.astype(bool) & ~held.empty]] = True
        return found

    def chance(self, total: Total, turn: int) -> NDArray[np.float64]:
        """A number of each parent from 0 up to 1, for a rule of its in some turn."""
        words = (total.parent, str(total.node), *([turn] if turn else []))
        drawn = mixed(self.whole.parents.astype(np.uint64), key_of(self.rows.drawer.seed, *words))
        found: NDArray[np.float64] = (drawn >> np.uint64(11)).astype(np.float64) * 2.0**-53
        return found


def units_of(rows: Cut, member: Field, drawn: Drawn) -> Units:
    """A column in the units of its spread."""
    values = as_column(rows.model, member.name, drawn).values
    return in_units(values, member, rows.drawer.spread(rows.model, member))


def in_units(values: NDArray[Any], member: Field, spread: Spread | None) -> Units:
    """Values of a field in the units of its spread."""
    assert spread is not None
    if member.kind.value_type().name == "number":
        values = np.rint(values.astype(np.float64) * 10.0**spread.reach.places)
    found: Units = values.astype(np.int64)
    return found


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


class _Below:
    """Rows that lead to parents as these are with them."""

    def __init__(self, rows: Any, via: str, above: _Gathered, owner: Places) -> None:
        self.rows, self.via, self.above, self.owner = rows, via, above, owner

    @property
    def size(self) -> int:
        return int(self.rows.size)

    def column(self, name: str) -> Column:
        if name == self.via:
            return Column(self.owner, np.zeros(self.size, dtype=bool))
        column: Column = self.rows.column(name)
        return column

    def near(self, positions: Places) -> tuple[Any, Places]:
        return self, positions

    def follow(self, reference: str) -> Any:
        return self.above if reference == self.via else self.rows.follow(reference)

    def children(self, hop: Hop) -> tuple[Any, Places]:
        found: tuple[Any, Places] = self.rows.children(hop)
        return found
