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
from . import samples
from .streams import RowStream, out_of_values

_EMPTY_REFERENCE = 0.25
_EPOCH = dt.date(1970, 1, 1)

Mask = NDArray[np.bool_]
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
        self.timezone = timezone
        self.today = (dt.datetime.now(ZoneInfo(timezone)).date() - _EPOCH).days
        self._whole: dict[tuple[object, ...], Any] = {}

    def values(self, model: Model, field: Field, start: int, stop: int) -> NDArray[Any]:
        """What a field holds in rows `start` up to and without `stop`, were none empty."""
        return self.field(model, field, start, stop).values

    def draw(self, model: Model, start: int, stop: int, counts: Counts) -> dict[str, Drawn]:
        """All columns of a slice by member name, every rule of the model kept."""
        from .obey import obeying

        return obeying(self, model, start, stop, counts)

    def raw(
        self, model: Model, name: str, start: int, stop: int, counts: Counts, attempt: int = 0
    ) -> Drawn:
        """One column of a slice, whatever the rules; each attempt gives other values."""
        member = model.by_name[name]
        if isinstance(member, Field):
            return self.field(model, member, start, stop, attempt)
        assert isinstance(member, Reference)
        return self._reference(model, member, start, stop, counts, attempt)

    def draw_fields(
        self, model: Model, start: int, stop: int, attempt: int = 0
    ) -> dict[str, Drawn]:
        """The columns of a slice that depend on no other row, whatever the rules."""
        return {f.name: self.field(model, f, start, stop, attempt) for f in model.fields}

    def field(self, model: Model, field: Field, start: int, stop: int, attempt: int = 0) -> Drawn:
        stream = RowStream(self, model, field.name, start, stop, attempt)
        values = samples.draw(field, stream)
        always = field.required or field.kind.word in ("slug", "uuid")
        filled = self.full or always or (field.default is not None and not field.sample)
        share = 0.0 if filled else samples.empty_share(field.sample, field.kind.often_empty)
        if field.kind.often_empty == 1.0 and not field.required:
            share = 1.0
        return Drawn(values, self._empty(stream, share, always, model))

    def _empty(self, stream: RowStream, share: float, required: bool, model: Model) -> Mask | None:
        empty: Mask | None = stream.fractions("empty") < share if share else None
        if stream.limit is not None:
            if required:
                raise out_of_values(model.name, stream.field, stream.limit)
            beyond: Mask = stream.index >= stream.limit
            empty = beyond if empty is None else empty | beyond
        return empty if empty is not None and empty.any() else None

    def _reference(
        self,
        model: Model,
        reference: Reference,
        start: int,
        stop: int,
        counts: Counts,
        attempt: int = 0,
    ) -> Drawn:
        stream = RowStream(self, model, reference.name, start, stop, attempt)
        have = counts.get(reference.target, 0)
        share = samples.empty_share(reference.sample, _EMPTY_REFERENCE)
        if reference.target == model.name:
            return self._earlier(stream, reference, share)
        if not have:
            if reference.required and stop > start:
                from ..problems import WelbikError

                raise WelbikError(
                    f"every {model.name} needs a {reference.target} ({reference.name}), and there is none",
                    f"add a line such as '10 {reference.target}' to 'seed'",
                )
            nothing = np.ones(stop - start, dtype=bool)
            return Drawn(np.zeros(stop - start, dtype=np.int64), nothing)
        positions = samples.positions(stream, reference, have, counts.get(model.name, stop))
        share = 0.0 if reference.required else share
        return Drawn(positions, self._empty(stream, share, reference.required, model))

    def _earlier(self, stream: RowStream, reference: Reference, share: float) -> Drawn:
        """A row before this one: so no row becomes its own ancestor. The first has none."""
        index = stream.index
        if reference.unique:
            positions = np.maximum(index - 1, 0)
        else:
            positions = (stream.fractions() * index).astype(np.int64)
        empty: Mask = (stream.fractions("empty") < share) | (index == 0)
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
    elif word == "time":
        values = [_time(seconds) for seconds in drawn.values.tolist()]
    else:
        values = drawn.values.tolist()
    if drawn.empty is not None:
        for at in np.flatnonzero(drawn.empty).tolist():
            values[at] = None
    return values


def _time(seconds: int) -> dt.time:
    return dt.time(seconds // 3600, seconds // 60 % 60, seconds % 60)


def field_types(model: Model) -> dict[str, str]:
    """The neutral column type of each field by its name."""
    return {field.name: field.kind.stored().type for field in model.fields}
