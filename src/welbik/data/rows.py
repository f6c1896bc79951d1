"""Whole made-up rows, column by column, for any slice of a model."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field, Model, Reference, Schema
from .streams import RowStream, out_of_values

_EMPTY_REFERENCE = 0.25
_EPOCH = dt.date(1970, 1, 1)

Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class Drawn:
    """One column for a slice of rows.

    `values` has one element a row: objects for text, whole numbers of the smallest place
    for decimals, datetime64 for dates and moments (UTC), positions of the parent row for
    references. `empty` marks the rows without a value, None where all have one.
    """

    values: NDArray[Any]
    empty: Mask | None


class Drawer:
    """Draws rows of a schema's models. `today` is days since 1970-01-01.

    With `full` no field is left empty that could have a value.
    """

    def __init__(
        self, schema: Schema, seed: int, timezone: str = "UTC", *, full: bool = False
    ) -> None:
        self.schema = schema
        self.seed = seed
        self.full = full
        self.today = (dt.datetime.now(ZoneInfo(timezone)).date() - _EPOCH).days

    def values(self, model: Model, field: Field, start: int, stop: int) -> NDArray[Any]:
        """What a field holds in rows `start` up to and without `stop`, were none empty."""
        return self._field(model, field, start, stop).values

    def draw(
        self, model: Model, start: int, stop: int, parents: Mapping[str, int]
    ) -> dict[str, Drawn]:
        """All columns of a slice by member name; `parents` says how many rows each model has."""
        found = self.draw_fields(model, start, stop)
        for reference in model.references:
            found[reference.name] = self._reference(model, reference, start, stop, parents)
        return found

    def draw_fields(self, model: Model, start: int, stop: int) -> dict[str, Drawn]:
        """The columns of a slice that depend on no other row."""
        return {field.name: self._field(model, field, start, stop) for field in model.fields}

    def _field(self, model: Model, field: Field, start: int, stop: int) -> Drawn:
        stream = RowStream(self, model, field.name, start, stop)
        values = field.kind.draw(field, stream)
        filled = self.full or field.required or field.default is not None
        share = 0.0 if filled else field.kind.often_empty
        return Drawn(values, self._empty(stream, share, field.required, model))

    def _empty(self, stream: RowStream, share: float, required: bool, model: Model) -> Mask | None:
        empty: Mask | None = stream.fractions("empty") < share if share else None
        if stream.limit is not None:
            if required:
                raise out_of_values(model.name, stream.field, stream.limit)
            beyond: Mask = stream.index >= stream.limit
            empty = beyond if empty is None else empty | beyond
        return empty if empty is not None and empty.any() else None

    def _reference(
        self, model: Model, reference: Reference, start: int, stop: int, parents: Mapping[str, int]
    ) -> Drawn:
        stream = RowStream(self, model, reference.name, start, stop)
        have = parents.get(reference.target, 0)
        if reference.target == model.name:
            return self._earlier(stream, reference)
        if not have:
            if reference.required and stop > start:
                from ..problems import WelbikError

                raise WelbikError(
                    f"every {model.name} needs a {reference.target} ({reference.name}), and there is none",
                    f"add a line such as '10 {reference.target}' to 'seed'",
                )
            nothing = np.ones(stop - start, dtype=bool)
            return Drawn(np.zeros(stop - start, dtype=np.int64), nothing)
        positions = stream.integers(0, have - 1, unique=reference.unique)
        share = 0.0 if reference.required else _EMPTY_REFERENCE
        return Drawn(positions, self._empty(stream, share, reference.required, model))

    def _earlier(self, stream: RowStream, reference: Reference) -> Drawn:
        """A row before this one: so no row becomes its own ancestor. The first has none."""
        index = stream.index
        if reference.unique:
            positions = np.maximum(index - 1, 0)
        else:
            positions = (stream.fractions() * index).astype(np.int64)
        empty: Mask = (stream.fractions("empty") < _EMPTY_REFERENCE) | (index == 0)
        return Drawn(positions, empty)


def as_python(type_: str, drawn: Drawn) -> list[Any]:
    """A column as Python values: str, int, Decimal, float, bool, date, aware datetime, None."""
    word, *numbers = type_.split()
    values: list[Any]
    if word == "decimal":
        places = int(numbers[1])
        values = [Decimal(value).scaleb(-places) for value in drawn.values.tolist()]
    elif word == "timestamp":
        values = [
            value.replace(tzinfo=dt.UTC) for value in drawn.values.astype("datetime64[s]").tolist()
        ]
    else:
        values = drawn.values.tolist()
    if drawn.empty is not None:
        for at in np.flatnonzero(drawn.empty).tolist():
            values[at] = None
    return values


def field_types(model: Model) -> dict[str, str]:
    """The neutral column type of each field by its name."""
    return {field.name: field.kind.stored().type for field in model.fields}
