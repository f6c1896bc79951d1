"""Rows that a rule of their parent counts by what they hold: no more of a kind than it lets be.

They are drawn as if there were no such rule; of a parent's that are too many some, told by chance,
are drawn again until they are of the kind no more.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field
from .columns import Drawn, Mask
from .families import Family, family_of
from .narrowing import Counted
from .raw import Places
from .streams import key_of, mixed

_TRIES = 24
Draw = Callable[[Any, int], Drawn]
"""Draws the field for some rows, the so-many-th time."""


def within_count(rows: Any, member: Field, asked: Counted, drawn: Drawn, draw: Draw) -> Drawn:
    """A column of a field of which a rule of the parent lets so many be of a kind."""
    drawer, child = rows.drawer, rows.model
    world = drawer.world
    if world is not None and (world.is_read(child.name) or world.is_read(asked.parent)):
        # Beside stored rows the database has the last word.
        return drawn
    whole = family_of(rows, asked.via)
    if whole is None:
        return drawn
    model = drawer.schema.models[asked.parent]
    most = _most(rows.other(model, whole.parents + drawer.first(model.name)), asked)
    if (np.bincount(whole.owner, minlength=len(most)) <= most).all():
        return drawn
    values, empty = _few_enough(rows.other(child, whole.numbers), member, asked, whole, most, draw)
    known, places = whole.places(rows)
    mine = np.zeros(rows.size, dtype=bool) if drawn.empty is None else drawn.empty
    out = np.where(known, empty[places], mine)
    found = drawn.values.copy()
    found[known] = values[places][known]
    return Drawn(found, out if out.any() else None)


def _few_enough(
    family: Any,
    member: Field,
    asked: Counted,
    whole: Family,
    most: NDArray[np.float64],
    draw: Draw,
) -> tuple[NDArray[Any], Mask]:
    """The field in a whole family: its values, and where it is empty."""
    held = draw(family, 0)
    values = held.values.copy()
    empty = np.zeros(family.size, dtype=bool) if held.empty is None else held.empty.copy()
    family.drawn[member.name] = Drawn(values, empty)
    key = key_of(family.drawer.seed, family.model.name, str(asked.node))
    words = mixed(whole.numbers.astype(np.uint64), key)
    # Fixed rows stay as they are: others give way to them.
    chance = np.where(family.fixed, -1.0, words.astype(np.float64))
    over = _beyond(_is_met(family, asked), whole.owner, most, chance) & ~family.fixed
    for attempt in range(1, _TRIES + 1):
        at = np.flatnonzero(over)
        if not len(at):
            break
        some = family.some(at)
        del some.drawn[member.name]
        again = draw(some, attempt)
        values[at] = again.values
        empty[at] = False if again.empty is None else again.empty
        some.drawn[member.name] = again
        over[at] = _is_met(some, asked)
    return values, empty


def _most(above: Any, asked: Counted) -> NDArray[np.float64]:
    """How many rows of the kind each of some parents may have."""
    given = above.arrays.evaluate(asked.node.operands[1], above)
    least = given.values.astype(np.float64)
    most = np.ceil(least) - 1 if asked.node.word == "<" else np.floor(least)
    return np.where(given.empty, np.inf, most)


def _is_met(rows: Any, asked: Counted) -> Mask:
    held = rows.arrays.evaluate(asked.where, rows)
    met: Mask = held.values.astype(bool) & ~held.empty
    return met


def _beyond(
    met: Mask, owner: Places, most: NDArray[np.float64], chance: NDArray[np.float64]
) -> Mask:
    """The rows of a kind that are more than their parents may have."""
    out = np.zeros(len(met), dtype=bool)
    at = np.flatnonzero(met)
    at = at[np.lexsort((chance[at], owner[at]))]
    starts = np.searchsorted(owner[at], owner[at], side="left")
    out[at] = np.arange(len(at)) - starts >= most[owner[at]]
    return out
