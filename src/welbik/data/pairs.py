"""Many-to-many relations of made-up rows: which pairs there are."""

from __future__ import annotations

import numpy as np

from ..schema.model import Many, Model
from ..schema.tables import SchemaNames
from ..storage.backend import Database
from .drawer import Drawer
from .streams import RowStream

_MOST = 3


def positions(
    drawer: Drawer, model: Model, many: Many, start: int, stop: int, have: int
) -> list[list[int]]:
    """For each row of a slice the positions of the rows it is related to, all different."""
    stream = RowStream(drawer.seed, model.name, many.name, start, stop)
    per = next((term for term in many.sample if term.word == "per"), None)
    low, high = (int(n) for n in per.arguments[:2]) if per else (int(many.required), _MOST)  # type: ignore[call-overload]
    high = min(high, have)
    sizes = stream.integers(min(low, high), high, purpose="size")
    found = np.stack(
        [stream.integers(0, max(have - 1, 0), purpose=f"choice {n}") for n in range(max(high, 1))],
        axis=1,
    )
    return [sorted(set(row[:n])) for row, n in zip(found.tolist(), sizes.tolist(), strict=True)]


def add_pairs(database: Database, drawer: Drawer, model: Model, many: Many, there: int) -> None:
    """Stores the pairs of the rows that were added after the first `there`."""
    target, names = drawer.schema.models[many.target], SchemaNames(drawer.schema)
    mine = database.values(model.table, names.key(many.model))
    theirs = database.values(target.table, names.key(many.target), live="bin" in target.keeps)
    if not theirs or len(mine) <= there:
        return
    chosen = positions(drawer, model, many, there, len(mine), len(theirs))
    owners = [mine[there + at] for at, row in enumerate(chosen) for _ in row]
    others = [theirs[position] for row in chosen for position in row]
    database.insert(many.table, [many.column, many.target_column], [owners, others])
