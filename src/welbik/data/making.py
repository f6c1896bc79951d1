"""Made-up rows as a database takes them: every column of a table, keys and times too.

Nothing is read here: rows that lead to others know those by how they are made up.
"""

from __future__ import annotations

import datetime as dt
import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field, Model, Reference, Schema
from ..storage.neutral import encode
from .columns import Counts, Drawn
from .drawer import Drawer
from .raw import Places
from .streams import RowStream

BATCH = 20_000
_DAY = 86_400
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

    def _encoded(self, member: Field | Reference, drawn: Drawn) -> list[object]:
        if isinstance(member, Field):
            return encode(member.kind.stored().type, drawn.values, drawn.empty)
        return self.keys(self.making.schema.models[member.target], drawn)

    def keys(self, target: Model, at: Drawn) -> list[object]:
        """The keys of the rows at some positions."""
        if target.numbered:
            return encode("integer", at.values + self.making.firsts[target.name], at.empty)
        key = target.stored(target.key)
        assert isinstance(key, Field)
        there, places = np.unique(at.values, return_inverse=True)
        drawn = self.drawer.draw(target, 0, 0, self.making.counts, there)[key.name]
        known = encode(key.kind.stored().type, drawn.values, drawn.empty)
        chosen: list[object] = [known[place] for place in places.tolist()]
        for row in np.flatnonzero(at.empty).tolist() if at.empty is not None else ():
            chosen[row] = None
        return chosen


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
            there = moments < now - _DAY
            if column.empty is not None:
                there &= ~column.empty
            told = np.where(there, np.maximum(told, moments), told)
    start, stop = int(index.min(initial=0)), int(index.max(initial=-1)) + 1
    only = None if stop - start == len(index) else index
    stream = RowStream(drawer.seed, model.name, "entered", start, stop, only=only)
    # What tells no time is entered some time within a year; the rest within some days.
    ago = now - (stream.fractions() ** 1.5 * 365 * _DAY).astype(np.int64)
    later = told + (stream.fractions("later") ** 3 * 5 * _DAY).astype(np.int64) + 600
    created = np.minimum(np.where(told > 0, later, ago), now)
    changed = created + ((now - created) * stream.fractions("changed") ** 4).astype(np.int64)
    changed = np.where(stream.fractions("whether") < 0.6, created, changed)
    found: list[list[object]] = []
    for moments in (created, changed):
        whole: NDArray[Any] = moments.astype("datetime64[s]")
        found.append(encode("timestamp", whole, None))
    return found


class Batches:
    """Batches of made-up rows in order, drawn by other processes where there are many."""

    def __init__(self, making: Making, rows: int, processes: int) -> None:
        self.maker = Maker(making)
        self.pool: Any = None
        if processes and rows > 3 * BATCH:
            from concurrent.futures import ProcessPoolExecutor
            from multiprocessing import get_context

            self.pool = ProcessPoolExecutor(
                processes, get_context("spawn"), initializer=_begin, initargs=(making,)
            )
        self.ahead = processes * _AHEAD

    def of(self, model: Model, start: int, stop: int) -> Iterator[tuple[int, Columns]]:
        """The rows of a model from a number up to another: the number of the first, and columns."""
        starts = range(start, stop, BATCH)
        if self.pool is None or len(starts) < 3:
            for begin in starts:
                yield begin, self.maker.columns(model, begin, min(begin + BATCH, stop))
            return
        waiting = []
        for begin in starts:
            waiting.append(
                (begin, self.pool.submit(_made, model.name, begin, min(begin + BATCH, stop)))
            )
            if len(waiting) > self.ahead:
                first, batch = waiting.pop(0)
                yield first, batch.result()
        for first, batch in waiting:
            yield first, batch.result()

    def __enter__(self) -> Batches:
        return self

    def __exit__(self, *error: object) -> None:
        if self.pool is not None:
            self.pool.shutdown(cancel_futures=True)


_here: dict[str, Maker] = {}


def _begin(making: Making) -> None:
    import signal
    from threading import Thread

    # A process that is killed lets nobody go: its helpers see to that themselves.
    Thread(target=_end_with_parent, daemon=True).start()
    # Whoever stops the command stops its first process: that one lets the others go.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _here["maker"] = Maker(making)


def _end_with_parent() -> None:
    from multiprocessing import parent_process

    parent = parent_process()
    if parent is not None:
        parent.join()
        os._exit(1)


def _made(model: str, start: int, stop: int) -> Columns:
    maker = _here["maker"]
    return maker.columns(maker.making.schema.models[model], start, stop)
