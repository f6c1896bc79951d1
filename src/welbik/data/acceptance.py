"""How often rows keep the rules that nothing narrows: told before any is stored."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ..problems import WelbikError
from ..rules.tree import Value, walk
from ..schema.model import Model, Rule, Schema
from .columns import Mask, as_column
from .drawer import Drawer
from .fixed import counts_with_fixed
from .slices import Slice

_TRIED = 2_000
_FEW = 0.5


class Seldom(NamedTuple):
    """A rule that few of the rows keep which are drawn for it, and what the others have."""

    model: Model
    rule: Rule
    share: float
    standing: str


def seldom_kept(schema: Schema, seed: int, timezone: str) -> list[Seldom]:
    """The rules that less than half of the rows keep at first: others are drawn again."""
    drawer = Drawer(schema, seed, timezone)
    counts = counts_with_fixed(schema, dict(schema.seed))
    found = []
    for model in schema:
        rules = drawer.plan.loose[model.name]
        size = min(counts.get(model.name, 0), _TRIED)
        if not rules or not size:
            continue
        rows = Slice(drawer, model, np.arange(size), counts, final=False)
        try:
            rows.all()
        except WelbikError:
            # What can't be made at all is told elsewhere.
            continue
        for rule in rules:
            held = drawer.arrays.evaluate(rule.node, rows)
            kept = held.values.astype(bool) | held.empty
            if kept.mean() < _FEW:
                found.append(Seldom(model, rule, float(kept.mean()), _standing(rows, rule, ~kept)))
    return found


def _standing(rows: Slice, rule: Rule, broken: Mask) -> str:
    """What the rows that break a rule mostly have of what it reads."""
    told = []
    names = [
        part.name
        for part in walk(rule.node)
        if isinstance(part, Value) and not part.path and part.model == rows.model.name
    ]
    for name in dict.fromkeys(names):
        column = as_column(rows.model, name, rows.drawn[name])
        values = column.values[broken & ~column.empty]
        if len(values) and values.dtype.kind in "iufM":
            told.append(f"{name} {values.min()} to {values.max()}")
    return ", ".join(told)
