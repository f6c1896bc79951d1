"""Filling a database up to the declared counts, table after table.

What is stored stays, and is written down: a fill that was stopped, however that came about, goes on
where it was and ends in the same rows.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ..schema.model import Many, Model, Schema
from ..storage.backend import Database
from ..storage.tables import fingerprint, tables_of
from .beside import Beside, Ground
from .completing import complete
from .drawer import Drawer
from .fixed import counts_with_fixed
from .making import BATCH, Batches, Making, filled, midnight
from .memory import Memory, Run
from .narrowing import reads
from .pairs import pairs_of
from .settling import FixedTable
from .uploads import write_uploads
from .verify import Broken, Verifier, led_by
from .world import World

_AGAIN = 12
"""Times that rows are drawn anew because stored ones can't have more of them."""
_AT_ONCE = 2_000_000
"""Rows of one table that are stored together: as many are made again where a fill was stopped."""
_FIRST = 200
"""So many rows of each model are tried before any is stored."""

Tell = Callable[[str, int], None]


@dataclass
class Filled:
    """What a fill did, and what it left alone.

    By model the rows that were added, the fixed rows that were changed, and the made-up rows that
    got what is new in the declarations; `went_on` where it went on with one that was stopped.
    """

    added: dict[str, int] = field(default_factory=dict)
    changed: dict[str, int] = field(default_factory=dict)
    completed: dict[str, int] = field(default_factory=dict)
    removed: dict[str, int] = field(default_factory=dict)
    remarks: list[str] = field(default_factory=list)
    went_on: bool = False


def fill(
    database: Database,
    drawer: Drawer,
    counts: Mapping[str, int],
    tell: Tell = lambda model, rows: None,
    files: Path | None = None,
    processes: int | None = None,
    request: str = "",
) -> Filled:
    """Adds made-up rows until each model has its count.

    `tell` hears of each batch: the model and its rows. Rows already there stay as they are,
    and new ones fit them: values that must be unique avoid theirs, relations lead to them,
    and every rule is asked of the database. Made-up uploads are written to the folder `files`.
    `request` is what was asked for, where counts are not: the same goes on with what was stopped.
    Large tables are drawn by so many other `processes`, as many as there are to spare where it is None.
    """
    database.prepare(tables_of(drawer.schema), drawer.here.timezone)
    filling = Filling(database, drawer, counts, tell, request)
    if processes is None:
        processes = max(1, min(4, (os.cpu_count() or 1) - 1)) if (os.cpu_count() or 1) > 1 else 0
    filling.try_first()
    filling.begin()
    if files is not None:
        write_uploads(drawer.schema, filling.lacking(), files)
    with ExitStack() as stack:
        if filling.together:
            stack.enter_context(database.transaction())
        with Batches(filling.making(), filling.rows_to_make(), processes) as batches:
            for model in drawer.schema.parents_first:
                filling.model(model, batches)
        filling.pairs()
        filling.end()
    if filling.found.added:
        database.learn()
    return filling.found


class Filling:
    """One fill, model by model."""

    def __init__(
        self,
        database: Database,
        drawer: Drawer,
        counts: Mapping[str, int],
        tell: Tell,
        request: str = "",
    ) -> None:
        self.database, self.tell = database, tell
        schema = self.schema = drawer.schema
        self.wanted = counts_with_fixed(schema, dict(counts))
        self.memory = Memory(database)
        self.memory.prepare()
        self.found = Filled()
        said = self.memory.under_way()
        digest = _digest(schema, drawer, request or str(sorted(counts.items())))
        if said is not None and said["asked"] == digest:
            self.found.went_on = True
            counts = said["counts"]
            self.wanted = counts_with_fixed(schema, dict(counts))
            day = dt.date.fromisoformat(said["day"])
            drawer = Drawer(schema, drawer.seed, drawer.here.timezone, today=day)
            self.world = World(database, schema, self.wanted, self.memory, said)
        else:
            self.world = World(database, schema, self.wanted, self.memory)
            day = dt.date(1970, 1, 1) + dt.timedelta(days=drawer.here.today)
            firsts = {m.name: database.next_id(m.table) for m in schema if m.numbered}
            said = {
                "asked": digest,
                "day": day.isoformat(),
                "now": midnight(day, drawer.here.timezone),
            }
            said |= {
                "counts": dict(counts),
                "firsts": firsts,
                "progress": {},
                "done": [],
                "before": self.world.said(),
            }
            for model in schema:
                if not self.world.stored[model.name]:
                    # Nothing is left of what was made: an empty table begins anew.
                    self.memory.runs.pop(model.table, None)
        self.asked = counts
        self.said: dict[str, Any] = said
        self.drawer, self.day, self.now = drawer, day, int(said["now"])
        drawer.world = self.world
        self.verifier = Verifier(database, schema, drawer.here.timezone)
        self.done: set[str] = set()
        self.ground = Ground(database, drawer, self.world, self.wanted, self.done, self.now, tell)
        self._fixed: dict[str, list[object]] = {}
        rank = drawer.plan.rank
        self.together = any(
            rank[r.target] > rank[model.name] for model in schema for r in model.references
        )
        """Whether models refer to each other in a circle: then all is stored at once."""

    # Before anything is stored

    def lacking(self) -> set[str]:
        return {name for name in self.schema.models if self._missing(name) > 0}

    def _missing(self, name: str) -> int:
        return max(0, self.wanted.get(name, 0) - self.world.there[name])

    def rows_to_make(self) -> int:
        return sum(self._missing(m.name) for m in self.schema if self.is_plain(m))

    def making(self) -> Making:
        counts = {
            name: self.wanted.get(name, 0)
            if not self.world.stored[name]
            else self.world.there[name]
            for name in self.schema.models
        }
        zone = self.drawer.here.timezone
        firsts = self.said["firsts"]
        return Making(self.schema, self.drawer.seed, zone, self.day, counts, firsts, self.now)

    def is_plain(self, model: Model) -> bool:
        """Whether rows of a model are known by how they are made up alone: nothing is read."""
        world, plan = self.world, self.drawer.plan
        if world.stored[model.name] or model.name in self.schema.rows:
            return False
        read = {reference.target for reference in model.references}
        for event in [(model.name, member.name) for member in model.members]:
            read |= {name for name, _ in plan.needs.get(event, ())}
        for rule in model.rules:
            read |= {name for name, _ in reads(rule.node)}
        fixed = set(self.schema.rows) & read
        return not fixed and not any(world.is_read(name) for name in read)

    def try_first(self) -> None:
        """Draws some rows of each model, so that what can't be made is told before any is stored."""
        for model in self.schema.parents_first:
            missing = self.asked.get(model.name, 0) - self.world.there[model.name]
            if missing > 0 and self.is_plain(model) and not self.found.went_on:
                counts = self.making().counts
                self.drawer.draw(model, 0, min(missing, _FIRST), counts)

    def begin(self) -> None:
        """Writes down what this fill is, so that whatever stops it can be gone on with."""
        if self.lacking() and not self.found.went_on and not self.together:
            with self.database.transaction():
                self.memory.save()
                self.memory.go_on(self.said)

    # Model by model

    def model(self, model: Model, batches: Batches) -> None:
        self._settle_fixed(model)
        self._complete(model)
        # Fixed rows are settled: what is made up besides is what 'seed' asks for.
        missing = self.asked.get(model.name, 0) - self.world.there[model.name]
        if missing > 0 and model.name not in self.said["done"]:
            if self.is_plain(model):
                self._make(model, missing, batches)
            else:
                with self._transaction():
                    self._add(model, missing)
                    self._written(model.name)
        self.world.added(model.name)
        self.done.add(model.name)

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        if self.together:
            yield
            return
        with self.database.transaction():
            yield

    def _written(self, done: str) -> None:
        """Writes down that something is done, within the transaction that did it."""
        self.said["done"] = [*self.said["done"], done]
        self.memory.save()
        self.memory.go_on(self.said)

    def _settle_fixed(self, model: Model) -> None:
        if model.name not in self.schema.rows:
            return
        with self._transaction():
            table = FixedTable(self.database, self.schema, self.drawer.here, model, self._fixed)
            settled = table.settle()
            keys = settled.keys
            if settled.missing:
                adding = Beside(self.ground, model)
                start = self.world.starts[model.name]
                added = adding.add(len(settled.missing), start, list(settled.missing.values()))
                for at, key in zip(settled.missing, added, strict=True):
                    keys[at] = key
                self._count(model, len(added))
            self._fixed[model.name] = keys
            table.remember(keys)
        if settled.changes:
            self.found.changed[model.name] = len(settled.changes)
        self.found.remarks += settled.remarks
        self.world.recount(model.name)
        self.verifier.accept(model)

    def _complete(self, model: Model) -> None:
        """Gives made-up rows what is new in the declarations."""
        runs = self.memory.runs.get(model.table, ())
        columns = tuple(member.column for member in filled(model))
        if not any(set(columns) - set(run.columns) for run in runs if run.size):
            return
        with self._transaction():
            count = complete(self.ground, self.memory, model)
            self.memory.save()
        if count:
            self.found.completed[model.name] = count
            self.world.forget(model.name)

    def _count(self, model: Model, rows: int) -> None:
        self.found.added[model.name] = self.found.added.get(model.name, 0) + rows

    def _run(self, model: Model, first: int, last: int, key: int, skipped: list[int]) -> Run:
        columns = tuple(member.column for member in filled(model))
        seed, counts = self.drawer.seed, self.making().counts
        day = self.day.isoformat()
        return Run(first, last, key, seed, day, self.now, columns, tuple(skipped), counts)

    def _make(self, model: Model, missing: int, batches: Batches) -> None:
        """Makes rows that nothing needs to be read for."""
        first = self.world.start(model.name)
        begin = int(self.said["progress"].get(model.name, first))
        stop = first + missing
        names = batches.maker.names(model)
        number = self.said["firsts"].get(model.name, 0)
        while begin < stop:
            end = min(stop, begin + _AT_ONCE)
            with self.database.resting(), self._transaction(), ExitStack() as stack:
                if begin == first and not self.together:
                    stack.enter_context(self.database.indexes_last(model.table))
                for at, columns in batches.of(model, begin, end):
                    self.database.insert(model.table, names, columns)
                    self.tell(model.name, min(BATCH, end - at))
                stack.close()
                if end == stop:
                    known = self.done | {model.name}
                    for broken in self.verifier.broken({model.name}, known):
                        raise broken.error(model.name)
                    self.said["done"] = [*self.said["done"], model.name]
                self.memory.add(model.table, self._run(model, begin, end, number + begin, []))
                self.said["progress"][model.name] = end
                self.memory.save()
                self.memory.go_on(self.said)
            self._count(model, end - begin)
            begin = end

    def _add(self, model: Model, missing: int) -> None:
        """Adds rows; draws them anew, at other parents, where they break rules of stored ones."""
        for again in range(_AGAIN + 1):
            with self.database.attempt() as take_back:
                start = self.world.start(model.name)
                adding = Beside(self.ground, model)
                adding.add(missing, start)
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
        run = self._run(model, start, adding.last, adding.first_id, adding.skipped)
        self.memory.add(model.table, run)
        self._count(model, missing)

    def _exclude(self, model: Model, broken: Sequence[Broken]) -> bool:
        """Keeps relations from rows that can't have more; whether that may help."""
        helps = False
        for one in broken:
            if one.model is not model and led_by(model, one.model.name):
                self.world.exclude(one.model.name, one.keys)
                helps = True
        return helps

    # Many to many

    def pairs(self) -> None:
        """Stores what many-to-many relations of the new rows lead to."""
        for model in self.schema:
            for many in model.many:
                name = f"{model.name}.{many.name}"
                if many.declares and self._new(model) and name not in self.said["done"]:
                    with self._transaction():
                        self._pair(model, many)
                        made = {model.name, many.target}
                        for broken in self.verifier.broken(made, self.done):
                            raise broken.error(broken.model.name)
                        self._written(name)

    def _new(self, model: Model) -> bool:
        return model.name in self.found.added or model.name in self.said["done"]

    def _pair(self, model: Model, many: Many) -> None:
        """Adds pairs for the rows of this fill, some at a time."""
        before = int(self.said["before"]["stored"][model.name])
        target = self.schema.models[many.target]
        theirs = self._keys(target, live="bin" in target.keeps)
        mine = self._keys(model)[before:]
        first = int(self.said["before"]["starts"][model.name])
        if not len(theirs) or not len(mine):
            return
        for begin in range(0, len(mine), BATCH):
            some = mine[begin : begin + BATCH]
            index = np.arange(begin, begin + len(some)) + first
            owners, others = pairs_of(self.drawer, model, many, index, len(theirs))
            columns = [some[owners].tolist(), theirs[others].tolist()]
            if len(owners):
                self.database.insert(many.table, [many.column, many.target_column], columns)

    def _keys(self, model: Model, *, live: bool = False) -> Any:
        key = self.world.names.key(model.name)
        found = self.database.values(model.table, key, live=live)
        return np.array(found, dtype=np.int64 if model.numbered else object)

    def end(self) -> None:
        """Writes down that all is done."""
        with self._transaction():
            self.memory.save()
            self.memory.go_on(None)


def _digest(schema: Schema, drawer: Drawer, asked: str) -> str:
    """What a fill was asked for: the same goes on, another begins anew."""
    texts = sorted({model.span.source.text for model in schema})
    parts = [fingerprint(tables_of(schema)), *texts, asked]
    parts += [str(drawer.seed), drawer.here.timezone]
    return hashlib.sha256("\x1f".join(parts).encode()).hexdigest()
