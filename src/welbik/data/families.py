"""All rows of the parents that some rows lead to, where these stand among them, and what is stored beside."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from ..rules.arrays import Column
from ..rules.tree import Hop
from ..schema.model import Model, Reference
from .columns import Mask
from .raw import Cut, Places
from .world import Known, Some


class Family(NamedTuple):
    """The numbers of all rows of some parents, and whose each is among the `parents`.

    `there` says which of the rows that they were looked up for lead to one.
    """

    reference: Reference
    there: Mask
    parents: Places
    numbers: Places
    owner: Places

    def of(self, some: Mask) -> Family:
        """The family of only some of its parents."""
        mine, place = some[self.owner], np.cumsum(some) - 1
        owner = place[self.owner[mine]]
        return self._replace(parents=self.parents[some], numbers=self.numbers[mine], owner=owner)

    def places(self, rows: Cut) -> tuple[Mask, Places]:
        """Which of some rows are of the family, and where they stand in it."""
        order = np.argsort(self.numbers, kind="stable")
        found = np.searchsorted(self.numbers[order], rows.index)
        places = order[np.minimum(found, len(order) - 1)]
        return self.there & (self.numbers[places] == rows.index), places


def family_of(rows: Cut, via: str) -> Family | None:
    """The family of some rows by a reference; None where there is none."""
    reference = rows.model.by_name[via]
    assert isinstance(reference, Reference)
    shared = rows.drawer.shared(rows.model, reference, rows.counts)
    leads = rows.member(reference.name)
    there = np.ones(rows.size, dtype=bool) if leads.empty is None else ~leads.empty
    if shared is None or not there.any():
        return None
    parents = np.unique(leads.values[there]).astype(np.int64)
    index, owner = shared.children(parents)
    return Family(reference, there, parents, index, owner) if len(index) else None


class StoredParents(Some):
    """Stored parents, as what solves a comparison asks for them."""

    def __init__(self, rows: Known, at: Places, new: Any, whole: Family) -> None:
        super().__init__(rows, at)
        self.arrays = new.arrays
        self.fixed: Mask = np.zeros(len(at), dtype=bool)
        self._new, self._whole = new, whole

    def children(self, hop: Hop) -> tuple[Any, Places]:
        """Those that are stored, and those that are made up for them."""
        rows, owner = self.stored_children(hop)
        reference = self._whole.reference
        if (hop.model, hop.via) != (reference.model, reference.name):
            return rows, owner
        return Joined(rows, self._new), np.append(owner, self._whole.owner)

    def stored_children(self, hop: Hop) -> tuple[Known, Places]:
        rows, owner = self.rows.children(hop)
        return rows, _places_in(self, owner)


class Growing(Some):
    """Stored rows that new ones of a model lead to: those are among the rows that lead there already.

    `new` has some rows of that model; what is asked of all of them is drawn as they first come.
    """

    def __init__(self, rows: Known, at: Places, new: Cut) -> None:
        super().__init__(rows, at)
        self._new = new

    def near(self, positions: Places) -> tuple[Growing, Places]:
        there, places = np.unique(positions, return_inverse=True)
        return Growing(self.rows, self.at[there], self._new), places

    def children(self, hop: Hop) -> tuple[Any, Places]:
        rows, owner = super().children(hop)
        new, drawer = self._new, self._new.drawer
        world = drawer.world
        if hop.model != new.model.name or not hop.via or world is None:
            return rows, owner
        reference = new.model.by_name[hop.via]
        assert isinstance(reference, Reference)
        shared = drawer.shared(new.model, reference, new.counts)
        if shared is None:
            return rows, owner
        # Of each way there other rows may be chosen from.
        places = _places_in(self, world.choice(reference, drawer.arrays))
        led = np.flatnonzero(places >= 0)
        index, above = shared.children(led)
        return Joined(rows, new.other(new.model, index)), np.append(owner, places[led][above])


class Joined:
    """Stored rows of a model, and after them made-up ones."""

    def __init__(self, stored: Any, new: Any) -> None:
        self.stored, self.new = stored, new

    @property
    def size(self) -> int:
        return int(self.stored.size + self.new.size)

    def column(self, name: str) -> Column:
        stored, new = self.stored.column(name), self.new.column(name)
        values = new.values
        if isinstance(self.model.by_name.get(name), Reference):
            # Rows that both lead to are told by two numbers: those of the new ones come after all others.
            values = values + self.stored.follow(name).size
        return Column(np.append(stored.values, values), np.append(stored.empty, new.empty))

    @property
    def model(self) -> Model:
        model: Model = self.stored.model
        return model

    def near(self, positions: Places) -> tuple[Any, Places]:
        return self, positions

    def follow(self, reference: str) -> Joined:
        return Joined(self.stored.follow(reference), self.new.follow(reference))

    def children(self, hop: Hop) -> tuple[Any, Places]:
        stored, owner = self.stored.children(hop)
        new, others = self.new.children(hop)
        there = np.where(others < 0, -1, others + self.stored.size)
        return Joined(stored, new), np.append(owner, there)


def parents_of(rows: Cut, whole: Family, family: Any) -> Any:
    """The parents of a family: stored ones as `StoredParents`, others as they are made up.

    `family` has the rows of it.
    """
    drawer, world, reference = rows.drawer, rows.drawer.world, whole.reference
    if world is not None and world.is_read(reference.target):
        at = world.choice(reference, drawer.arrays)[whole.parents]
        return StoredParents(world.table(reference.target), at, family, whole)
    model = drawer.schema.models[reference.target]
    return rows.other(model, whole.parents + drawer.first(model.name))


def stored_rows(rows: Cut, via: str, above: StoredParents) -> tuple[Known, Places, Mask]:
    """The stored rows of the same model, whose each is among some parents, and which are those of one."""
    world = rows.drawer.world
    assert world is not None
    stored = world.table(rows.model.name)
    leads = stored.column(via)
    owner = _places_in(above, np.where(leads.empty, -1, leads.values.astype(np.int64)))
    return stored, owner, (owner >= 0) & stored.live()


def _places_in(above: Some, positions: Places) -> Places:
    """Where positions in a whole table stand among some of its rows; -1 where they do not."""
    place = np.full(above.rows.size + 1, -1, dtype=np.int64)
    place[above.at] = np.arange(above.size)
    found: Places = place[positions]
    return found
