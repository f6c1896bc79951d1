"""Between what a total, or a count, of a parent's rows may lie: told as if it were a field of the parent."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..kinds.base import Reach
from ..rules.arrays import Column
from ..rules.tree import Node, Value, plain
from ..schema.model import Field
from .clauses import Clause
from .columns import Mask
from .families import StoredParents
from .gathered import Counted, Total
from .isolating import With, bound_of, searched
from .raw import Cut
from .spreads import Even, Units

_FAR = 2**61
_NUMBERS = ("integer", "decimal", "number", "duration")


class Whole:
    """A total of some parents as if it were a field of theirs, for what solves a comparison for it.

    It lies between `low` and `high`, in the units of a spread with so many `places`. An average is
    told by the sum of its `count` rows.
    """

    def __init__(
        self, rows: Cut, member: Field, places: int, ends: tuple[Units, Units], count: Units | None
    ) -> None:
        self.rows, self.member, self.count = rows, member, count
        self.spread = Even(Reach(-_FAR, _FAR, 1, places))
        self.low, self.high = ends

    def holds(self, node: Node, units: Units) -> Mask:
        """Where a rule holds for some totals."""
        type_ = self.member.kind.value_type()
        values: Any = units
        if self.count is not None or type_.name == "number":
            places = self.spread.reach.places if type_.name == "number" else type_.places
            values = units / 10.0**places / (1 if self.count is None else np.maximum(self.count, 1))
        given = Column(values, np.zeros(len(units), dtype=bool))
        found = self.rows.arrays.evaluate(node, With(self.rows, self.member.name, given))
        held: Mask = found.values.astype(bool) | found.empty
        return held


def ends_of(
    above: Any,
    member: Field,
    asked: Total | Counted,
    places: int,
    within: tuple[Units, Units],
    count: Units | None = None,
) -> tuple[Units, Units]:
    """Between what the totals of some parents may be; `within` is what they can be at all.

    With `count` they are averages, told by the sums of so many rows.
    """
    whole = Whole(above, asked.stands_in(member), places, within, count)
    least, most = np.full(above.size, -_FAR), np.full(above.size, _FAR)
    for clause in asked.beside if isinstance(above, StoredParents) else asked.clauses:
        needed = ~above.fixed
        for guard in clause.guards:
            found = above.arrays.evaluate(guard.node, above)
            needed &= ~(found.empty | (found.values.astype(bool) == guard.want))
        bound, known = (bound_of if count is None else _sum_for_average)(whole, clause)
        needed &= known
        if clause.upper:
            most = np.where(needed, np.minimum(most, bound), most)
        else:
            least = np.where(needed, np.maximum(least, bound), least)
    return least, most


def _sum_for_average(whole: Whole, clause: Clause) -> tuple[Units, Mask]:
    """The last sum of so many rows whose average keeps a comparison with something else."""
    type_, count = whole.member.kind.value_type(), whole.count
    assert count is not None
    places = whole.spread.reach.places if type_.name == "number" else type_.places
    smaller, larger = clause.node.operands
    side, other = (smaller, larger) if clause.upper else (larger, smaller)
    given = whole.rows.arrays.evaluate(other, whole.rows)
    if not isinstance(plain(side), Value) or other.type.name not in _NUMBERS:
        return searched(whole, clause), count > 0
    ends = given.values.astype(np.float64) * 10.0 ** (places - other.type.places) * count
    strict = clause.node.word == "<"
    near, step = np.rint(ends), 1 if clause.upper else -1
    # A sum that is the end itself keeps what is not strict.
    whole_ends = np.floor(ends) if clause.upper else np.ceil(ends)
    exact = np.abs(ends - near) < 1e-6
    found = np.where(exact, near - step * strict, whole_ends)
    return found.astype(np.int64), ~given.empty & (count > 0)
