"""What is new in the declarations, given to rows that were made up before; never to people's."""

from __future__ import annotations

import datetime as dt
from copy import copy
from dataclasses import replace
from typing import Any

import numpy as np

from ..rules.arrays import Column
from ..schema.model import Field, Model, Reference
from .beside import Beside, Ground
from .columns import Counts
from .drawer import Drawer
from .making import BATCH, filled
from .marks import marked, numbers_of
from .memory import Memory, Run
from .raw import Places
from .slices import Slice

Given = set[tuple[object, str]]
"""Which rows, by their keys, got a value for which column."""


class _Stored(Slice):
    """Made-up rows as they are stored now, people's changes of them too, but for what is new."""

    def __init__(
        self, drawer: Drawer, model: Model, index: Places, counts: Counts, at: Places, new: set[str]
    ) -> None:
        super().__init__(drawer, model, index, counts, final=False)
        assert drawer.world is not None
        self.world, self.at, self.new = drawer.world, at, new

    def column(self, name: str) -> Column:
        if name in self.new:
            return super().column(name)
        column = self.world.table(self.model.name).column(name)
        return Column(column.values[self.at], column.empty[self.at])

    def follow(self, reference: str) -> Any:
        if reference in self.new:
            return super().follow(reference)
        return self.world.table(self.model.name).follow(reference)


def complete(ground: Ground, memory: Memory, model: Model) -> Given:
    """Fills new columns of made-up rows where they are empty yet, and the database takes it."""
    table = model.table
    columns = tuple(member.column for member in filled(model))
    given: Given = set()
    for at, run in enumerate(memory.runs.get(table, [])):
        if not run.size:
            continue
        new = [member for member in filled(model) if member.column not in run.columns]
        if new and (model.numbered or run.marks):
            given |= _run(ground, model, run, new)
        memory.runs[table][at] = replace(run, columns=columns)
    return given


def _run(ground: Ground, model: Model, run: Run, new: list[Field | Reference]) -> Given:
    """The rows of one run that are left: new values beside those that they have."""
    day = dt.date.fromisoformat(run.day)
    drawer = Drawer(ground.drawer.schema, run.seed, ground.drawer.here.timezone, today=day)
    # Rows are counted from the first of the run, as when they were made.
    drawer.world = copy(ground.world)
    drawer.world.starts = {**ground.world.starts, model.name: run.first}
    beside, names = Beside(ground, model), {member.name for member in new}
    beside.drawer = drawer
    counts = {**beside.counts, model.name: run.counts.get(model.name, run.last)}
    numbers = np.setdiff1d(np.arange(run.first, run.last), np.array(run.skipped, dtype=np.int64))
    keys, key = ground.world.table(model.name).keys, ground.world.names.key(model.name)
    there, which = _left(ground, model, run)
    given: Given = set()
    for begin in range(0, len(there), BATCH):
        at, index = there[begin : begin + BATCH], numbers[which[begin : begin + BATCH]]
        rows = _Stored(drawer, model, index, counts, at, names)
        for member in new:
            values = beside.encoded(member, rows.member(member.name))
            some = zip(keys[at].tolist(), values, strict=True)
            told = [(of, value) for of, value in some if value is not None]
            done = ground.database.fill_in(model.table, key, member.column, told)
            given |= {(of, member.column) for of in done}
    return given


def _left(ground: Ground, model: Model, run: Run) -> tuple[Places, Places]:
    """Where rows of a run stand among those that are stored, and their places in the run."""
    keys = ground.world.table(model.name).keys
    if model.numbered:
        there = np.flatnonzero((keys >= run.key) & (keys < run.key + run.size))
        return there, keys[there] - run.key
    rows = marked(ground.database, ground.world.names, model, run, numbers_of(run))
    places = {key: place for place, key in enumerate(keys.tolist())}
    found = np.array([(places[key], at) for _, key, at in rows], dtype=np.int64).reshape(-1, 2)
    return found[:, 0], found[:, 1]


def take_back(
    ground: Ground, broken: Model, keys: frozenset[object], model: Model, given: Given
) -> Given:
    """Empties again what rows were given that break a rule now; all of it where others break one."""
    back = {one for one in given if broken is not model or one[0] in keys}
    for key, column in back:
        own = ground.world.names.key(model.name)
        ground.database.update(model.table, own, key, {column: None})
    return back
