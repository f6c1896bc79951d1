"""Filling a database up to the declared counts, whole or not at all."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np

from ..problems import WelbikError
from ..schema.model import Field, Model, Reference
from ..storage.backend import Database
from ..storage.neutral import encode
from ..storage.tables import tables_of
from .columns import Drawn
from .drawer import Drawer
from .fixed import counts_with_fixed
from .pairs import add_pairs
from .settling import FixedTable, Values
from .uploads import write_uploads
from .verify import Broken, Verifier, led_by
from .world import World

BATCH = 20_000
_PATIENCE = 20
"""Times as many rows as wanted are tried where stored ones stand in the way."""
_AGAIN = 12
"""Times that rows are drawn anew because stored ones can't have more of them."""

Tell = Callable[[str, int], None]


@dataclass
class Filled:
    """What a fill did: rows added and fixed rows changed, by model, and what it left alone."""

    added: dict[str, int] = field(default_factory=dict)
    changed: dict[str, int] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)


def fill(
    database: Database,
    drawer: Drawer,
    counts: Mapping[str, int],
    tell: Tell = lambda model, rows: None,
    files: Path | None = None,
) -> Filled:
    """Adds made-up rows until each model has its count.

    `tell` hears of each batch: the model and its rows. Rows already there stay as they are,
    and new ones fit them: values that must be unique avoid theirs, relations lead to them,
    and every rule is asked of the database at the end. One transaction holds it all. Made-up
    uploads are written to the folder `files`.
    """
    database.prepare(tables_of(drawer.schema), drawer.here.timezone)
    with database.transaction():
        filling = _Filling(database, drawer, counts, tell)
        for model in drawer.schema.parents_first:
            filling.model(model)
        filling.pairs()
        if files is not None:
            write_uploads(drawer.schema, set(filling.found.added), files)
    if filling.found.added:
        database.learn()
    return filling.found


class _Filling:
    """One fill, model by model."""

    def __init__(
        self, database: Database, drawer: Drawer, counts: Mapping[str, int], tell: Tell
    ) -> None:
        self.database, self.drawer, self.tell = database, drawer, tell
        schema = drawer.schema
        self.asked = counts
        self.wanted = counts_with_fixed(schema, dict(counts))
        self.world = drawer.world = World(database, schema, self.wanted)
        self.verifier = Verifier(database, schema, drawer.here.timezone)
        self.found = Filled()
        self.before = {model.name: database.count(model.table) for model in schema}
        self.done: set[str] = set()
        self._fixed: dict[str, list[object]] = {}

    def model(self, model: Model) -> None:
        self._settle_fixed(model)
        # Fixed rows are settled: what is made up besides is what 'seed' asks for.
        missing = self.asked.get(model.name, 0) - self.world.there[model.name]
        if missing > 0:
            self._add(model, missing)
            self.found.added[model.name] = self.found.added.get(model.name, 0) + missing
        self.done.add(model.name)

    def _settle_fixed(self, model: Model) -> None:
        if model.name not in self.drawer.schema.rows:
            return
        table = FixedTable(self.database, self.drawer.schema, self.drawer.here, model, self._fixed)
        settled = table.settle()
        keys = settled.keys
        if settled.missing:
            filler = _Filler(self, model)
            start = self.world.starts[model.name]
            added = filler.add(len(settled.missing), start, list(settled.missing.values()))
            for at, key in zip(settled.missing, added, strict=True):
                keys[at] = key
            self.found.added[model.name] = len(added)
        self._fixed[model.name] = keys
        table.remember(keys)
        if settled.changes:
            self.found.changed[model.name] = len(settled.changes)
        self.found.remarks += settled.remarks
        self.world.recount(model.name)
        self.verifier.accept(model)

    def _add(self, model: Model, missing: int) -> None:
        """Adds rows; draws them anew, at other parents, where they break rules of stored ones."""
        for again in range(_AGAIN + 1):
            with self.database.attempt() as take_back:
                start = self.world.start(model.name)
                _Filler(self, model).add(missing, start)
                self.world.forget(model.name)
                known = self.done | {model.name}
                broken = list(self.verifier.broken({model.name}, known))
                if not broken:
                    break
                if again == _AGAIN or not self._exclude(model, broken):
                    raise broken[0].error(model.name)
                take_back()
                self.world.forget(model.name)
                self.drawer.forget()
        self.world.added(model.name)

    def _exclude(self, model: Model, broken: Sequence[Broken]) -> bool:
        """Keeps relations from rows that can't have more; whether that may help."""
        helps = False
        for one in broken:
            if one.model is not model and led_by(model, one.model.name):
                self.world.exclude(one.model.name, one.keys)
                helps = True
        return helps

    def pairs(self) -> None:
        """Stores what many-to-many relations of the new rows lead to."""
        made = set()
        for model in self.drawer.schema:
            for many in model.many:
                if many.declares and model.name in self.found.added:
                    start = self.before[model.name]
                    add_pairs(self.database, self.drawer, model, many, start)
                    made |= {model.name, many.target}
        for broken in self.verifier.broken(made, self.done) if made else ():
            raise broken.error(broken.model.name)


class _Filler:
    """Adds rows to one table."""

    def __init__(self, filling: _Filling, model: Model) -> None:
        self.filling = filling
        self.database, self.drawer = filling.database, filling.drawer
        self.world, self.model = filling.world, model
        self.counts = self._counts()
        self.first_id = self.next_id = (
            1 if not model.numbered else self.database.next_id(model.table)
        )
        self.types = {field.name: field.kind.stored().type for field in model.fields}
        self.keys: dict[str, Any] = {}
        self.given: list[Values] = []
        self.taken: dict[str, set[object]] = {}
        self._filled = [member for member in model.members if not member.by_database]
        for member in self._filled:
            if member.unique and filling.before[model.name]:
                stored = self.database.values(model.table, member.column)
                self.taken[member.name] = set(stored) - {None}

    def _counts(self) -> dict[str, int]:
        """How many rows there are to choose from, and up to which number they are made up."""
        world, schema = self.world, self.drawer.schema
        found = {name: world.start(name) + world.missing[name] for name in schema.models}
        return {
            name: self.filling.wanted.get(name, 0) if not world.stored[name] else count
            for name, count in found.items()
        }

    def add(self, missing: int, start: int, given: Sequence[Values] = ()) -> list[object]:
        """Adds so many rows, made up from a number on; returns their keys.

        `given` are values of the first ones that are not made up.
        """
        own = [self.model.number] if self.model.numbered else []
        columns = [*own, *(member.column for member in self._filled)]
        columns += ["created_at", "updated_at"] if "times" in self.model.keeps else []
        key = self.world.names.key(self.model.name)
        self.given = list(given)
        last = start + missing * _PATIENCE + 10_000
        keys: list[object] = []
        while missing > 0:
            if start > last:
                raise WelbikError(
                    f"no more {self.model.plural} can be made up beside those already stored",
                    "ask for fewer rows in 'seed', or remove stored ones",
                )
            stop = start + min(missing, BATCH)
            made = self._columns(start, stop)
            count = len(made[0])
            self.database.insert(self.model.table, columns, made)
            if given:
                keys += made[columns.index(key)]
            self.next_id += count
            missing -= count
            start = stop
            self.filling.tell(self.model.name, count)
        return keys

    def _columns(self, start: int, stop: int) -> list[Sequence[object]]:
        drawn = self.drawer.draw(self.model, start, stop, self.counts)
        columns = [self._encoded(member, drawn[member.name]) for member in self._filled]
        count = len(columns[0]) if columns else stop - start
        self._give(columns)
        if self.taken:
            columns = self._without_taken(columns)
            count = len(columns[0]) if columns else count
        self.given = self.given[count:]
        if "times" in self.model.keeps:
            now = datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S.%f")
            columns += [[now] * count] * 2
        if not self.model.numbered:
            return [*columns]
        return [range(self.next_id, self.next_id + count), *columns]

    def _give(self, columns: list[list[object]]) -> None:
        """Puts the values that are not made up into the first rows."""
        for member, column in zip(self._filled, columns, strict=True):
            for at, values in enumerate(self.given[: len(column)]):
                if member.column in values:
                    column[at] = values[member.column]

    def _encoded(self, member: Field | Reference, drawn: Drawn) -> list[object]:
        if isinstance(member, Field):
            return encode(self.types[member.name], drawn.values, drawn.empty)
        made_up = not self.world.is_read(member.target)
        if made_up and member.target == self.model.name and self.model.key:
            return self._own_keys(drawn)
        return encode("integer", self._keys(member)[drawn.values], drawn.empty)

    def _keys(self, reference: Reference) -> Any:
        """The keys of the rows that a reference chooses from, by their position."""
        world, target = self.world, self.drawer.schema.models[reference.target]
        if reference.name not in self.keys:
            if world.is_read(target.name):
                keys = world.table(target.name).keys[world.choice(reference, self.drawer.arrays)]
            elif target.name in self.filling.done:
                keys = world.table(target.name).keys
            else:
                # Rows that come later, or its own: they will get the next ids.
                first = self.database.next_id(target.table)
                keys = first + np.arange(self.counts[target.name], dtype=np.int64)
            self.keys[reference.name] = keys if len(keys) else np.zeros(1, dtype=np.int64)
        return self.keys[reference.name]

    def _own_keys(self, drawn: Drawn) -> list[object]:
        """Keys of earlier rows of a model whose key is a field: those are drawn again."""
        key = self.model.stored(self.model.key)
        assert isinstance(key, Field)
        most = int(drawn.values.max(initial=0)) + 1
        keys = self.drawer.field(self.model, key, np.arange(most))
        known = encode(self.types[key.name], keys.values, keys.empty)
        chosen: list[object] = [known[at] for at in drawn.values.tolist()]
        for at in np.flatnonzero(drawn.empty).tolist() if drawn.empty is not None else ():
            chosen[at] = None
        return chosen

    def _without_taken(self, columns: list[list[object]]) -> list[list[object]]:
        """The columns less the rows that repeat a unique value already stored."""
        names = [member.name for member in self._filled]
        keep = [
            row < len(self.given)
            or all(
                columns[names.index(name)][row] not in values for name, values in self.taken.items()
            )
            for row in range(len(columns[0]))
        ]
        return [
            [value for value, kept in zip(column, keep, strict=True) if kept] for column in columns
        ]
