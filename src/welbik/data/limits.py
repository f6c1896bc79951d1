"""What rules leave of one field in each row, and values drawn within that.

Declared shares hold after the rules: how often rules force a field to be empty, or given, is told
from a survey of rows, and the others make up for it.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..rules.arrays import Column
from ..rules.tree import Node
from ..schema.model import Field
from . import samples
from .clauses import Clause
from .columns import Drawn, Mask, as_column
from .counted import within_counts, within_kinds
from .field_stream import FieldStream
from .gathered import Counted, Total
from .grids import in_grid
from .isolating import With, bound_of
from .narrowing import Narrow
from .places import coordinates, is_place
from .raw import Cut
from .spreads import Spread, Units
from .streams import RowStream, key_of, permuted_each
from .together import within_totals

_AFRESH = 1000
"""By so many attempts a column that is begun anew is apart from that of before."""


class Limits:
    """The ends, choices and emptiness that rules leave of a field in each row of a slice.

    `low` and `high` are in the units of the field's spread, None where it has no order;
    `among` says for each of `values` and row whether it may be had.
    """

    def __init__(self, rows: Cut, name: str) -> None:
        member = rows.model.by_name[name]
        assert isinstance(member, Field)
        self.rows, self.member = rows, member
        self.spread = rows.drawer.spread(rows.model, member)
        size = rows.size
        self.absent = np.zeros(size, dtype=bool)
        self.given = np.zeros(size, dtype=bool)
        self.low: Units | None = None
        self.high: Units | None = None
        if self.spread is not None:
            low, high = rows.drawer.ends(rows.model, member, rows.counts)
            self.low, self.high = np.full(size, low), np.full(size, high)
        self._wide: tuple[Units, Units] | None = None
        """The ends for all generations, where each has its part."""
        self.values: list[Any] = []
        self.among: NDArray[np.bool_] | None = None
        self._generations()
        for narrow in rows.drawer.plan.of.get((rows.model.name, name), ()):
            for clause in narrow.clauses:
                self._clause(clause)
        for narrow in rows.drawer.plan.of.get((rows.model.name, name), ()):
            if narrow.tried:
                self._try(narrow)
        self._nothing_left()

    def _generations(self) -> None:
        """In a tree that a field orders, each generation has its part of all values."""
        rows, spread = self.rows, self.spread
        tree = rows.drawer.plan.trees.get((rows.model.name, self.member.name))
        if tree is None or spread is None or self.low is None or self.high is None:
            return
        shared = rows.drawer.tree(rows.model, tree.reference, rows.counts)
        if shared is None:
            return
        first, last = shared.slices(rows.index)
        if not tree.after:
            first, last = 1 - last, 1 - first
        low, high = self.low, self.high
        # An end between two values belongs to the later part.
        self.low = spread.at(np.minimum(first, 1 - 1e-12), low, high)
        self.high = np.maximum(spread.at(np.minimum(last, 1 - 1e-12), low, high), self.low)
        self._wide = low, high

    def _clause(self, clause: Clause) -> None:
        rows = self.rows
        needed: Mask = ~rows.fixed
        for guard in clause.guards:
            found = rows.arrays.evaluate(guard.node, rows)
            needed &= ~(found.empty | (found.values.astype(bool) == guard.want))
        if not needed.any():
            return
        if clause.node.word == "empty":
            mask = self.absent if clause.want else self.given
            mask |= needed
            return
        if self.low is None or self.high is None or self.spread is None:
            return
        bound, known = bound_of(self, clause)
        needed &= known
        if clause.upper:
            self.high = np.where(needed, np.minimum(self.high, bound), self.high)
        else:
            self.low = np.where(needed, np.maximum(self.low, bound), self.low)

    def _try(self, narrow: Narrow) -> None:
        """Asks the rule of every value that the field may have."""
        rows, member = self.rows, self.member
        if not self.values:
            self.values = _all_values(member)
            self.among = np.ones((len(self.values), rows.size), dtype=bool)
        assert self.among is not None
        none = np.zeros(rows.size, dtype=bool)
        for at, value in enumerate(self.values):
            values = np.empty(rows.size, dtype=object if isinstance(value, str) else type(value))
            values[:] = value
            self.among[at] &= self._holds(narrow.node, Column(values, none))
        if not member.required:
            self.given |= ~self._holds(narrow.node, Column(values, ~none))

    def _holds(self, node: Node, column: Column) -> Mask:
        rows = self.rows
        found = rows.arrays.evaluate(node, With(rows, self.member.name, column))
        held: Mask = found.values.astype(bool) | found.empty
        return held

    def _nothing_left(self) -> None:
        """Rows where no value is left are empty, where the field may be."""
        if self.among is not None:
            if self.low is not None and self.high is not None:
                values = np.array(self.values)[:, None]
                self.among &= (values >= self.low) & (values <= self.high)
            none = ~self.among.any(axis=0)
            self.among[:, none] = True
        elif self.low is not None and self.high is not None:
            if self._wide is not None:
                # Later than its parent, if not in its own generation's part.
                short = self.low > self.high
                self.high = np.where(short, np.maximum(self._wide[1], self.high), self.high)
            none = self.low > self.high
            low, high = self.rows.drawer.ends(self.rows.model, self.member, self.rows.counts)
            self.low = np.where(none, low, self.low)
            self.high = np.where(none, high, self.high)
        else:
            return
        self.absent |= none & ~self.given

    def holds(self, node: Node, units: Units) -> Mask:
        """Where a rule holds for some values of the field, in the units of its spread."""
        assert self.spread is not None
        drawn = Drawn(self.member.kind.drawn(units, self.spread.reach.places), None)
        return self._holds(node, as_column(self.rows.model, self.member.name, drawn))


def _all_values(member: Field) -> list[Any]:
    if member.kind.labels():
        return list(member.kind.labels())
    if member.kind.value_type().name == "boolean":
        return [True, False]
    bounds = member.kind.bounds  # type: ignore[attr-defined]
    return list(range(bounds.low, bounds.high + 1))


def drawn_within(rows: Cut, member: Field, attempt: int) -> Drawn:
    """A column of a field within what rules leave of it."""
    totals = rows.drawer.plan.totals.get((rows.model.name, member.name), ())
    return _together(rows, member, totals, attempt)


def _together(
    rows: Cut, member: Field, totals: Sequence[Total], attempt: int, turn: int = 0
) -> Drawn:
    """A column with the totals of its parents within some rules of theirs."""
    counted = rows.drawer.plan.counted.get((rows.model.name, member.name), ())
    drawn = _counted(rows, member, counted, attempt, turn)
    if not totals or rows.drawer.spread(rows.model, member) is None:
        return drawn
    last = (totals[-1].parent, totals[-1].via)
    asked = [one for one in totals if (one.parent, one.via) == last]
    others = [one for one in totals if (one.parent, one.via) != last]

    def ends(family: Cut, drawn: Drawn) -> tuple[Units, Units]:
        limits = Limits(family, member.name)
        assert limits.low is not None and limits.high is not None
        return within_kinds(family, member, counted, drawn, (limits.low, limits.high))

    def draw(family: Cut, number: int) -> Drawn:
        return _together(family, member, others, 0, number)

    return within_totals(rows, member, asked, drawn, ends, draw)


def _counted(
    rows: Cut, member: Field, counted: Sequence[Counted], attempt: int, turn: int
) -> Drawn:
    """A column with as many of a kind as rules of parents ask for; each turn begins with other values."""
    if not counted or attempt:
        return _alone(rows, member, attempt + turn * _AFRESH)
    last = (counted[-1].parent, counted[-1].via)
    asked = [one for one in counted if (one.parent, one.via) == last]
    others = [one for one in counted if (one.parent, one.via) != last]
    drawn = _counted(rows, member, others, attempt, turn)

    def draw(some: Cut, again: int) -> Drawn:
        return _counted(some, member, others, again, turn)

    return within_counts(rows, member, asked, drawn, draw, turn)


def _alone(rows: Cut, member: Field, attempt: int) -> Drawn:
    drawn = _drawn(rows, member, attempt)
    only = rows.drawer.plan.only.get((rows.model.name, member.name))
    if only is None or rows.drawer.full:
        return drawn
    met = rows.arrays.evaluate(only, rows)
    out: Mask = ~met.values.astype(bool) | met.empty
    if rows.drawer.plan.of.get((rows.model.name, member.name)):
        # A rule that wants a value has the last word.
        out &= ~Limits(rows, member.name).given
    out = out if drawn.empty is None else out | drawn.empty
    return Drawn(drawn.values, out if out.any() else None)


def _drawn(rows: Cut, member: Field, attempt: int) -> Drawn:
    drawer, model = rows.drawer, rows.model
    narrows = drawer.plan.of.get((model.name, member.name), ())
    spread = drawer.spread(model, member)
    slot = drawer.slots(model, rows.counts).get(member.name) if model.uniques else None
    if slot is None and not narrows and (spread is None or attempt) and not is_place(member):
        return drawer.field(model, member, rows.index, attempt)
    stream = drawer.stream(model, member, rows.index, attempt)
    if is_place(member) and not narrows:
        parent = next((r for r in model.references if r.required and r.target != model.name), None)
        parents = None if parent is None else rows.member(parent.name)
        placed = coordinates(drawer.seed, model, member, rows.index, parents)
        if placed is not None:
            together = RowStream(drawer.seed, model.name, "place", *stream.where)
            empty = drawer.emptied(together, drawer.share_of(member), member.required)
            return Drawn(placed, empty)
    limits = Limits(rows, member.name)
    if slot is not None and slot.among:
        values = in_grid(rows, member, slot)
    elif slot is not None and spread is not None:
        values = _apart(limits, slot.anchor, spread, stream)
    elif limits.among is not None:
        values = _chosen(limits, member, stream.fractions())
    elif spread is not None and not member.unique:
        assert limits.low is not None and limits.high is not None
        units = spread.draw(stream, limits.low, limits.high)
        values = member.kind.drawn(units, spread.reach.places)
    else:
        values = samples.draw(member, stream)
    return Drawn(values, _emptied(limits, stream))


def _chosen(limits: Limits, member: Field, fractions: NDArray[np.float64]) -> NDArray[Any]:
    """One of the values that are left, by their declared weights."""
    assert limits.among is not None
    weights = np.ones(len(limits.values))
    for term in member.sample:
        if term.word == "weights":
            weights = np.array(term.arguments, dtype=np.float64)
        if term.word == "from":
            weights = np.array([float(v in term.arguments) for v in limits.values])
        if term.word in ("normal", "lognormal") and limits.spread is not None:
            weights = _weights_of(limits.spread, limits.values)
    sums = np.cumsum(limits.among * np.maximum(weights, 1e-12)[:, None], axis=0)
    at = (sums <= fractions * sums[-1]).sum(axis=0)
    pool: NDArray[Any] = np.array(
        limits.values, dtype=object if isinstance(limits.values[0], str) else None
    )
    found: NDArray[Any] = pool[np.minimum(at, len(pool) - 1)]
    return found


def _weights_of(spread: Spread, values: list[int]) -> NDArray[np.float64]:
    """How likely each of some whole numbers is."""
    grid = (np.arange(20_000) + 0.5) / 20_000
    size = len(grid)
    low, high = np.full(size, min(values)), np.full(size, max(values))
    found = spread.at(grid, low, high)
    return np.array([(found == value).sum() / size for value in values])


def _apart(limits: Limits, anchor: str, spread: Spread, stream: FieldStream) -> NDArray[Any]:
    """Values that differ among the rows of one parent: those of its n parts, each one further.

    A value is drawn in a part of its own of the whole, with room left for one step a part; by as
    many steps as there are parts before it is it moved on. Where there is no room for all, those
    that are left are empty, if they may be.
    """
    assert limits.low is not None and limits.high is not None
    rows, low, high, step = limits.rows, limits.low, limits.high, spread.reach.step
    place, count, parent = rows.drawer.siblings(rows.model, anchor, rows.index, rows.counts)
    key = key_of(rows.drawer.seed, rows.model.name, limits.member.name, "apart")
    part = permuted_each(place, count, parent, key)
    low = -(-low // step) * step
    limits.absent |= (part * step > high - low) & ~limits.given
    room = np.maximum(low, high - (count - 1) * step)
    fractions = (part + stream.fractions()) / count
    units = spread.at(np.minimum(fractions, 1 - 1e-15), low, room) + part * step
    units = np.minimum(units, np.maximum(high, low))
    drawn: NDArray[Any] = limits.member.kind.drawn(units, spread.reach.places)
    return drawn


def _emptied(limits: Limits, stream: FieldStream) -> Mask | None:
    """Which rows have no value: those that may not, and so many others as make up the share."""
    rows, member = limits.rows, limits.member
    drawer = rows.drawer
    always = member.required or member.kind.self_made
    if always:
        return drawer.emptied(stream, 0.0, True)
    share = drawer.share_of(member)
    narrows = drawer.plan.of.get((rows.model.name, member.name), ())
    declared = any(term.word == "empty" for term in member.sample)
    if not declared and member.only is None and _explains(narrows):
        # What says why stands only where there is a why.
        share = 0.0 if drawer.full else 1.0
    elif share and drawer.may_force(rows.model, member, rows.counts):
        forced, free = drawer.forced(rows, member)
        if free:
            share = min(1.0, max(0.0, (share - forced) / free))
    found = drawer.emptied(stream, share, False)
    empty = np.zeros(rows.size, dtype=bool) if found is None else found
    empty = (empty | limits.absent) & ~(limits.given & ~limits.absent)
    return empty if empty.any() else None


def _explains(narrows: Any) -> bool:
    """Whether a rule says that a field is given when something else is."""
    for narrow in narrows:
        for clause in narrow.clauses:
            if clause.node.word == "empty" and not clause.want and clause.guards:
                return True
    return False
