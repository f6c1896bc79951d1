"""Made-up rows beside stored ones: they lead to those, and avoid what must be unique."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..problems import WelbikError
from ..schema.model import Field, Model, Reference
from ..storage.backend import Database
from ..storage.neutral import encode
from .columns import Drawn, Mask
from .drawer import Drawer
from .made_keys import keys_of
from .making import BATCH, filled, times_of
from .marks import has_marks
from .settling import Values
from .several import Leading, Several
from .world import World

_PATIENCE = 20
"""Times as many rows as wanted are tried where stored ones stand in the way."""


@dataclass
class Ground:
    """What rows are added on.

    `wanted` says how many rows each model is to have, `done` which are complete, `now` when rows are
    made, in seconds since 1970; `tell` hears of each batch. `several` has what leads by several columns.
    """

    database: Database
    drawer: Drawer
    world: World
    wanted: Mapping[str, int]
    done: set[str]
    now: int
    tell: Callable[[str, int], None]
    several: Mapping[str, Sequence[Several]] = field(default_factory=dict)


class Beside:
    """Adds rows to one table, made up to fit those that are there."""

    def __init__(self, ground: Ground, model: Model) -> None:
        self.ground = ground
        self.database, self.drawer = ground.database, ground.drawer
        self.world, self.model = ground.world, model
        self.counts = self._counts()
        self.first_id = self.next_id = (
            1 if not model.numbered else self.database.next_id(model.table)
        )
        self.types = {field.name: field.kind.stored().type for field in model.fields}
        self.keys: dict[tuple[str, str], Any] = {}
        self.given: list[Values] = []
        self.times: list[list[object]] = []
        self.skipped: list[int] = []
        """The numbers of rows that were not stored: others have what would be theirs alone."""
        self.last = 0
        """The number after that of the last row."""
        self.taken: dict[str, set[object]] = {}
        self._filled = filled(model)
        several = ground.several.get(model.name)
        self.leading = several and Leading(self.database, self.drawer.seed, model, several)
        for member in self._filled:
            if member.unique and ground.world.stored[model.name]:
                stored = self.database.values(model.table, member.column)
                self.taken[member.name] = set(stored) - {None}

    def _counts(self) -> dict[str, int]:
        """How many rows there are to choose from, and up to which number they are made up."""
        world, schema = self.world, self.drawer.schema
        found = {name: world.start(name) + world.missing[name] for name in schema.models}
        return {
            name: self.ground.wanted.get(name, 0) if not world.stored[name] else count
            for name, count in found.items()
        }

    def add(self, missing: int, start: int, given: Sequence[Values] = ()) -> list[object]:
        """Adds so many rows, made up from a number on; returns their keys.

        Keys that are numbers are left out unless values are `given`: those of the first rows, that
        are not made up.
        """
        own = [self.model.number] if self.model.numbered else []
        columns = [*own, *(member.column for member in self._filled)]
        columns += ["created_at", "updated_at"] if "times" in self.model.keeps else []
        key = self.world.names.key(self.model.name)
        self.given = list(given)
        last = start + missing * _PATIENCE + 10_000
        keys: list[object] = []
        idle = 0
        while missing > 0:
            if start > last:
                raise WelbikError(
                    f"no more {self.model.plural} can be made up beside those already stored",
                    "ask for fewer rows in 'seed', or remove stored ones",
                )
            # The more at a time, the longer none could be stored.
            stop = start + min(missing << idle, BATCH)
            made = self._columns(start, stop, missing)
            count = len(made[0])
            idle = 0 if count else min(idle + 1, 10)
            self.database.insert(self.model.table, columns, made)
            if given or has_marks(self.model):
                keys += made[columns.index(key)]
            self.next_id += count
            missing -= count
            start = self.last
            self.ground.tell(self.model.name, count)
        return keys

    def _columns(self, start: int, stop: int, most: int) -> list[Sequence[object]]:
        drawn = self.drawer.draw(self.model, start, stop, self.counts)
        columns = [self.encoded(member, drawn[member.name]) for member in self._filled]
        count = len(columns[0]) if columns else stop - start
        self._give(columns)
        index = np.arange(start, stop)
        self.last = stop
        if self.taken or self.leading:
            kept = np.ones(count, dtype=bool)
            if self.leading:
                kept &= self.leading.put(columns, index, len(self.given))
            kept &= self._free(columns)
            enough = np.flatnonzero(kept)[most - 1 : most]
            self.last = int(index[enough[0]]) + 1 if len(enough) else stop
            kept &= index < self.last
            self.skipped += index[~kept & (index < self.last)].tolist()
            columns = [
                [value for value, one in zip(column, kept, strict=True) if one]
                for column in columns
            ]
            index = index[kept]
            count = len(index)
        if "times" in self.model.keeps:
            now = self.ground.now
            found = times_of(self.drawer, self.model, np.arange(start, stop), drawn, now)
            self.times = [[column[at - start] for at in index.tolist()] for column in found]
        self.given = self.given[count:]
        if "times" in self.model.keeps:
            columns += self.times
        if not self.model.numbered:
            return [*columns]
        return [range(self.next_id, self.next_id + count), *columns]

    def _give(self, columns: list[list[object]]) -> None:
        """Puts the values that are not made up into the first rows."""
        for member, column in zip(self._filled, columns, strict=True):
            for at, values in enumerate(self.given[: len(column)]):
                if member.column in values:
                    column[at] = values[member.column]

    def encoded(self, member: Field | Reference, drawn: Drawn) -> list[object]:
        if isinstance(member, Field):
            return encode(self.types[member.name], drawn.values, drawn.empty)
        made_up = not self.world.is_read(member.target)
        if made_up and member.target == self.model.name and self.model.key:
            numbers = drawn.values + self.drawer.first(self.model.name)
            at = Drawn(numbers, drawn.empty)
            return keys_of(self.drawer, self.model, at, self.counts, self.encoded)
        return encode("integer", self._keys(member)[drawn.values], drawn.empty)

    def _keys(self, reference: Reference) -> Any:
        """The keys of the rows that a reference chooses from, by their position."""
        world, target = self.world, self.drawer.schema.models[reference.target]
        known = (reference.model, reference.name)
        if known not in self.keys:
            if world.is_read(target.name):
                keys = world.table(target.name).keys[world.choice(reference, self.drawer.arrays)]
            elif not target.numbered:
                keys = self._made_keys(target)
            elif target.name in self.ground.done:
                keys = world.table(target.name).keys
            else:
                # Rows that come later, or its own: they will get the next ids.
                first = self.database.next_id(target.table)
                keys = first + np.arange(self.counts[target.name], dtype=np.int64)
            self.keys[known] = keys if len(keys) else np.zeros(1, dtype=np.int64)
        return self.keys[known]

    def _made_keys(self, target: Model) -> Any:
        """The keys of made-up rows as they were made: a database may have them in another order."""
        index = self.drawer.first(target.name) + np.arange(self.counts[target.name])
        keys = keys_of(self.drawer, target, Drawn(index, None), self.counts, self.encoded)
        return np.array(keys, dtype=object)

    def _free(self, columns: list[list[object]]) -> Mask:
        """Which rows repeat no unique value that is already stored."""
        names = [member.name for member in self._filled]
        keep = [
            row < len(self.given)
            or all(
                columns[names.index(name)][row] not in values for name, values in self.taken.items()
            )
            for row in range(len(columns[0]))
        ]
        return np.array(keep, dtype=bool)
