"""Filling a database up to the declared counts, whole or not at all."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import Any

import numpy as np

from ..problems import WelbikError
from ..schema.model import Field, Model, Reference
from ..schema.tables import SchemaNames
from ..storage.sqlite import Database, encode
from .fixed import counts_with_fixed
from .pairs import add_pairs
from .rows import Drawer, Drawn, field_types

BATCH = 20_000
_PATIENCE = 20
"""Times as many rows as wanted are tried where stored ones stand in the way."""

Tell = Callable[[str, int], None]


def fill(
    database: Database,
    drawer: Drawer,
    counts: Mapping[str, int],
    tell: Tell = lambda model, rows: None,
) -> dict[str, int]:
    """Adds made-up rows until each model has its count; returns how many were added.

    `tell` hears of each batch: the model and its rows. Rows already there stay as they
    are, and values that must be unique avoid theirs. One transaction holds it all.
    """
    added: dict[str, int] = {}
    counts = counts_with_fixed(drawer.schema, dict(counts))
    with database.transaction():
        before: dict[str, int] = {}
        for model in drawer.schema.parents_first:
            there = before[model.name] = database.count(model.table)
            missing = counts.get(model.name, 0) - there
            if missing > 0:
                added[model.name] = missing
                _Filler(database, drawer, model, there).add(missing, counts, tell)
        for model in drawer.schema:
            for many in model.many:
                if many.declares and model.name in added:
                    add_pairs(database, drawer, model, many, before[model.name])
        if added:
            database.learn()
    return added


class _Filler:
    """Adds rows to one table."""

    def __init__(self, database: Database, drawer: Drawer, model: Model, there: int) -> None:
        self.database = database
        self.drawer = drawer
        self.model = model
        self.there = there
        self.first_id = self.next_id = 1 if model.key else database.next_id(model.table)
        self.types = field_types(model)
        self.ids: dict[str, Any] = {}
        self.taken: dict[str, set[object]] = {}
        for member in model.members:
            if member.unique and there:
                self.taken[member.name] = set(database.values(model.table, member.column)) - {None}

    def add(self, missing: int, counts: Mapping[str, int], tell: Tell) -> None:
        parents = {**counts, **self._parents(counts)}
        own = [] if self.model.key else ["id"]
        columns = [*own, *(member.column for member in self.model.members)]
        columns += ["created_at", "updated_at"] if "times" in self.model.keeps else []
        start = self.there
        last = start + missing * _PATIENCE + 10_000
        while missing > 0:
            if start > last:
                raise WelbikError(
                    f"no more {self.model.plural} can be made up beside those already stored",
                    "ask for fewer rows in 'seed', or remove stored ones",
                )
            stop = start + min(missing, BATCH)
            rows = self._rows(start, stop, parents)
            self.database.insert(self.model.table, columns, rows)
            self.next_id += len(rows)
            missing -= len(rows)
            start = stop
            tell(self.model.name, len(rows))

    def _parents(self, counts: Mapping[str, int]) -> dict[str, int]:
        """How many rows each parent has to choose from; their ids are read once."""
        found: dict[str, int] = {}
        for reference in self.model.references:
            target = reference.target
            if target not in self.ids and target != self.model.name:
                parent = self.drawer.schema.models[target]
                key = SchemaNames(self.drawer.schema).key(target)
                ids = self.database.values(parent.table, key)
                if not ids and not parent.key:
                    # A model later in the order: its rows will get the next ids.
                    first = self.database.next_id(parent.table)
                    ids = list(range(first, first + counts.get(target, 0)))
                self.ids[target] = np.array(ids, dtype=object if parent.key else np.int64)
            found[target] = len(self.ids.get(target, ()))
        if self.there and not self.model.key:
            self.ids[self.model.name] = np.array(
                self.database.values(self.model.table, "id"), dtype=np.int64
            )
        return found

    def _rows(self, start: int, stop: int, parents: Mapping[str, int]) -> list[tuple[object, ...]]:
        drawn = self.drawer.draw(self.model, start, stop, parents)
        columns = [self._encoded(member, drawn[member.name]) for member in self.model.members]
        if self.taken:
            columns = self._without_taken(columns)
        count = len(columns[0]) if columns else stop - start
        if "times" in self.model.keeps:
            now = datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S.%f")
            columns += [[now] * count] * 2
        if self.model.key:
            return list(zip(*columns, strict=True))
        ids = range(self.next_id, self.next_id + count)
        return list(zip(ids, *columns, strict=True))

    def _encoded(self, member: Field | Reference, drawn: Drawn) -> list[object]:
        if isinstance(member, Field):
            return encode(self.types[member.name], drawn.values, drawn.empty)
        if member.unique and member.target == self.model.name and self.there:
            # Which of the stored rows are free is not known by number: these stay without.
            return [None] * len(drawn.values)
        if member.target == self.model.name and self.model.key:
            return self._own_keys(drawn)
        return encode("integer", self._ids(member.target, drawn.values), drawn.empty)

    def _own_keys(self, drawn: Drawn) -> list[object]:
        """Keys of earlier rows of a model whose key is a field: those are drawn again."""
        key = self.model.stored(self.model.key)
        assert isinstance(key, Field)
        most = int(drawn.values.max(initial=0)) + 1
        keys = self.drawer.field(self.model, key, 0, most)
        known = encode(self.types[key.name], keys.values, keys.empty)
        chosen: list[object] = [known[at] for at in drawn.values.tolist()]
        for at in np.flatnonzero(drawn.empty).tolist() if drawn.empty is not None else ():
            chosen[at] = None
        return chosen

    def _ids(self, target: str, positions: Any) -> Any:
        if target != self.model.name:
            ids = self.ids[target]
            return ids[positions] if len(ids) else positions
        # Its own earlier rows: those that were there, else those made in this run.
        own = self.ids.get(target)
        return self.first_id + positions if own is None else own[positions % len(own)]

    def _without_taken(self, columns: list[list[object]]) -> list[list[object]]:
        """The columns less the rows that repeat a unique value already stored."""
        names = [member.name for member in self.model.members]
        keep = [
            all(
                columns[names.index(name)][row] not in values for name, values in self.taken.items()
            )
            for row in range(len(columns[0]))
        ]
        return [
            [value for value, kept in zip(column, keep, strict=True) if kept] for column in columns
        ]
