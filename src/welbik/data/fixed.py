"""Fixed rows: the first rows of their model, just as they are declared."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import numpy as np

from ..kinds.bounds import FromNow
from ..schema.model import Field, FixedRows, Model, Reference, Schema

if TYPE_CHECKING:
    from .rows import Drawer, Drawn


def counts_with_fixed(schema: Schema, counts: dict[str, int]) -> dict[str, int]:
    """The counts, none below the number of fixed rows."""
    found = dict(counts)
    for name, rows in schema.rows.items():
        found[name] = max(found.get(name, 0), len(rows.rows))
    return found


def put_fixed(drawer: Drawer, model: Model, start: int, drawn: dict[str, Drawn]) -> None:
    """Puts the declared values into the rows of a slice that are fixed."""
    from .rows import Drawn

    rows = drawer.schema.rows.get(model.name)
    if rows is None or start >= len(rows.rows):
        return
    for member in model.members:
        if member.name not in drawn:
            continue
        column = drawn[member.name]
        values = column.values.copy()
        empty = np.zeros(len(values), dtype=bool) if column.empty is None else column.empty.copy()
        for at in range(min(len(values), len(rows.rows) - start)):
            value = _value(drawer, member, rows, start + at)
            if value is None and not (
                isinstance(member, Field) and member.kind.word in ("slug", "uuid")
            ):
                empty[at] = True
            elif value is not None:
                values[at], empty[at] = value, False
        drawn[member.name] = Drawn(values, empty if empty.any() else None)


def _value(drawer: Drawer, member: Field | Reference, rows: FixedRows, row: int) -> Any:
    value = None
    if member.name in rows.names:
        value = rows.rows[row][rows.names.index(member.name)]
    if value is None and isinstance(member, Field):
        value = member.default
    if value is None:
        return None
    if isinstance(member, Reference):
        return _position(drawer, member, str(value))
    return encoded(member, value, drawer)


def encoded(field: Field, value: Any, drawer: Drawer) -> Any:
    """A value as drawn columns hold it."""
    if isinstance(value, FromNow):
        day = np.datetime64(drawer.today + value.days, "D")
        return day if field.kind.word == "date" else day.astype("datetime64[s]")
    if isinstance(value, Decimal):
        return int(value.scaleb(field.kind.value_type().places))
    if isinstance(value, dt.datetime):
        from zoneinfo import ZoneInfo

        here = value.replace(tzinfo=ZoneInfo(drawer.timezone)).astimezone(dt.UTC)
        return np.datetime64(here.replace(tzinfo=None), "s")
    if isinstance(value, dt.date):
        return np.datetime64(value, "D")
    if isinstance(value, dt.time):
        return (value.hour * 60 + value.minute) * 60 + value.second
    return value


def _position(drawer: Drawer, reference: Reference, text: str) -> int | None:
    """The fixed row of the target that has this text in one of its cells."""
    rows = drawer.schema.rows.get(reference.target)
    if rows is None:
        return None
    return next((at for at, row in enumerate(rows.rows) if text in map(str, row)), None)
