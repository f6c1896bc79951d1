"""What a fill finds in a database: the rows that relations choose from and rules read.

Rows of a model that were there before, or that were just added beside them, are read; only
those of an empty table are known by how they are made up.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..rules.arrays import Arrays, Column
from ..rules.tree import Hop
from ..schema.entries import REMOVED
from ..schema.model import Field, Many, Model, Reference, Schema
from ..schema.tables import SchemaNames
from ..storage.backend import Database
from ..storage.neutral import decode
from .memory import Memory
from .sharing import NO_END

Positions = NDArray[np.int64]


class World:
    """The rows of a schema's models in a database, while a fill goes on.

    `wanted` says how many live rows each model is to have.
    """

    def __init__(
        self,
        database: Database,
        schema: Schema,
        wanted: Mapping[str, int],
        memory: Memory | None = None,
        said: Mapping[str, Any] | None = None,
    ) -> None:
        self.database = database
        self.schema = schema
        self.names = SchemaNames(schema)
        self.memory = memory
        live = {model.name: database.count(model.table, live=has_bin(model)) for model in schema}
        self.there = live
        self.missing = {name: max(0, wanted.get(name, 0) - live[name]) for name in schema.models}
        self.stored = {model.name: database.count(model.table) for model in schema}
        self.starts = {model.name: self._first(model) for model in schema}
        if said is not None:
            self._as_before(wanted, said["before"])
        self.held_back: dict[tuple[str, str], dict[object, int]] = {}
        """By relation how many more rows may lead to some rows: more have broken a rule."""
        self.as_made: Callable[[Model], Sequence[object]] = lambda model: ()
        """The keys of a model's made-up rows in their order, where those are values of their own."""
        self._in_order: dict[str, dict[object, int]] = {}
        self._tables: dict[str, Known] = {}
        self._chosen: dict[tuple[str, str], Positions] = {}

    def said(self) -> dict[str, dict[str, int]]:
        """What was there when a fill began, for one that goes on with it."""
        return {
            "there": dict(self.there),
            "stored": dict(self.stored),
            "starts": dict(self.starts),
        }

    def _as_before(self, wanted: Mapping[str, int], said: Mapping[str, Mapping[str, int]]) -> None:
        self.there, self.stored = dict(said["there"]), dict(said["stored"])
        self.starts = dict(said["starts"])
        self.missing = {n: max(0, wanted.get(n, 0) - self.there[n]) for n in self.schema.models}

    def start(self, model: str) -> int:
        """The number of the first row that is made up: no lower one is made again."""
        fixed = self.schema.rows.get(model)
        return max(self.starts[model], len(fixed.rows) if fixed else 0)

    def is_read(self, model: str) -> bool:
        """Whether rows of a model are read, and not known by how they are made up."""
        return self.stored.get(model, 0) > 0 or model in self._led_by_few

    @property
    def _led_by_few(self) -> set[str]:
        """The models to whose rows relations may lead only so often."""
        references = [self.schema.models[m].by_name[name] for m, name in self.held_back]
        return {reference.target for reference in references if isinstance(reference, Reference)}

    def recount(self, model: str) -> None:
        """Counts the rows of a model anew: fixed ones were added."""
        stored = self.schema.models[model]
        self.there[model] = self.database.count(stored.table, live=has_bin(stored))
        self.stored[model] = self.database.count(stored.table)
        self.starts[model] = self._first(stored)
        self.forget(model)

    def _first(self, model: Model) -> int:
        """The number of the first row to make up: an empty table begins anew."""
        if not self.stored[model.name]:
            return 0
        known = self.memory.next_number(model.table) if self.memory is not None else None
        return self.database.made(model.table) if known is None else known

    def added(self, model: str) -> None:
        """All rows of a model that were missing are there now."""
        self.missing[model] = 0

    def hold_back(
        self, reference: Reference, rooms: Mapping[object, int], led: Mapping[object, int]
    ) -> None:
        """Lets no more new rows lead to some rows than there is room for, where that is known.

        A quarter of those that `led` there where it is not, and half where so many broke a rule after all.
        """
        few = self.held_back.setdefault((reference.model, reference.name), {})
        before = dict(few)
        few |= {key: min(room, few.get(key, room)) for key, room in rooms.items()}
        for key, rows in led.items():
            if before.get(key, rows) < rows:
                # Rows that stand in for others came together there.
                few[key] = before[key] // 2
            elif few.get(key, rows) >= rows:
                few[key] = rows // (2 if key in rooms else 4)
        self._chosen.clear()

    def room(self, reference: Reference, arrays: Arrays) -> Positions | None:
        """How many more rows may lead to each of those that a reference may lead to, where it is known."""
        few = self.held_back.get((reference.model, reference.name))
        if few is None:
            return None
        keys = self.table(reference.target).keys[self.choice(reference, arrays)]
        return np.array([few.get(key, NO_END) for key in keys.tolist()], dtype=np.int64)

    def order_of(self, model: Model, keys: Sequence[Any]) -> list[int] | None:
        """In which order the rows with some keys were made; None where that is not known.

        Not every database knows it of keys that are no numbers: all are to make the same of them.
        """
        if model.numbered:
            return None
        if model.name not in self._in_order:
            self._in_order[model.name] = {one: at for at, one in enumerate(self.as_made(model))}
        made = self._in_order[model.name]
        places = [made.get(one, len(made)) for one in keys]
        return sorted(range(len(keys)), key=places.__getitem__) if made else None

    def forget(self, model: str) -> None:
        """Rows of a model have come or changed: they are read anew."""
        self._tables.pop(model, None)
        self._chosen.clear()

    def table(self, model: str) -> Known:
        """All rows of a model."""
        if model not in self._tables:
            self._tables[model] = Known(self, self.schema.models[model])
        return self._tables[model]

    def choice(self, reference: Reference, arrays: Arrays) -> Positions:
        """The rows of its model that a reference of a new row may lead to, in `table`."""
        key = (reference.model, reference.name)
        if key not in self._chosen:
            rows = self.table(reference.target)
            free = rows.live()
            gone = {k for k, few in self.held_back.get(key, {}).items() if not few}
            if reference.unique:
                model = self.schema.models[reference.model]
                gone = gone | set(
                    self.database.values(model.table, reference.column, live=has_bin(model))
                )
            if gone:
                free &= np.array([key not in gone for key in rows.keys.tolist()], dtype=bool)
            if reference.where is not None:
                held = arrays.evaluate(reference.where, rows)
                free &= held.values.astype(bool) | held.empty
            self._chosen[key] = np.flatnonzero(free)
        return self._chosen[key]

    def led(self, reference: Reference, arrays: Arrays) -> Positions:
        """How many stored rows lead to each of those that a reference may lead to."""
        model = self.schema.models[reference.model]
        stored = self.database.values(model.table, reference.column, live=has_bin(model))
        column = self.table(reference.target).positions([one for one in stored if one is not None])
        led = np.bincount(column.values[~column.empty], minlength=self.table(reference.target).size)
        found: Positions = led[self.choice(reference, arrays)]
        return found


def has_bin(model: Model) -> bool:
    return "bin" in model.keeps


class Known:
    """Stored rows of a model as rules read them; see `rules.arrays.Rows`."""

    def __init__(self, world: World, model: Model) -> None:
        self.world, self.model = world, model
        key = world.names.key(model.name)
        kind = world.schema.key_of(model)
        stored = world.database.values(model.table, key)
        self._order = world.order_of(model, stored)
        stored = self._sorted(stored)
        exact = not isinstance(kind, Field) or kind.kind.annotation == "int"
        self.keys = np.array(stored, dtype=np.int64 if exact else object)
        self._columns: dict[str, Column] = {}

    @property
    def size(self) -> int:
        return len(self.keys)

    def _sorted(self, values: list[Any]) -> list[Any]:
        return values if self._order is None else [values[at] for at in self._order]

    def positions(self, keys: list[object]) -> Column:
        """Where rows with some keys stand; empty where there is none."""
        place = {key: at for at, key in enumerate(self.keys.tolist())}
        found = np.array([place.get(key, -1) for key in keys], dtype=np.int64)
        return Column(np.maximum(found, 0), found < 0)

    def live(self) -> NDArray[np.bool_]:
        if not has_bin(self.model):
            return np.ones(self.size, dtype=bool)
        return self.column(REMOVED).empty.copy()

    def column(self, name: str) -> Column:
        if name not in self._columns:
            self._columns[name] = self._read(name)
        return self._columns[name]

    def _read(self, name: str) -> Column:
        member = self.model.by_name.get(name)
        if name == REMOVED and not has_bin(self.model):
            return Column(np.zeros(self.size, "datetime64[us]"), np.ones(self.size, dtype=bool))
        column = self.world.names.column(self.model.name, name)
        stored = self._sorted(self.world.database.values(self.model.table, column))
        if isinstance(member, Reference):
            return self.world.table(member.target).positions(stored)
        if name == "id":
            return Column(self.keys, np.zeros(self.size, dtype=bool))
        type_ = member.kind.stored().type if isinstance(member, Field) else "timestamp"
        return Column(*decode(type_, stored))

    def near(self, positions: Positions) -> tuple[Any, Positions]:
        return self, positions

    def follow(self, reference: str) -> Known:
        target = self.model.by_name[reference]
        assert isinstance(target, Reference)
        return self.world.table(target.target)

    def children(self, hop: Hop) -> tuple[Known, Positions]:
        rows = self.world.table(hop.model)
        if hop.via:
            column = rows.column(hop.via)
            return rows, np.where(column.empty, -1, column.values)
        many = self.model.by_name[hop.name]
        assert isinstance(many, Many)
        mine = self.world.database.values(many.table, many.column)
        theirs = self.world.database.values(many.table, many.target_column)
        return (  # type: ignore[return-value]
            Some(rows, rows.positions(theirs).values),
            self.positions(mine).values,
        )


class Some:
    """Some rows of others, as rules read them."""

    def __init__(self, rows: Any, at: Positions) -> None:
        self.rows, self.at = rows, at

    @property
    def size(self) -> int:
        return len(self.at)

    @property
    def model(self) -> Model:
        model: Model = self.rows.model
        return model

    def column(self, name: str) -> Column:
        column = self.rows.column(name)
        return Column(column.values[self.at], column.empty[self.at])

    def near(self, positions: Positions) -> tuple[Any, Positions]:
        return self, positions

    def follow(self, reference: str) -> Any:
        return self.rows.follow(reference)

    def children(self, hop: Hop) -> tuple[Any, Positions]:
        rows, owner = self.rows.children(hop)
        place = np.full(self.rows.size, -1, dtype=np.int64)
        place[self.at] = np.arange(self.size)
        owners = place[owner] if len(owner) else owner
        owners = np.where(owner < 0, -1, owners)
        kept = np.flatnonzero(owners >= 0)
        return Some(rows, kept), owners[kept]
