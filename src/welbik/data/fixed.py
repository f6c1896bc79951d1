"""Fixed rows: just as they are declared, the first of their model that are drawn."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..kinds.bounds import FromNow
from ..schema.model import Field, FixedRows, Model, Reference, Schema
from .columns import Drawn, Here


def counts_with_fixed(schema: Schema, counts: dict[str, int]) -> dict[str, int]:
    """The counts, none below the number of fixed rows."""
    found = dict(counts)
    for name, rows in schema.rows.items():
        found[name] = max(found.get(name, 0), len(rows.rows))
    return found


def put_fixed(
    schema: Schema, here: Here, model: Model, index: NDArray[np.int64], drawn: dict[str, Drawn]
) -> None:
    """Puts the declared values into those of some rows, by their numbers, that are fixed."""
    rows = schema.rows.get(model.name)
    places = np.flatnonzero(index < len(rows.rows)).tolist() if rows is not None else []
    if rows is None or not places:
        return
    for member in model.members:
        if member.name not in drawn:
            continue
        column = drawn[member.name]
        values = column.values.copy()
        empty = np.zeros(len(values), dtype=bool) if column.empty is None else column.empty.copy()
        for at in places:
            value = declared_value(schema, here, member, rows, int(index[at]))
            if value is None and not (isinstance(member, Field) and member.kind.self_made):
                empty[at] = True
            elif value is not None:
                values[at], empty[at] = value, False
        drawn[member.name] = Drawn(values, empty if empty.any() else None)


def declared_value(
    schema: Schema, here: Here, member: Field | Reference, rows: FixedRows, row: int
) -> Any:
    """What a fixed row has for a member, as drawn columns hold it; None where nothing."""
    value = None
    if member.name in rows.names:
        value = rows.rows[row][rows.names.index(member.name)]
    if value is None and isinstance(member, Field):
        value = member.default
    if value is None:
        return None
    if isinstance(member, Reference):
        return _position(schema, member, str(value))
    return encoded(member, value, here)


def encoded(member: Field, value: Any, here: Here) -> Any:
    """A value as drawn columns hold it."""
    if isinstance(value, FromNow):
        day = np.datetime64(here.today + value.days, "D")
        return day if value.word == "today" else day.astype("datetime64[s]")
    if isinstance(value, Decimal):
        return int(value.scaleb(member.kind.value_type().places))
    if isinstance(value, dt.datetime):
        from zoneinfo import ZoneInfo

        moment = value.replace(tzinfo=ZoneInfo(here.timezone)).astimezone(dt.UTC)
        return np.datetime64(moment.replace(tzinfo=None), "s")
    if isinstance(value, dt.date):
        return np.datetime64(value, "D")
    if isinstance(value, dt.timedelta):
        return int(value.total_seconds())
    if isinstance(value, dt.time):
        return (value.hour * 60 + value.minute) * 60 + value.second
    return value


def _position(schema: Schema, reference: Reference, text: str) -> int | None:
    """The fixed row of the target that has this text in one of its cells."""
    rows = schema.rows.get(reference.target)
    if rows is None:
        return None
    return next((at for at, row in enumerate(rows.rows) if text in map(str, row)), None)
