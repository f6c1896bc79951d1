"""Whole made-up rows, column by column, for any slice of a model."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field, Model, Reference, Schema
from . import samples
from .streams import RowStream, out_of_values

if TYPE_CHECKING:
    from .world import World

_EMPTY_REFERENCE = 0.25
_EPOCH = dt.date(1970, 1, 1)

Mask = NDArray[np.bool_]
Only = NDArray[np.int64] | None
"""Some rows of a slice by their numbers, in order; None for all of them."""

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
        self.world: World | None = None
        """The database that is filled: what is there is read and not made up."""
        self._whole: dict[tuple[object, ...], Any] = {}

    def forget(self) -> None:
        """Makes up anew what was kept of whole models: what it was made of has changed."""
        self._whole.clear()

    def values(self, stream: RowStream, field: Field) -> NDArray[Any]:
        """What another field of its model holds in the rows of a stream, were none empty."""
        return self.field(stream.model, field, stream.start, stream.stop, only=stream.only).values

    def draw(
        self, model: Model, start: int, stop: int, counts: Counts, only: Only = None
    ) -> dict[str, Drawn]:
        """All columns of a slice by member name, every rule of the model kept."""
        from .obey import obeying

        return obeying(self, model, start, stop, counts, only)

    def raw(
        self,
        model: Model,
        name: str,
        start: int,
        stop: int,
        counts: Counts,
        attempt: int = 0,
        only: Only = None,
    ) -> Drawn:
        """One column of a slice, whatever the rules; each attempt gives other values."""
        member = model.by_name[name]
        if isinstance(member, Field):
            return self.field(model, member, start, stop, attempt, only)
        assert isinstance(member, Reference)
        return self._reference(model, member, start, stop, counts, attempt, only)

    def draw_fields(
        self, model: Model, start: int, stop: int, attempt: int = 0
    ) -> dict[str, Drawn]:
        """The columns of a slice that depend on no other row, whatever the rules."""
        return {f.name: self.field(model, f, start, stop, attempt) for f in model.fields}

    def field(
        self,
        model: Model,
        field: Field,
        start: int,
        stop: int,
        attempt: int = 0,
        only: Only = None,
    ) -> Drawn:
        stream = RowStream(self, model, field.name, start, stop, attempt, only)
        values = samples.draw(field, stream)
        always = field.required or field.kind.word in ("slug", "uuid")
        filled = self.full or always or (field.default is not None and not field.sample)
        share = 0.0 if filled else samples.empty_share(field.sample, field.kind.often_empty)
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
        only: Only = None,
    ) -> Drawn:
        stream = RowStream(self, model, reference.name, start, stop, attempt, only)
        have = self._to_choose(reference, counts)
        share = samples.empty_share(reference.sample, _EMPTY_REFERENCE)
        world = self.world
        if world is not None and world.is_read(reference.target):
            # Those that are free are shared out among the rows that are made now.
            stream.base = world.start(model.name) if reference.unique else 0
        elif reference.target == model.name:
            return self._earlier(stream, reference, share)
        if not have:
            if reference.required and stop > start:
                from ..problems import WelbikError

                raise WelbikError(
                    f"every {model.name} needs a {reference.target} ({reference.name}), and there is none",
                    f"add a line such as '10 {reference.target}' to 'seed'",
                )
            nothing = np.ones(stream.size, dtype=bool)
            return Drawn(np.zeros(stream.size, dtype=np.int64), nothing)
        positions = samples.positions(stream, reference, have, counts.get(model.name, stop))
        share = 0.0 if reference.required else share
        return Drawn(positions, self._empty(stream, share, reference.required, model))

    def _to_choose(self, reference: Reference, counts: Counts) -> int:
        """How many rows a reference has to choose from."""
        world = self.world
        if world is not None and world.is_read(reference.target):
            return len(world.choice(reference))
        return counts.get(reference.target, 0)

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
