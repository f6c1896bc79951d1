"""Drawn columns: what streams fill, rules read and databases store."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from ..kinds.base import Kind
from ..rules.arrays import Column
from ..schema.model import Field, Model

Mask = NDArray[np.bool_]
Only = NDArray[np.int64] | None
"""Some rows of a slice by their numbers, in order; None for all of them."""

_EPOCH = dt.date(1970, 1, 1)
Counts = Mapping[str, int]
"""How many rows each model has: what references have to choose from."""


@dataclass(frozen=True)
class Drawn:
    """One column for a slice of rows.

    `values` has one element a row: objects for text, whole numbers of the smallest place
    for decimals, datetime64 for dates and moments (UTC), seconds of the day for times,
    positions of the parent row for references. `empty` marks the rows without a value,
    None where all have one.
    """

    values: NDArray[Any]
    empty: Mask | None


class Here(NamedTuple):
    """Where rows are made up: `today` in days since 1970-01-01, and the site's time zone."""

    today: int
    timezone: str

    @classmethod
    def on(cls, timezone: str, day: dt.date | None = None) -> Here:
        """On a day, today unless said."""
        day = day or dt.datetime.now(ZoneInfo(timezone)).date()
        return cls((day - _EPOCH).days, timezone)

    @property
    def day(self) -> dt.date:
        return _EPOCH + dt.timedelta(days=self.today)


def as_python(kind: Kind, drawn: Drawn) -> list[Any]:
    """A column as values of the generated code, None where it is empty."""
    values = kind.held(drawn.values.tolist())
    if drawn.empty is not None:
        for at in np.flatnonzero(drawn.empty).tolist():
            values[at] = None
    return values


def nothing(size: int) -> Column:
    """A column that is empty everywhere: no made-up row lies in the bin."""
    return Column(np.zeros(size, dtype="datetime64[us]"), np.ones(size, dtype=bool))


def as_column(model: Model, name: str, drawn: Drawn) -> Column:
    """A drawn column as rules read it."""
    empty = np.zeros(len(drawn.values), dtype=bool) if drawn.empty is None else drawn.empty
    member = model.by_name[name]
    kind = member.kind.value_type().name if isinstance(member, Field) else "row"
    values = drawn.values
    if kind == "datetime":
        values = values.astype("datetime64[us]")
    elif kind == "time":
        values = values.astype(np.int64) * 10**6
    return Column(values, empty)
