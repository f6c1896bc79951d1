"""Made-up rows that obey every rule of their model."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from ..rules.tree import Value, plain
from ..schema.model import Field, Model, Reference, Unique
from .columns import Counts, Drawn, Only
from .grids import cells
from .limits import Limits
from .mending import Mending
from .narrowing import Slot
from .raw import Cut, Places, RawDrawer
from .samples import law_of
from .sharing import Picked, Sharing
from .slices import Far, Slice
from .topping import Topping

_BLOCK = 50_000
_FEWER = 8
"""So many times as many rows as usual one may have, where few are led to."""


class Drawer(RawDrawer):
    """Draws rows of a schema's models, for any slice, all rules kept."""

    def draw(
        self, model: Model, start: int, stop: int, counts: Counts, only: Only = None
    ) -> dict[str, Drawn]:
        """All columns of a slice by member name; raises WelbikError where no rows obey."""
        index = np.arange(start, stop) if only is None else only
        return Slice(self, model, index, counts, final=True).all()

    def mended(self, rows: Cut) -> dict[str, Drawn]:
        self.mending.add(rows.model.name)
        try:
            return self._mended(rows)
        finally:
            self.mending.discard(rows.model.name)

    def _mended(self, rows: Cut) -> dict[str, Drawn]:
        model, counts = rows.model, rows.counts
        clashing = self.clashing(model, counts)
        if not clashing:
            return Mending(_own(rows), ()).mended()
        # What must differ together is only known once all rows before are.
        first = self.first(model.name)
        last = max(int(rows.index.max(initial=-1)) + 1, counts.get(model.name, 0))
        key = ("unique", model.name, last, tuple(sorted(counts.items())))
        if key not in self.known:
            whole = Slice(self, model, np.arange(first, last), counts, final=False)
            self.known[key] = Mending(whole, clashing).mended()
        all_of: dict[str, Drawn] = self.known[key]
        return {name: _part(drawn, rows.index - first) for name, drawn in all_of.items()}

    def meeting(self, model: Model, reference: Reference, counts: Counts, have: int) -> Places:
        target, rank = self.schema.models[reference.target], self.plan.rank
        rows = Far(self, target, counts, rank[target.name] < rank[model.name])
        node, found = self.plan.chosen[model.name, reference.name], []
        for start in range(0, have, _BLOCK):
            near, _ = rows.near(np.arange(start, min(have, start + _BLOCK)))
            held = self.arrays.evaluate(node, near)
            at = np.flatnonzero(held.values.astype(bool) | held.empty)
            # Small numbers where they will do: there may be many.
            found.append((at + start).astype(np.int32 if have < 2**31 else np.int64))
        return np.concatenate(found)

    def must_mend(self, model: Model, counts: Counts) -> bool:
        if model.name not in self.schema.models:
            return bool(model.rules)
        if model.rules and self._is_among_stored(model):
            return True
        loose = self.plan.loose[model.name] or self.plan.may_lose(model)
        return bool(loose or self.clashing(model, counts))

    def _is_among_stored(self, model: Model) -> bool:
        """Whether stored rows are around, as people have them: they may leave no way out."""
        world = self.world
        read = {model.name, *(reference.target for reference in model.references)}
        if world is None or model.name not in self.schema.models:
            return False
        return any(world.is_read(name) for name in read)

    def clashing(self, model: Model, counts: Counts) -> tuple[Unique, ...]:
        """The unique groups that no field tells rows apart for, or that stored rows have too."""
        world = self.world
        if world is not None and world.stored.get(model.name):
            return tuple(model.uniques)
        told = {slot.unique.names for slot in self.slots(model, counts).values()}
        return tuple(unique for unique in model.uniques if unique.names not in told)

    def slots(self, model: Model, counts: Counts) -> Mapping[str, Slot]:
        sure = not self._is_among_stored(model)
        key = ("slots", model.name, sure, tuple(sorted(counts.items())))
        if key not in self.known:
            found: dict[str, Slot] = {}
            done: set[tuple[str, ...]] = set()
            # Who is led elsewhere has no place of its own there; who must have one can't be led.
            moved = self.plan.moved(model, sure)
            for ample in (4, 1):
                for slot in self.plan.slots.get(model.name, ()):
                    names = slot.among or (slot.name,)
                    taken = slot.unique.names in done or found.keys() & {*names}
                    if taken or moved & {slot.anchor, slot.name}:
                        continue
                    if self._has_room(model, slot, counts, ample):
                        found |= dict.fromkeys(names, slot)
                        done.add(slot.unique.names)
            self.known[key] = found
        slots: dict[str, Slot] = self.known[key]
        return slots

    def _has_room(self, model: Model, slot: Slot, counts: Counts, ample: int) -> bool:
        member = model.by_name[slot.name]
        most = self.most_beside(model, slot.anchor, counts)
        if slot.among:
            # Each cell is as good as another: none need be left over.
            return most is not None and most <= cells(self, model, slot)
        if isinstance(member, Reference):
            return most is not None and most * ample <= self._to_choose(member, counts)
        assert isinstance(member, Field)
        spread = self.spread(model, member)
        if spread is None:
            return False
        size = (spread.reach.high - spread.reach.low) // spread.reach.step + 1
        return most is not None and most * ample <= size

    def most_beside(self, model: Model, anchor: str, counts: Counts) -> int | None:
        """The most rows that one parent has; all of them where there is no parent."""
        if not anchor:
            return max(1, counts.get(model.name, 0) - self.first(model.name))
        member = model.by_name[anchor]
        assert isinstance(member, Reference)
        shared = self.shared(model, member, counts)
        if isinstance(shared, Picked):
            shared = shared.sharing
        return shared.most if isinstance(shared, Sharing) else None

    def siblings(
        self, model: Model, anchor: str, index: Places, counts: Counts
    ) -> tuple[Places, Places, Places]:
        first = self.first(model.name)
        if not anchor:
            rows = max(1, counts.get(model.name, 0) - first)
            size = np.full(len(index), rows)
            return (index - first) % rows, size, np.zeros(len(index), dtype=np.int64)
        member = model.by_name[anchor]
        assert isinstance(member, Reference)
        shared = self.shared(model, member, counts)
        if isinstance(shared, Picked):
            shared = shared.sharing
        if not isinstance(shared, Sharing | Topping):
            zero = np.zeros(len(index), dtype=np.int64)
            return zero, zero + 1, zero
        place, count = shared.siblings(index)
        return place, np.maximum(count, 1), shared.parents(index)[0]

    def ends(self, model: Model, member: Field, counts: Counts) -> tuple[int, int]:
        key = ("ends", model.name, member.name, tuple(sorted(counts.items())))
        if key not in self.known:
            self.known[key] = self._ends(model, member, counts)
        found: tuple[int, int] = self.known[key]
        return found

    def _ends(self, model: Model, member: Field, counts: Counts) -> tuple[int, int]:
        """Its own ends, less what must be left for those that come after it."""
        spread = self.spread(model, member)
        assert spread is not None
        low, high = spread.reach.low, spread.reach.high
        for follower in self.plan.followers.get((model.name, member.name), ()):
            other_model = self.plan.models[follower.event[0]]
            other = other_model.by_name[follower.event[1]]
            assert isinstance(other, Field)
            ends, scale = self._scaled_ends(other_model, other, member, counts)
            if ends is None:
                continue
            gap = follower.strict + self._room(other_model, other, counts) * scale
            if follower.upper:
                low = max(low, ends[0] + gap)
            else:
                high = min(high, ends[1] - gap)
        return (low, high) if low <= high else (spread.reach.low, spread.reach.high)

    def _room(self, model: Model, member: Field, counts: Counts) -> int:
        """How many steps a field needs beyond one value, to tell the rows of a parent apart."""
        slots = self.plan.slots.get(model.name, ())
        if any((model.name, slot.anchor) in self.plan.chosen for slot in slots):
            # Who may be led to is told by rows that are drawn within these ends: it is reckoned roughly.
            anchors = {
                s.anchor for s in slots if s.name == member.name and s.anchor and not s.among
            }
            most = [self._roughly(model, anchor, counts) for anchor in anchors]
            return max(most, default=1) - 1
        slot = self.slots(model, counts).get(member.name)
        if slot is None or slot.among or not slot.anchor:
            return 0
        return (self.most_beside(model, slot.anchor, counts) or 1) - 1

    def _roughly(self, model: Model, anchor: str, counts: Counts) -> int:
        """About the most rows that one parent has, whichever of them may be led to."""
        reference = model.by_name[anchor]
        assert isinstance(reference, Reference)
        if (model.name, anchor) not in self.plan.chosen:
            return self.most_beside(model, anchor, counts) or 1
        law, have = (
            law_of(self.schema, reference, self.plan.kinds),
            self._to_choose(reference, counts),
        )
        rows = max(1, counts.get(model.name, 0) - self.first(model.name))
        return law.high or _FEWER * -(-rows // max(1, have))

    def _scaled_ends(
        self, model: Model, other: Field, member: Field, counts: Counts
    ) -> tuple[tuple[int, int] | None, int]:
        """The ends of another field in a field's own units, where they can be told."""
        if self.spread(model, other) is None:
            return None, 1
        theirs, own = other.kind.value_type(), member.kind.value_type()
        low, high = self.ends(model, other, counts)
        step = self.spread(model, other).reach.step  # type: ignore[union-attr]
        if theirs == own and own.name != "number":
            return (low, high), step
        if (own.name, theirs.name) == ("date", "datetime"):
            # A whole day is kept free, whatever the zone.
            return (-(-low // 86_400) + 1, high // 86_400 - 1), 1
        return None, 1

    def may_force(self, model: Model, member: Field, counts: Counts) -> bool:
        narrows = self.plan.of.get((model.name, member.name), ())
        if not narrows or self.spread(model, member) is None:
            return bool(narrows)
        low, high = self.ends(model, member, counts)
        if len({clause.upper for narrow in narrows for clause in narrow.clauses}) > 1:
            # What one leaves the other may take.
            return True
        for narrow in narrows:
            for clause in narrow.clauses:
                sides = [plain(side) for side in clause.node.operands]
                others = [
                    self.plan.models[side.model].by_name.get(side.name)
                    for side in sides
                    if isinstance(side, Value) and (side.path or side.name != member.name)
                ]
                plainly = len(sides) == 2 and all(isinstance(side, Value) for side in sides)
                if narrow.tried or clause.guards or not plainly or len(others) != 1:
                    return True
                other = others[0]
                if not isinstance(other, Field):
                    return True
                ends, _ = self._scaled_ends(self.plan.models[other.model], other, member, counts)
                strict = int(clause.node.word == "<")
                if ends is None or (
                    ends[0] - strict < low if clause.upper else ends[1] + strict > high
                ):
                    return True
        return False

    def forced(self, rows: Cut, member: Field) -> tuple[float, float]:
        counts = tuple(sorted(rows.counts.items()))
        key = ("forced", rows.model.name, member.name, counts)
        if key not in self.known:
            self.known[key] = 0.0, 1.0
            limits = Limits(rows.survey(), member.name)
            absent = limits.absent & ~limits.given
            free = ~limits.absent & ~limits.given
            self.known[key] = float(absent.mean()), float(free.mean())
        found: tuple[float, float] = self.known[key]
        return found


def _own(rows: Cut) -> Slice:
    assert isinstance(rows, Slice)
    return rows


def _part(drawn: Drawn, part: NDArray[np.int64]) -> Drawn:
    empty = None if drawn.empty is None else drawn.empty[part]
    return Drawn(drawn.values[part], empty if empty is not None and empty.any() else None)
