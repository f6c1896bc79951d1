"""Made-up rows as rules read them; see `rules.arrays.Rows`."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..rules.arrays import Column
from ..rules.tree import Hop
from ..schema.entries import REMOVED
from ..schema.model import Model, Reference
from .columns import Counts, Drawn, as_column, nothing
from .fixed import put_fixed
from .raw import RawDrawer
from .world import Some


class Earlier:
    """The rows of a model up to a number, as they are first drawn."""

    def near(self, positions: NDArray[np.int64]) -> tuple[Any, NDArray[np.int64]]:
        return self, positions

    def __init__(self, drawer: RawDrawer, model: Model, size: int, counts: Counts) -> None:
        self.drawer, self.model, self.size, self.counts = drawer, model, size, counts

    def column(self, name: str) -> Column:
        drawn = {name: self.drawer.raw(self.model, name, 0, self.size, self.counts)}
        put_fixed(self.drawer.schema, self.drawer.here, self.model, np.arange(self.size), drawn)
        return as_column(self.model, name, drawn[name])

    def follow(self, reference: str) -> Any:
        return followed(self.drawer, self.model, reference, self.counts, earlier=self)

    def children(self, hop: Hop) -> tuple[Any, NDArray[np.int64]]:
        return Whole(self.drawer, self.model, self.counts).children(hop)


def followed(
    drawer: RawDrawer, model: Model, name: str, counts: Counts, earlier: Earlier | None = None
) -> Any:
    """The rows that a reference chooses from: stored ones, `earlier` ones of its own, or all."""
    reference, world = model.by_name[name], drawer.world
    assert isinstance(reference, Reference)
    if world is not None and world.is_read(reference.target):
        return Some(world.table(reference.target), world.choice(reference))
    if earlier is not None and reference.target == model.name:
        return earlier
    return Whole(drawer, drawer.schema.models[reference.target], counts)


class Whole:
    """All rows of a model that are made up, drawn once for all who read them."""

    def __init__(self, drawer: RawDrawer, model: Model, counts: Counts) -> None:
        self.drawer, self.model, self.counts = drawer, model, counts

    @property
    def start(self) -> int:
        world = self.drawer.world
        return 0 if world is None else world.start(self.model.name)

    @property
    def size(self) -> int:
        """Up to the last one; beside stored rows only those that are still to come."""
        return max(0, self.counts.get(self.model.name, 0) - self.start)

    def near(self, positions: NDArray[np.int64]) -> tuple[Any, NDArray[np.int64]]:
        """Just the rows at some positions, where those are few: others need not be made up."""
        there, places = np.unique(positions, return_inverse=True)
        key = ("whole", self.model.name, tuple(sorted(self.counts.items())))
        if key in self.drawer.whole or self.model.uniques or len(there) * 4 > self.size:
            return self, positions
        return Few(self, there + self.start), places

    def _columns(self) -> dict[str, Drawn]:
        key = ("whole", self.model.name, tuple(sorted(self.counts.items())))
        if key not in self.drawer.whole:
            # While they are being drawn, whoever asks again gets them without their rules.
            start, stop = self.start, self.start + self.size
            self.drawer.whole[key] = {
                m.name: self.drawer.raw(self.model, m.name, start, stop, self.counts)
                for m in self.model.members
            }
            put_fixed(
                self.drawer.schema,
                self.drawer.here,
                self.model,
                np.arange(start, stop),
                self.drawer.whole[key],
            )
            self.drawer.whole[key] = self.drawer.draw(self.model, start, stop, self.counts)
        found: dict[str, Drawn] = self.drawer.whole[key]
        return found

    def column(self, name: str) -> Column:
        if name == REMOVED:
            return nothing(self.size)
        return as_column(self.model, name, self._columns()[name])

    def follow(self, reference: str) -> Any:
        return followed(self.drawer, self.model, reference, self.counts)

    def children(self, hop: Hop) -> tuple[Any, NDArray[np.int64]]:
        rows, owner = children_of(self.drawer, hop, self.counts)
        kept = np.flatnonzero(owner >= 0)
        return Some(rows, kept), owner[kept]


class Few:
    """A few rows of a model that are made up, by their numbers."""

    def __init__(self, whole: Whole, only: NDArray[np.int64]) -> None:
        self.whole, self.only = whole, only
        self._drawn: dict[str, Drawn] = {}

    @property
    def size(self) -> int:
        return len(self.only)

    def column(self, name: str) -> Column:
        whole = self.whole
        if name == REMOVED:
            return nothing(self.size)
        if not self._drawn:
            start, stop = int(self.only.min(initial=0)), int(self.only.max(initial=-1)) + 1
            drawer = whole.drawer
            self._drawn = drawer.draw(whole.model, start, stop, whole.counts, self.only)
        return as_column(whole.model, name, self._drawn[name])

    def near(self, positions: NDArray[np.int64]) -> tuple[Any, NDArray[np.int64]]:
        return self, positions

    def follow(self, reference: str) -> Any:
        return self.whole.follow(reference)

    def children(self, hop: Hop) -> tuple[Any, NDArray[np.int64]]:
        rows, owner = self.whole.children(hop)
        place = np.full(self.whole.size, -1, dtype=np.int64)
        place[self.only - self.whole.start] = np.arange(self.size)
        kept = np.flatnonzero(place[owner] >= 0) if len(owner) else owner
        return Some(rows, kept), place[owner[kept]]


def children_of(drawer: RawDrawer, hop: Hop, counts: Counts) -> tuple[Whole, NDArray[np.int64]]:
    """All rows that a hop leads to, and the position of each one's owner; -1 for none."""
    rows = Whole(drawer, drawer.schema.models[hop.model], counts)
    if not hop.via:
        # Pairs are made last, when all rows are there: until then there are none.
        return rows, np.full(rows.size, -1, dtype=np.int64)
    if not rows.size:
        return rows, np.zeros(0, dtype=np.int64)
    column = rows.column(hop.via)
    return rows, np.where(column.empty, -1, column.values)
