"""Values of rows under a rule of their parent that can't be solved for them: moved until it holds.

All rows of a parent go the same part of their way to one end of what they may be: the smallest part,
found by halving, with which the rule holds.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from .columns import Mask
from .gathered import Total
from .spreads import Units
from .totalled import Totalled

_HALVINGS = 30
_ROOM = 0.2
"""The part of what a rule leaves within which rows are put that it would not let be."""


def leaned(rows: Totalled, total: Total, units: Units, turn: int) -> Units:
    """The units with the rows of each parent where a rule of that holds, as far as that is found."""
    bad = rows.broken([total], units)
    if not bad.any():
        return units
    chance = rows.chance(total, turn)
    for end in (rows.low, rows.high):
        units, bad = _moved(rows, total, units, np.where(rows.moves, end, units), bad, chance)
    return units


def _moved(
    rows: Totalled, total: Total, units: Units, end: Units, bad: Mask, chance: Any
) -> tuple[Units, Mask]:
    """The units with the rows of `bad` parents on their way to an end, and who is bad still."""
    owner = rows.whole.owner
    can = bad & ~rows.broken([total], np.where(bad[owner], end, units))

    def at(part: Any) -> Units:
        way = np.rint((units - end) * part[owner]).astype(np.int64)
        return np.where(can[owner], end + way, units)

    good, past = np.zeros(len(bad)), np.ones(len(bad))
    for _ in range(_HALVINGS if can.any() else 0):
        middle = (good + past) / 2
        held = ~rows.broken([total], at(middle))
        good, past = np.where(held, middle, good), np.where(held, past, middle)
    # Not all at the edge, where it holds before that too.
    before = good * (1 - _ROOM * chance)
    good = np.where(rows.broken([total], at(before)), good, before)
    return at(good), bad & ~can
