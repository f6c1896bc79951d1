"""Values of rows that rules of their parents hold together: all rules of one parent at once.

Each rule moves the rows of the parents that break it as little as it takes, in turn, until all hold: what is
left by rules that cut off one side comes nearer every time (the method of alternating projections, Agmon 1954,
Motzkin and Schoenberg 1954). Where that ends nowhere the rows of those parents are drawn anew.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from ..schema.model import Field
from .columns import Drawn
from .families import Family, family_of
from .gathered import Total
from .leaning import leaned
from .raw import Cut
from .spreads import Units
from .totalled import Totalled, units_of
from .totals import moved_within

_TURNS = 12
_DRAWS = 12

Ends = Callable[[Cut, Drawn], tuple[Units, Units]]
"""Between what a field of some rows may be that are drawn so, in the units of its spread."""
Draw = Callable[[Cut, int], Drawn]
"""Draws a field of some rows, the so-many-th time, as if there were no such rules."""


def within_totals(
    rows: Cut, member: Field, totals: Sequence[Total], drawn: Drawn, ends: Ends, draw: Draw
) -> Drawn:
    """A column of a field with its totals within their rules, which are all of one parent's by one way."""
    whole = family_of(rows, totals[0].via)
    if whole is None:
        return drawn
    of = _begun(rows, member, whole, ends, draw(rows.other(rows.model, whole.numbers), 0))
    totals = [one for one in totals if of.is_stored or not one.only_beside]
    units = _in_turn(of, totals, of.first, 0)
    if len(totals) > 1 or rows.drawer.plan.counted.get((rows.model.name, member.name)):
        units = _settled(of, totals, units, ends, draw)
    known, places = whole.places(rows)
    values = np.where(known, units[places], units_of(rows, member, drawn))
    return Drawn(member.kind.drawn(values, of.places), drawn.empty)


def _begun(rows: Cut, member: Field, whole: Family, ends: Ends, drawn: Drawn) -> Totalled:
    family = rows.other(rows.model, whole.numbers)
    return Totalled(rows, member, whole, drawn, ends(family, drawn))


def _in_turn(rows: Totalled, totals: Sequence[Total], units: Units, turn: int) -> Units:
    for total in totals:
        units = (moved_within if total.beside else leaned)(rows, total, units, turn)
    return units


def _settled(of: Totalled, totals: Sequence[Total], units: Units, ends: Ends, draw: Draw) -> Units:
    """The units with the rows of those parents moved further whose rules do not hold all at once."""
    units = units.copy()
    for number in range(_DRAWS):
        bad = of.broken(totals, units)
        if not bad.any():
            break
        mine, some = bad[of.whole.owner], of.of(bad)
        moved = units[mine]
        # The first time they go on from where they are; what has no value has none however it is drawn.
        if number:
            afresh = draw(some.family, number)
            afresh = Drawn(afresh.values, some.empty)
            some = _begun(of.rows, of.member, some.whole, ends, afresh)
            moved = np.where(some.moves, some.first, moved)
        for turn in range(1, _TURNS):
            moved = _in_turn(some, totals, moved, turn)
            if not some.broken(totals, moved).any():
                break
        units[mine] = moved
    return units
