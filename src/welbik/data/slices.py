"""Rows of a model, drawn member by member as they are asked for, each within what its rules leave.

A row's values depend on nothing but its own number and what its rules read: so a slice comes out
the same wherever it is cut, and any rows can be had without the others.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..rules.arrays import Arrays, Column
from ..rules.tree import Hop
from ..schema.entries import REMOVED
from ..schema.model import Field, Model, Reference
from .columns import Counts, Drawn, Mask, as_column, nothing
from .families import Growing
from .fixed import put_fixed
from .limits import drawn_within
from .raw import RawDrawer

Places = NDArray[np.int64]
_SURVEY = 4096
"""So many rows tell how often rules leave a field no choice."""


class Slice:
    """Rows of a model by their numbers; see `rules.arrays.Rows`.

    With `final` they are as they are stored, and drawn again where rules could not be kept by narrowing.
    """

    def __init__(
        self, drawer: RawDrawer, model: Model, index: Places, counts: Counts, *, final: bool
    ) -> None:
        self.drawer, self.model, self.index, self.counts = drawer, model, index, counts
        self.final = final
        self.attempt = 0
        self.drawn: dict[str, Drawn] = {}
        rows = drawer.schema.rows.get(model.name)
        self.fixed: Mask = index < (len(rows.rows) if rows else 0)
        self._near: dict[str, tuple[Places, Any, Places]] = {}

    @property
    def size(self) -> int:
        return len(self.index)

    def near(self, positions: Places) -> tuple[Any, Places]:
        return self, positions

    def column(self, name: str) -> Column:
        if name == REMOVED:
            return nothing(self.size)
        if name == "id":
            return Column(self.index + 1, np.zeros(self.size, dtype=bool))
        return as_column(self.model, name, self.member(name))

    def member(self, name: str) -> Drawn:
        """A column; where it is final, all are brought within the rules first."""
        if self.final and name not in self.drawn:
            self.final = False
            # Rules over those that lead to it may read it in turn: then as it is before.
            within = self.model.name in self.drawer.mending
            if not within and self.drawer.must_mend(self.model, self.counts):
                self.drawn = self.drawer.mended(self)
        if name not in self.drawn:
            self.drawn[name] = self._fix(name, self.draw(name))
        return self.drawn[name]

    def all(self) -> dict[str, Drawn]:
        """Every column by its member's name."""
        return {member.name: self.member(member.name) for member in self.model.members}

    def _fix(self, name: str, drawn: Drawn) -> Drawn:
        if not self.fixed.any():
            return drawn
        found = {name: drawn}
        put_fixed(self.drawer.schema, self.drawer.here, self.model, self.index, found)
        return found[name]

    def draw(self, name: str, attempt: int | None = None) -> Drawn:
        """A column within what rules leave of it beside those that it is drawn after."""
        member = self.model.by_name[name]
        attempt = self.attempt if attempt is None else attempt
        if isinstance(member, Reference):
            return self.drawer.reference(self.model, member, self.index, self.counts, attempt)
        assert isinstance(member, Field)
        return drawn_within(self, member, attempt)

    def other(self, model: Model, index: Places) -> Slice:
        return Slice(self.drawer, model, index, self.counts, final=False)

    def survey(self) -> Slice:
        """Rows spread over all of the model's, that tell how often something is the case."""
        start = self.drawer.first(self.model.name)
        count = self.counts.get(self.model.name, 0) - start
        if count < 1:
            count = max(_SURVEY, int(self.index.max(initial=0)) + 1)
        index = start + np.unique(np.linspace(0, count - 1, min(count, _SURVEY)).astype(np.int64))
        return Slice(self.drawer, self.model, index, self.counts, final=False)

    def some(self, at: Places | Mask) -> Slice:
        """Some of these rows, with what is drawn of them."""
        found = Slice(self.drawer, self.model, self.index[at], self.counts, final=False)
        for name, drawn in self.drawn.items():
            empty = None if drawn.empty is None else drawn.empty[at]
            found.drawn[name] = Drawn(drawn.values[at], empty)
        return found

    @property
    def arrays(self) -> Arrays:
        return self.drawer.arrays

    def follow(self, reference: str) -> Any:
        return _Followed(self, reference)

    def target(self, name: str) -> Any:
        """All rows that a reference chooses from."""
        reference, world = self.model.by_name[name], self.drawer.world
        assert isinstance(reference, Reference)
        if world is not None and world.is_read(reference.target):
            chosen = world.choice(reference, self.drawer.arrays)
            return Growing(world.table(reference.target), chosen, self)
        rank = self.drawer.plan.rank
        final = rank[reference.target] < rank[self.model.name]
        return Far(self.drawer, self.drawer.schema.models[reference.target], self.counts, final)

    def children(self, hop: Hop) -> tuple[Any, Places]:
        drawer = self.drawer
        child, world = drawer.schema.models[hop.model], drawer.world
        none = np.zeros(0, dtype=np.int64)
        beside = world is not None and (world.is_read(self.model.name) or world.is_read(hop.model))
        # Pairs are made last, when all rows are there: until then there are none. Beside
        # stored rows, who will come to refer to these is only known once they are there.
        if not hop.via or beside:
            return Slice(drawer, child, none, self.counts, final=False), none
        reference = child.by_name[hop.via]
        assert isinstance(reference, Reference)
        start = drawer.first(self.model.name)
        shared = drawer.shared(child, reference, self.counts)
        if shared is None:
            return Slice(drawer, child, none, self.counts, final=False), none
        index, owner = shared.children(self.index - start)
        rank = drawer.plan.rank
        final = rank[child.name] < rank[self.model.name]
        return Slice(drawer, child, index, self.counts, final=final), owner


class _Followed:
    """The rows that a reference of a slice leads to, kept for all rules that read them."""

    def __init__(self, owner: Slice, reference: str) -> None:
        self.owner, self.reference = owner, reference
        self.rows = owner.target(reference)

    @property
    def size(self) -> int:
        return int(self.rows.size)

    def near(self, positions: Places) -> tuple[Any, Places]:
        known = self.owner._near.get(self.reference)
        if known is None or not np.array_equal(known[0], positions):
            rows, places = self.rows.near(positions)
            known = self.owner._near[self.reference] = (positions, rows, places)
        return known[1], known[2]

    def column(self, name: str) -> Column:
        column: Column = self.rows.column(name)
        return column

    def follow(self, reference: str) -> Any:
        return self.rows.follow(reference)

    def children(self, hop: Hop) -> Any:
        return self.rows.children(hop)


class Far:
    """All rows of a model that are made up: those are drawn that are asked for."""

    def __init__(self, drawer: RawDrawer, model: Model, counts: Counts, final: bool) -> None:
        self.drawer, self.model, self.counts, self.final = drawer, model, counts, final

    @property
    def start(self) -> int:
        return self.drawer.first(self.model.name)

    @property
    def size(self) -> int:
        """Up to the last one; beside stored rows only those that are still to come."""
        return max(0, self.counts.get(self.model.name, 0) - self.start)

    def near(self, positions: Places) -> tuple[Slice, Places]:
        there, places = np.unique(positions, return_inverse=True)
        index = there + self.start
        return Slice(self.drawer, self.model, index, self.counts, final=self.final), places

    def _whole(self) -> Slice:
        return self.near(np.arange(self.size))[0]

    def column(self, name: str) -> Column:
        return self._whole().column(name)

    def follow(self, reference: str) -> Any:
        return self._whole().follow(reference)

    def children(self, hop: Hop) -> tuple[Any, Places]:
        return self._whole().children(hop)
