"""Counting rows up to a number that is enough to tell: so it costs the same in any table."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from . import show

COUNTED = 5_000
"""Where counting the rows of a list stops."""
MET = 500
"""Where it stops for rows that several filters leave."""
SORTED = 2_000
"""So many are sooner found by a filter, and sorted, than met in the order of a long list."""


def count(
    rows: sa.Select[Any], model: Any, most: int = COUNTED
) -> sa.ScalarSelect[int]:
    """How many rows of a model a statement gives; one more than `most` for all above."""
    some = rows.with_only_columns(sa.literal(1)).select_from(model).limit(most + 1)
    return sa.select(sa.func.count()).select_from(some.subquery()).scalar_subquery()


def told(number: int, most: int = COUNTED) -> str:
    """A count as people read it."""
    return f"{show.count(most)}+" if number > most else show.count(number)
