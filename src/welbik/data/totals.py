"""Values of rows that are held together by a rule of their parent: their sum, the least, the most.

They are drawn as if there were no such rule; those of a parent that break it are moved, each by
the same part of its way to the end of what it may be.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field
from .bounding import ends_of
from .columns import Mask
from .families import StoredParents, stored_rows
from .gathered import Total
from .raw import Cut, Places
from .spreads import Units
from .totalled import Totalled, in_units

_FAR = 2**61
_ROOM = 0.2
"""The part of what a rule leaves within which totals are put that it would not let be."""


class _Family(NamedTuple):
    """All rows of some parents: their units, between what they may be, and whose they are.

    `counts` says which are part of the total, and `moves` which of those may change.
    """

    units: Units
    low: Units
    high: Units
    owner: Places
    counts: Mask
    moves: Mask
    parents: int

    def beside(self, units: Units, owner: Places, counts: Mask) -> _Family:
        """The same with rows that are there, and stay as they are."""
        return self._replace(
            units=np.append(self.units, units),
            low=np.append(self.low, units),
            high=np.append(self.high, units),
            owner=np.append(self.owner, owner),
            counts=np.append(self.counts, counts),
            moves=np.append(self.moves, np.zeros(len(units), dtype=bool)),
        )

    def total(self, units: Units) -> Units:
        found = np.zeros(self.parents, dtype=np.int64)
        np.add.at(found, self.owner, np.where(self.counts, units, 0))
        return found


def moved_within(rows: Totalled, total: Total, units: Units, turn: int) -> Units:
    """The units with a total of each parent within its rule, as far as that can be."""
    of = _family(rows, total, units)
    if isinstance(rows.above, StoredParents):
        of = of.beside(*_there(rows.above, rows.member, total, rows.rows))
    return _moved(rows, total, of, turn)[: rows.family.size]


def _there(
    above: StoredParents, member: Field, total: Total, rows: Cut
) -> tuple[Units, Places, Mask]:
    """The stored rows of stored parents: their units, whose they are, and which count."""
    stored, owner, kept = stored_rows(rows, total.via, above)
    column = stored.column(member.name)
    counts = ~column.empty & kept
    if total.where is not None:
        held = rows.drawer.arrays.evaluate(total.where, stored)
        counts &= held.values.astype(bool) & ~held.empty
    units = in_units(column.values, member, rows.drawer.spread(rows.model, member))
    return units[kept], owner[kept], counts[kept]


def _family(rows: Totalled, total: Total, units: Units) -> _Family:
    family = rows.family
    counts = rows.filled.copy()
    if total.where is not None:
        held = family.arrays.evaluate(total.where, family)
        counts &= held.values.astype(bool) & ~held.empty
    moves = counts & rows.moves
    low = np.where(moves, np.minimum(rows.low, units), units)
    high = np.where(moves, np.maximum(rows.high, units), units)
    return _Family(units, low, high, rows.whole.owner, counts, moves, rows.above.size)


def _moved(rows: Totalled, total: Total, of: _Family, turn: int) -> Units:
    """The units of a family within what a rule leaves of their total."""
    member = rows.member
    least, most = _bounds(rows, total, of)
    if total.function in ("sum", "avg"):
        if member.kind.value_type().name == "number":
            # Each database adds those in an order of its own: a sum that is the end may come out beyond it.
            apart = most - least > 1
            most = np.where(apart & (most > of.total(of.low)), most - 1, most)
            least = np.where(apart & (least < of.total(of.high)), least + 1, least)
        return _summed(of, least, most, rows.chance(total, turn))
    return _ended(of, least, most, total.function == "max")


def _bounds(rows: Totalled, total: Total, of: _Family) -> tuple[Units, Units]:
    """Between what the totals of some parents may be, for an average the sums of its rows."""
    count = _by_parent(of, of.counts.astype(np.int64)) if total.function == "avg" else None
    if total.function in ("sum", "avg"):
        reach = of.total(of.low), of.total(of.high)
    else:
        reach = np.full(of.parents, of.low.min()), np.full(of.parents, of.high.max())
    return ends_of(rows.above, rows.member, total, rows.places, reach, count)


def _summed(of: _Family, least: Units, most: Units, chance: NDArray[np.float64]) -> Units:
    """Units whose sums lie between two ends, as far as that can be."""
    units, sums = of.units, of.total(of.units)
    floor, ceiling = of.total(of.low), of.total(of.high)
    lowest, highest = np.maximum(least, floor), np.minimum(most, ceiling)
    room = ((highest - lowest) * _ROOM * chance).astype(np.int64)
    for too, wanted, down in (
        (sums > most, np.maximum(highest - room, floor), True),
        (sums < least, np.minimum(lowest + room, ceiling), False),
    ):
        if not too.any():
            continue
        far = sums - floor if down else ceiling - sums
        way = np.abs(sums - wanted) / np.maximum(far, 1)
        steps = (of.units - of.low) if down else (of.high - of.units)
        steps = np.where(of.moves & too[of.owner], steps, 0)
        part = np.floor(steps * way[of.owner]).astype(np.int64)
        # What was rounded away is made up for by ones.
        lacks = np.where(too, np.abs(sums - wanted) - _by_parent(of, part), 0)
        part += _rank(of, part < steps) < lacks[of.owner]
        units = units - part if down else units + part
    return units


def _by_parent(of: _Family, values: Units) -> Units:
    found = np.zeros(of.parents, dtype=np.int64)
    np.add.at(found, of.owner, values)
    return found


def _rank(of: _Family, some: Mask) -> Units:
    """The place of each row among some of its parent's; beyond all for the others."""
    found = np.full(len(some), _FAR)
    at = np.flatnonzero(some)
    at = at[np.argsort(of.owner[at], kind="stable")]
    owners = of.owner[at]
    begins = np.searchsorted(owners, owners, side="left")
    found[at] = np.arange(len(at)) - begins
    return found


def _ended(of: _Family, least: Units, most: Units, greatest: bool) -> Units:
    """Units of which the greatest of each parent, or the least, lies between two ends."""
    # What holds for the least of some holds for the greatest of their opposites.
    sign = 1 if greatest else -1
    units, low, high = sign * of.units, sign * of.low, sign * of.high
    low, high = np.minimum(low, high), np.maximum(low, high)
    bottom, top = (least, most) if greatest else (-most, -least)
    end, begin = top[of.owner], bottom[of.owner]
    over = of.moves & (units > end)
    # Those beyond are spread over all that is left, as they lay beyond.
    share = np.where(over, (units - end) / np.maximum(high - end, 1), 0)
    room = np.maximum(np.minimum(end, high) - low, 0)
    spread = low + np.floor(share * room).astype(np.int64)
    units = np.where(over, np.clip(spread, low, np.maximum(end, low)), units)
    best = np.full(of.parents, -_FAR)
    np.maximum.at(best, of.owner, np.where(of.counts, units, -_FAR))
    short = of.moves & (best < bottom)[of.owner] & (high >= begin)
    chosen = _rank(of, short & (units == best[of.owner])) == 0
    if (short & ~chosen).any():
        # The greatest may not reach so far: then another one does.
        reached = np.zeros(of.parents, dtype=bool)
        reached[of.owner[chosen]] = True
        chosen |= _rank(of, short & ~reached[of.owner]) == 0
    last = np.maximum(np.minimum(end, high), begin)
    way = (units - low) / np.maximum(high - low, 1)
    up = begin + np.floor(way * (last - begin)).astype(np.int64)
    return sign * np.where(chosen, up, units)
