"""Between what a field lies, as its type says."""

from __future__ import annotations

import math

from ..kinds.bounds import FromNow
from ..rules.intervals import ANY, Interval, number
from ..rules.tree import Value
from .model import Field, Schema


def bound_of(field: Field) -> Interval:
    """Between what a field lies; open where an end moves with the clock."""
    bounds = getattr(field.kind, "bounds", None)
    if bounds is None or field.kind.value_type().name == "datetime":
        return ANY
    low, high = (
        edge if end is None or isinstance(end, FromNow) else number(end)
        for end, edge in ((bounds.low, -math.inf), (bounds.high, math.inf))
    )
    return Interval(low, high)


def bound_in(schema: Schema, value: Value) -> Interval:
    """Between what a value that an expression reads lies."""
    model = schema.models.get(value.model)
    field = model.by_name.get(value.name) if model is not None else None
    return bound_of(field) if isinstance(field, Field) else ANY
