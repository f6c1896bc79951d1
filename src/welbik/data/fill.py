"""Filling a database up to the declared counts, table after table.

What is stored stays, and is written down: a fill that was stopped, however that came about, goes on
where it was and ends in the same rows.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from pathlib import Path
from typing import Any

import numpy as np

from ..problems import WelbikError
from ..rules.sql import quote
from ..schema.model import Field, Many, Model, Schema
from ..storage.backend import Database
from ..storage.tables import fingerprint, tables_of
from .beside import Beside, Ground
from .columns import Drawn
from .completing import complete, take_back
from .crowds import Crowds
from .drawer import Drawer
from .events import reads
from .fixed import counts_with_fixed
from .made_keys import keys_of
from .making import Batches, Maker, Making, filled, midnight
from .marks import columns_of, has_marks, marked, marks_of, numbers_of
from .memory import Memory, Run
from .pairing import Pairing
from .settling import FixedTable
from .several import several_of
from .uploads import write_uploads
from .verify import Broken, Verifier
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
        processes = min(4, (os.cpu_count() or 1) - 1)
    with ExitStack() as stack:
        # Others draw already while the first rows are tried here.
        batches = stack.enter_context(filling.batches(processes))
        filling.try_first()
        filling.begin()
        if files is not None:
            write_uploads(drawer.schema, filling.lacking(), files)
        if filling.together:
            stack.enter_context(database.transaction())
        try:
            for model in drawer.schema.parents_first:
                filling.model(model, batches)
            filling.pairs()
        except WelbikError:
            filling.begin_anew_if_changed()
            raise
        filling.end()
    if filling.found.added:
        known = database.tables.keys() & database.table_names()
        database.learn(sorted(known - filling.learned))
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
        said = before = self.memory.under_way()
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
            day = drawer.here.day
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
                "owed": {},
            }
            if before is not None:
                said |= {"owed": _owed(schema, before)}
            for model in schema:
                if not self.world.stored[model.name]:
                    # Nothing is left of what was made: an empty table begins anew.
                    self.memory.runs.pop(model.table, None)
        self.asked = counts
        self.said: dict[str, Any] = said
        self.drawer, self.day, self.now = drawer, day, int(said["now"])
        drawer.world = self.world
        self.world.as_made = partial(_keys_as_made, drawer, self.wanted)
        self.verifier = Verifier(database, schema, drawer.here.timezone)
        self.crowds = Crowds(database, drawer, self.world, self.verifier)
        self.done: set[str] = set()
        self.ground = Ground(database, drawer, self.world, self.wanted, self.done, self.now, tell)
        self.ground.several = several_of(database, schema)
        self._fixed: dict[str, list[object]] = {}
        self.learned: set[str] = set()
        self._made: dict[str, range] = {}
        """The keys of rows that were made in one go, where those are numbers."""
        self._unpaired = {many.table for model in schema for many in self._owing(model)}
        """Tables of pairs that are still to be added to."""
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

    def batches(self, processes: int) -> Batches:
        """The batches of all models whose rows nothing needs to be read for."""
        making = self.making()
        maker, packings, planned = Maker(making), {}, []
        for model in self.schema.parents_first:
            if self.is_plain(model):
                packings[model.name] = self.database.packing(model.table, maker.names(model))
                if self._missing(model.name) and model.name not in self.said["done"]:
                    planned.append((model.name, *self._range(model)))
        return Batches(making, packings, planned, processes)

    def _range(self, model: Model) -> tuple[int, int]:
        """From which number on rows of a model are made, and up to which."""
        first = self.world.start(model.name)
        begin = int(self.said["progress"].get(model.name, first))
        return begin, first + self.asked.get(model.name, 0) - self.world.there[model.name]

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
        """Whether rows of a model are known by how they are made up alone: nothing is read.

        Neither for them, nor for those that are read for them.
        """
        found, todo = {model.name}, [model.name]
        while todo:
            new = self._reads[todo.pop()] - found
            found |= new
            todo += new
        read = self.schema.rows.keys() | self.ground.several.keys()
        return not any(self.world.is_read(name) or name in read for name in found)

    @cached_property
    def _reads(self) -> dict[str, set[str]]:
        """The models whose rows are read when those of one are made."""
        found = {}
        for model in self.schema:
            read = {reference.target for reference in model.references}
            for member in model.members:
                needs = self.drawer.plan.needs.get((model.name, member.name), ())
                read |= {name for name, _ in needs}
            for rule in model.rules:
                read |= {name for name, _ in reads(rule.node)}
            found[model.name] = read
        return found

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

    def begin_anew_if_changed(self) -> None:
        """Where somebody took rows away meanwhile, others can't lead to them: the next fill sees what is there."""
        before = self.said["before"]
        for name in () if self.together else self.said["done"]:
            model = self.schema.models.get(name)
            if model is None:
                continue
            made = self.asked.get(name, 0) - before["there"][name]
            if self.database.count(model.table) < before["stored"][name] + made:
                with self.database.transaction():
                    self.memory.go_on(None)
                return

    # Model by model

    def model(self, model: Model, batches: Batches) -> None:
        self._settle_fixed(model)
        self._complete(model)
        # Fixed rows are settled: what is made up besides is what 'seed' asks for.
        missing = self.asked.get(model.name, 0) - self.world.there[model.name]
        if missing > 0 and model.name not in self.said["done"]:
            if self.is_plain(model):
                self._make(model, batches)
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
            given = complete(self.ground, self.memory, model)
            self.world.forget(model.name)
            # What people made of these rows since may not go with it.
            for broken in self.verifier.broken({model.name}, set(self.schema.models)):
                given -= take_back(self.ground, broken.model, broken.keys, model, given)
            self.memory.save()
        if given:
            self.found.completed[model.name] = len({key for key, _ in given})

    def _count(self, model: Model, rows: int) -> None:
        self.found.added[model.name] = self.found.added.get(model.name, 0) + rows

    def _run(
        self,
        model: Model,
        first: int,
        last: int,
        key: int,
        keys: Iterable[Sequence[object]],
        skipped: Sequence[int] = (),
    ) -> Run:
        """What is remembered of rows that were just stored; their `keys` where those are values of their own."""
        columns = tuple(member.column for member in filled(model))
        seed, counts = self.drawer.seed, self.making().counts
        day = self.day.isoformat()
        run = Run(first, last, key, seed, day, self.now, columns, tuple(skipped), counts)
        if not has_marks(model):
            return run
        marks = (marks_of(self.database, self.world.names, model, some) for some in keys)
        return replace(run, marks="".join(marks), marked=columns_of(model))

    def _make(self, model: Model, batches: Batches) -> None:
        """Makes rows that nothing needs to be read for."""
        begin, stop = self._range(model)
        number = self.said["firsts"].get(model.name, 0)
        if model.numbered and begin == self.world.start(model.name):
            self._made[model.name] = range(number + begin, number + stop)
        while begin < stop:
            end = min(stop, begin + _AT_ONCE)
            empty = self._is_empty(model.table)
            with self.database.resting(), self._transaction(), ExitStack() as stack:
                stack.enter_context(self._all_at_once(model.table, empty=empty))
                for packed in batches.of(model, begin, end):
                    self.database.store(packed)
                    self.tell(model.name, packed.rows)
                stack.close()
                if end == stop:
                    known = self.done | {model.name}
                    for broken in self.verifier.broken({model.name}, known, self._unpaired):
                        raise broken.error(model.name)
                    self.said["done"] = [*self.said["done"], model.name]
                keys = batches.keys(model, begin, end)
                self.memory.add(model.table, self._run(model, begin, end, number + begin, keys))
                self.said["progress"][model.name] = end
                self.memory.save()
                self.memory.go_on(self.said)
            self._count(model, end - begin)
            begin = end

    def _add(self, model: Model, missing: int) -> None:
        """Adds rows; draws them anew, at other parents, where they break rules of stored ones."""
        broken: list[Broken] = []
        for again in range(_AGAIN + 1):
            with self.database.attempt() as undo:
                start = self.world.start(model.name)
                adding = Beside(self.ground, model)
                try:
                    keys = adding.add(missing, start)
                except WelbikError as error:
                    # Where rows were held back, that is what leaves no room for these.
                    raise (broken[0].error(model.name) if broken else error) from None
                self.world.forget(model.name)
                known = self.done | {model.name}
                broken = list(self.verifier.broken({model.name}, known, self._unpaired))
                if not broken:
                    break
                led = self.crowds.led(model, broken)
                if again == _AGAIN or not led:
                    raise broken[0].error(model.name)
                undo()
                self.crowds.hold_back(model, broken, led, missing)
                self.world.forget(model.name)
                self.drawer.forget()
        run = self._run(model, start, adding.last, adding.first_id, [keys], adding.skipped)
        self.memory.add(model.table, run)
        self._count(model, missing)

    # Many to many

    def pairs(self) -> None:
        """Stores what many-to-many relations of the new rows lead to."""
        for model in self.schema:
            for many in self._owing(model):
                self._unpaired.discard(many.table)
                empty = self._is_empty(many.table)
                with self.database.resting(), self._transaction():
                    pairing = self._pairing(model, many)
                    with self._all_at_once(many.table, empty=empty):
                        pairing.store()
                    made = {model.name, many.target}
                    known = (made, self.done, self._unpaired, many.table)
                    self.found.remarks += pairing.within(partial(self.verifier.broken, *known))
                    self._written(f"{model.name}.{many.name}")

    def _owing(self, model: Model) -> list[Many]:
        """The relations of a model whose pairs are still to be added."""
        done, owed = self.said["done"], self.said["owed"]
        new = self._missing(model.name) or model.name in self.found.added or model.name in done
        names = {many.name: f"{model.name}.{many.name}" for many in model.many if many.declares}
        return [
            many
            for many in model.many
            if many.name in names
            and (new or names[many.name] in owed)
            and names[many.name] not in done
        ]

    def _is_empty(self, table: str) -> bool:
        # Counting would take longer with each share of a large table.
        return not self.database.run(f"SELECT 1 FROM {quote(table)} LIMIT 1")

    @contextmanager
    def _all_at_once(self, table: str, *, empty: bool) -> Iterator[None]:
        """Loads rows into a table; what would be kept up with each of them is made last where it is empty.

        It is not asked here whether it is: what a transaction has read may not be loaded the quick way.
        """
        declared = self.database.tables.get(table)
        if self.together or not empty or declared is None or declared.as_it_is:
            yield
            return
        with self.database.indexes_last(table):
            yield
        self.database.learn([table])
        self.learned.add(table)

    def _pairing(self, model: Model, many: Many) -> Pairing:
        """What pairs the rows of this fill with others."""
        name = f"{model.name}.{many.name}"
        before, owed = self.said["before"], name in self.said["owed"]
        first = int(before["starts"][model.name])
        pairing = Pairing(self.database, self.drawer, model, many, first)
        if has_marks(model):
            pairing.mine = self._marked(model, many, owed=owed)
        elif model.name in self._made and not owed:
            pairing.mine = self._made[model.name]
        else:
            stored = before["stored"][model.name]
            pairing.mine = pairing.keys(model)[int(self.said["owed"].get(name, stored)) :]
        return pairing

    def _marked(self, model: Model, many: Many, *, owed: bool) -> Any:
        """The keys of the rows of this fill, in the order that they were made in.

        Where it owes what another fill did not come to, those that have no pairs.
        """
        first = 0 if owed else int(self.said["before"]["starts"][model.name])
        has = set(self.database.values(many.table, many.column)) if owed else set()
        found = []
        for run in self.memory.runs.get(model.table, ()):
            if run.first >= first:
                rows = marked(self.database, self.world.names, model, run, numbers_of(run))
                found += [(run.first + at, key) for _, key, at in rows if key not in has]
        keys = [key for _, key in sorted(found, key=lambda one: one[0])]
        return np.array(keys, dtype=object)

    def end(self) -> None:
        """Writes down that all is done."""
        with self._transaction():
            self.memory.save()
            self.memory.go_on(None)


def _owed(schema: Schema, said: Mapping[str, Any]) -> dict[str, int]:
    """Relations whose pairs a fill still owes that is not gone on with, and how many rows were there before it."""
    found = dict(said["owed"])
    for model in schema:
        begun = model.name in said["done"] or model.name in said["progress"]
        for many in model.many if begun and model.name in said["before"]["stored"] else ():
            name = f"{model.name}.{many.name}"
            if many.declares and name not in said["done"]:
                found.setdefault(name, said["before"]["stored"][model.name])
    return found


def _digest(schema: Schema, drawer: Drawer, asked: str) -> str:
    """What a fill was asked for: the same goes on, another begins anew."""
    texts = sorted({model.span.source.text for model in schema})
    parts = [fingerprint(tables_of(schema)), *texts, asked]
    parts += [str(drawer.seed), drawer.here.timezone]
    return hashlib.sha256("\x1f".join(parts).encode()).hexdigest()


def _keys_as_made(drawer: Drawer, counts: Mapping[str, int], model: Model) -> list[object]:
    """The keys of a model's made-up rows in their order; none where rules have a say in them."""
    key = model.by_name.get(model.key)
    if not isinstance(key, Field) or drawer.plan.of.get((model.name, key.name)):
        return []
    numbers = Drawn(np.arange(counts.get(model.name, 0)), None)
    # What rules over whole tables do of keys can't be asked of a table that is being read.
    return keys_of(drawer, model, numbers, counts, lambda _, drawn: [], final=False)
