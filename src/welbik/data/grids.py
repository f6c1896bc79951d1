"""Unique groups whose rows are told apart by fields of few values: choices, yes or no, small ranges.

Beside one parent every row has a cell of its own in the grid that these values span.
"""

from __future__ import annotations

from math import prod
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field, Model
from .narrowing import Slot
from .raw import Cut, Places, RawDrawer
from .streams import key_of, mixed, permuted_each

# A grid's values are held in memory, each once.
_FEW = 4096


def cells(drawer: RawDrawer, model: Model, slot: Slot) -> int:
    """How many rows beside one parent a grid tells apart; none where it can't be used."""
    # What is drawn beyond a field needs room there, which a cell does not leave.
    if any((model.name, name) in drawer.plan.followers for name in slot.among):
        return 0
    sizes = [len(_values(drawer, model, name)) for name in slot.among]
    return prod(sizes) if max(sizes) <= _FEW else 0


def in_grid(rows: Cut, member: Field, slot: Slot) -> NDArray[Any]:
    """A field's values, such that rows beside one parent differ by it or by others of the grid."""
    drawer, model = rows.drawer, rows.model
    place, _, parent = drawer.siblings(model, slot.anchor, rows.index, rows.counts)
    key = key_of(drawer.seed, model.name, "-".join(slot.unique.names), "grid")
    values, weights = _values(drawer, model, member.name), _weights(member)
    if weights is not None:
        found: NDArray[Any] = values[_likely(place, parent, weights[weights > 0], key)]
        return found
    sizes = [len(_values(drawer, model, name)) for name in slot.among]
    whole, at = np.full(len(place), prod(sizes)), slot.among.index(member.name)
    cell = permuted_each(place % whole, whole, parent, key)
    found = values[cell // prod(sizes[:at]) % sizes[at]]
    return found


def _likely(
    place: Places, parent: Places, weights: NDArray[np.float64], key: int
) -> NDArray[np.int64]:
    """Which choice comes at a place beside a parent: each once, and likely ones sooner.

    Efraimidis and Spirakis, "Weighted random sampling with a reservoir" (2006): in the order of
    u ** (1 / weight), where a u is drawn for each choice.
    """
    cell = parent[:, None] * len(weights) + np.arange(len(weights))
    drawn = (mixed(cell.astype(np.uint64), key) >> np.uint64(11)).astype(np.float64) * 2.0**-53
    order = np.argsort(-np.log(np.maximum(drawn, 2.0**-60)) / weights, axis=1, kind="stable")
    found: NDArray[np.int64] = order[np.arange(len(place)), place % len(weights)]
    return found


def _weights(member: Field) -> NDArray[np.float64] | None:
    term = next((term for term in member.sample if term.word == "weights"), None)
    return None if term is None else np.array(term.arguments, dtype=np.float64)


def _values(drawer: RawDrawer, model: Model, name: str) -> NDArray[Any]:
    """What a field may be, in order."""
    member = model.stored(name)
    assert isinstance(member, Field)
    spread = drawer.spread(model, member)
    labels, weights = list(member.kind.labels()), _weights(member)
    if labels:
        pool = np.array(labels, dtype=object)
        return pool if weights is None else pool[weights > 0]
    if spread is None:
        return np.array([True, False])
    reach = spread.reach
    size = (reach.high - reach.low) // reach.step + 1
    # One more than a grid may have says that it has too many.
    units = reach.low + np.arange(min(size, _FEW + 1)) * reach.step
    drawn: NDArray[Any] = member.kind.drawn(units, reach.places)
    return drawn
