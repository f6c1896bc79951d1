"""Made-up rows as a database takes them: every column of a table, keys and times too.

Nothing is read here: rows that lead to others know those by how they are made up.
"""

from __future__ import annotations

import datetime as dt
import os
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Future
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field, Model, Reference, Schema
from ..storage.neutral import encode
from ..storage.packing import Packed, Packing
from .columns import Counts, Drawn
from .drawer import Drawer
from .made_keys import keys_of
from .raw import Places
from .streams import RowStream, span_of

BATCH = 8_000
_DAY = 86_400
# Before seven and after eight in the evening nobody enters anything.
_MORNING, _NIGHT = 7 * 3600, 4 * 3600
_AHEAD = 3
"""Batches that are drawn before they are asked for, for each process that does."""

Columns = list[Sequence[object]]


@dataclass(frozen=True)
class Making:
    """What rows are made of; it goes to other processes as it stands.

    `firsts` has the key of each model's row number 0, where keys are numbers of their own. `now`
    is in seconds since 1970.
    """

    schema: Schema
    seed: int
    timezone: str
    today: dt.date
    counts: Counts
    firsts: Mapping[str, int]
    now: int

    def drawer(self) -> Drawer:
        return Drawer(self.schema, self.seed, self.timezone, today=self.today)


def midnight(day: dt.date, timezone: str) -> int:
    """When a day begins, in seconds since 1970: nothing that is made up on it is later."""
    return int(dt.datetime.combine(day, dt.time(), ZoneInfo(timezone)).timestamp())


def making_of(schema: Schema, seed: int, timezone: str, day: dt.date, counts: Counts) -> Making:
    """What whole tables are made of, where there is nothing yet."""
    firsts = dict.fromkeys(schema.models, 1)
    return Making(schema, seed, timezone, day, counts, firsts, midnight(day, timezone))


class Maker:
    """Makes rows of any model, from any number on."""

    def __init__(self, making: Making) -> None:
        self.making = making
        self.drawer = making.drawer()

    def names(self, model: Model) -> list[str]:
        """The columns that rows of a model are made with."""
        own = [model.number] if model.numbered else []
        times = ["created_at", "updated_at"] if "times" in model.keeps else []
        return [*own, *(member.column for member in filled(model)), *times]

    def columns(self, model: Model, start: int, stop: int) -> Columns:
        """All columns of some rows, in the order of `names`."""
        drawn = self.drawer.draw(model, start, stop, self.making.counts)
        columns: Columns = [self._encoded(member, drawn[member.name]) for member in filled(model)]
        if model.numbered:
            first = self.making.firsts[model.name]
            columns.insert(0, range(first + start, first + stop))
        if "times" in model.keeps:
            index = np.arange(start, stop)
            columns += times_of(self.drawer, model, index, drawn, self.making.now)
        return columns

    def own_keys(self, model: Model, start: int, stop: int) -> list[object]:
        """The keys of some rows of a model."""
        return self.keys(model, Drawn(np.arange(start, stop), None))

    def _encoded(self, member: Field | Reference, drawn: Drawn) -> list[object]:
        if isinstance(member, Field):
            return encode(member.kind.stored().type, drawn.values, drawn.empty)
        return self.keys(self.making.schema.models[member.target], drawn)

    def keys(self, target: Model, at: Drawn) -> list[object]:
        """The keys of the rows at some positions."""
        if target.numbered:
            return encode("integer", at.values + self.making.firsts[target.name], at.empty)
        return keys_of(self.drawer, target, at, self.making.counts, self._encoded)


def filled(model: Model) -> list[Field | Reference]:
    """The members that rows are made with; what the database gives a value itself is left out."""
    return [member for member in model.members if not member.by_database]


def times_of(
    drawer: Drawer, model: Model, index: Places, drawn: Mapping[str, Drawn], now: int
) -> list[list[object]]:
    """When rows were entered and last changed: some time after what they tell of, up to now."""
    told = np.zeros(len(index), dtype=np.int64)
    for field in model.fields:
        if field.kind.value_type().name in ("date", "datetime"):
            column = drawn[field.name]
            moments = column.values.astype("datetime64[s]").astype(np.int64)
            there = moments < now
            if column.empty is not None:
                there &= ~column.empty
            told = np.where(there, np.maximum(told, moments), told)
    start, stop, only = span_of(index)
    stream = RowStream(drawer.seed, model.name, "entered", start, stop, only=only)
    # What tells no time is entered some time within a year; the rest within some days.
    ago = now - (stream.fractions() ** 1.5 * 365 * _DAY).astype(np.int64)
    later = told + (stream.fractions("later") ** 3 * 5 * _DAY).astype(np.int64) + 600
    # What would be entered after now was so on the day before, if a while after it was.
    last = now - _NIGHT - (stream.fractions("late") * (_DAY - _MORNING - _NIGHT)).astype(np.int64)
    last = np.minimum(np.maximum(last, told + 600), now)
    created = np.where(told > 0, later, ago)
    created = np.where(created < now, np.maximum(_by_day(created, now), told + 600), last)
    changed = created + ((now - created) * stream.fractions("changed") ** 4).astype(np.int64)
    changed = np.maximum(_by_day(np.minimum(changed, now - 1), now), created)
    changed = np.where(stream.fractions("whether") < 0.6, created, changed)
    found: list[list[object]] = []
    for moments in (created, changed):
        whole: NDArray[Any] = moments.astype("datetime64[s]")
        found.append(encode("timestamp", whole, None))
    return found


def _by_day(moments: NDArray[np.int64], midnight: int) -> NDArray[np.int64]:
    """Moments of a whole day as ones between morning and evening, in the same order."""
    second = (moments - midnight) % _DAY
    return moments - second + _MORNING + second * (_DAY - _MORNING - _NIGHT) // _DAY


Range = tuple[str, int, int]
"""The rows of a model from a number up to another."""


class Batches:
    """Batches of made-up rows in order, ready to be stored; drawn by other processes where there are many.

    `packings` says of each model how they are made ready. `planned` are the ranges that will be asked for:
    the next table is drawn while the database is busy with the one before.
    """

    def __init__(
        self,
        making: Making,
        packings: Mapping[str, Packing],
        planned: Sequence[Range],
        processes: int,
    ) -> None:
        self.maker, self.packings = Maker(making), packings
        self.pool: Any = None
        large = [one for one in planned if one[2] - one[1] > 2 * BATCH]
        if processes and sum(stop - start for _, start, stop in planned) > 3 * BATCH:
            from concurrent.futures import ProcessPoolExecutor
            from multiprocessing import get_context

            self.pool = ProcessPoolExecutor(
                processes, get_context("spawn"), initializer=_begin, initargs=(making, packings)
            )
        self.planned = iter([batch for one in large for batch in _batches(*one)])
        self.waiting: deque[tuple[Range, Future[Packed]]] = deque()
        self.ahead = processes * _AHEAD
        self._draw_ahead()

    def of(self, model: Model, start: int, stop: int) -> Iterator[Packed]:
        """The rows of a model from a number up to another."""
        for batch in _batches(model.name, start, stop):
            if batch not in [asked for asked, _ in self.waiting]:
                yield _packed(self.maker, self.packings, batch)
                continue
            while self.waiting[0][0] != batch:
                self.waiting.popleft()
            made = self.waiting.popleft()[1]
            self._draw_ahead()
            yield self._result(batch, made)

    def keys(self, model: Model, start: int, stop: int) -> Iterator[list[object]]:
        """The keys of the rows that `of` gives, batch by batch."""
        for _, first, last in _batches(model.name, start, stop):
            yield self.maker.own_keys(model, first, last)

    def _result(self, batch: Range, made: Future[Packed]) -> Packed:
        try:
            return made.result()
        except BrokenProcessPool:
            # A helper was ended from outside: what it would have drawn is drawn here.
            return _packed(self.maker, self.packings, batch)

    def _draw_ahead(self) -> None:
        while self.pool is not None and len(self.waiting) < self.ahead:
            batch = next(self.planned, None)
            if batch is None:
                return
            try:
                self.waiting.append((batch, self.pool.submit(_made, batch)))
            except BrokenProcessPool:
                self.planned = iter(())

    def __enter__(self) -> Batches:
        return self

    def __exit__(self, *error: object) -> None:
        if self.pool is not None:
            self.pool.shutdown(cancel_futures=True)


def _batches(name: str, start: int, stop: int) -> list[Range]:
    return [(name, begin, min(begin + BATCH, stop)) for begin in range(start, stop, BATCH)]


def _packed(maker: Maker, packings: Mapping[str, Packing], batch: Range) -> Packed:
    name, start, stop = batch
    return packings[name].pack(maker.columns(maker.making.schema.models[name], start, stop))


_here: list[tuple[Maker, Mapping[str, Packing]]] = []


def _begin(making: Making, packings: Mapping[str, Packing]) -> None:
    import signal
    from threading import Thread

    # A process that is killed lets nobody go: its helpers see to that themselves.
    Thread(target=_end_with_parent, daemon=True).start()
    # Whoever stops the command stops its first process: that one lets the others go.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _here.append((Maker(making), packings))


def _end_with_parent() -> None:
    from multiprocessing import parent_process

    parent = parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)


def _made(batch: Range) -> Packed:
    return _packed(*_here[0], batch)
