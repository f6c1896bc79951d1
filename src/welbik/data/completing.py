"""What is new in the declarations, given to rows that were made up before; never to people's."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace

import numpy as np

from ..schema.model import Model
from .beside import Beside, Ground
from .drawer import Drawer
from .making import BATCH, filled
from .memory import Memory, Run


def complete(ground: Ground, memory: Memory, model: Model) -> int:
    """Fills new columns of made-up rows where they are empty yet; returns how many rows got one."""
    table = model.table
    columns = tuple(member.column for member in filled(model))
    count = 0
    for at, run in enumerate(memory.runs.get(table, [])):
        if not run.size:
            continue
        new = [member for member in filled(model) if member.column not in run.columns]
        if new and model.numbered:
            count += _run(ground, model, run, [member.name for member in new])
        memory.runs[table][at] = replace(run, columns=columns)
    return count


def _run(ground: Ground, model: Model, run: Run, names: list[str]) -> int:
    """The rows of one run; as they were drawn when they were made."""
    day = dt.date.fromisoformat(run.day)
    made = ground.drawer
    drawer = Drawer(made.schema, run.seed, made.here.timezone, today=day)
    drawer.world = ground.world
    database, given = ground.database, Beside(ground, model)
    given.drawer = drawer
    given.counts = {**given.counts, **{k: v for k, v in run.counts.items() if k == model.name}}
    numbers = np.setdiff1d(np.arange(run.first, run.last), np.array(run.skipped, dtype=np.int64))
    done: set[object] = set()
    for begin in range(0, len(numbers), BATCH):
        some = numbers[begin : begin + BATCH]
        keys = range(run.key + begin, run.key + begin + len(some))
        drawn = drawer.draw(model, int(some[0]), int(some[-1]) + 1, given.counts, some)
        for name in names:
            member = model.stored(name)
            values = given.encoded(member, drawn[name])
            rows = [(k, v) for k, v in zip(keys, values, strict=True) if v is not None]
            done |= set(database.fill_in(model.table, model.number, member.column, rows))
    return len(done)
