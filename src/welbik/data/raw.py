"""Columns as they are first drawn, whatever the rules say."""

from __future__ import annotations

import datetime as dt
from abc import ABC, abstractmethod
from collections.abc import Mapping
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from ..problems import WelbikError
from ..schema.model import Field, Model, Reference, Schema
from . import samples
from .columns import Counts, Drawn, Here, Mask, Only, as_python
from .field_stream import FieldStream
from .streams import RowStream, out_of_values
from .world import World

_EMPTY_REFERENCE = 0.25
_EPOCH = dt.date(1970, 1, 1)


class RawDrawer(ABC):
    """Draws columns of a schema's models.

    With `full` no field is left empty that could have a value.
    """

    def __init__(
        self, schema: Schema, seed: int, timezone: str = "UTC", *, full: bool = False
    ) -> None:
        self.schema = schema
        self.seed = seed
        self.full = full
        self.here = Here((dt.datetime.now(ZoneInfo(timezone)).date() - _EPOCH).days, timezone)
        self.world: World | None = None
        """The database that is filled: what is there is read and not made up."""
        self.whole: dict[tuple[object, ...], Any] = {}
        """What is kept of whole models, once it was drawn."""

    def forget(self) -> None:
        """Makes up anew what was kept of whole models: what it was made of has changed."""
        self.whole.clear()

    @abstractmethod
    def draw(
        self, model: Model, start: int, stop: int, counts: Counts, only: Only = None
    ) -> dict[str, Drawn]:
        """All columns of a slice by member name, every rule of the model kept."""

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
        rows = (start, stop, attempt, only)
        stream = FieldStream(
            self.seed, model, field, self.here, rows, self._beside, self._part_rows
        )
        values = samples.draw(field, stream)
        always = field.required or field.kind.self_made
        filled = self.full or always or (field.default is not None and not field.sample)
        share = 0.0 if filled else samples.empty_share(field.sample, field.kind.often_empty)
        return Drawn(values, self._empty(stream, share, always))

    def _beside(self, stream: FieldStream, field: Field) -> NDArray[Any]:
        """What another field of its model holds in the rows of a stream, were none empty."""
        return self.field(stream.model, field, stream.start, stream.stop, only=stream.only).values

    def _part_rows(self, stream: FieldStream, number: int) -> list[Mapping[str, Any]]:
        """An entry of a part for each row, as JSON keeps it; its rules are kept."""
        shape = stream.field.shape
        assert shape is not None
        model = Model(
            name=f"{stream.model.name}.{stream.field.name}.{number}",
            help="",
            singular="",
            plural="",
            everything=tuple(shape.fields),
            shown_as=(),
            columns=(),
            sort=(),
            span=shape.span,
            rules=shape.rules,
        )
        drawn = self.draw(model, stream.start, stream.stop, {}, stream.only)
        names = [f.name for f in shape.fields]
        columns = [
            [f.kind.in_json(value) for value in as_python(f.kind, drawn[f.name])]
            for f in shape.fields
        ]
        return [dict(zip(names, values, strict=True)) for values in zip(*columns, strict=True)]

    def _empty(self, stream: RowStream, share: float, required: bool) -> Mask | None:
        empty: Mask | None = stream.fractions("empty") < share if share else None
        if stream.limit is not None:
            if required:
                raise out_of_values(*stream.names, stream.limit)
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
        stream = RowStream(self.seed, model.name, reference.name, start, stop, attempt, only)
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
                raise WelbikError(
                    f"every {model.name} needs a {reference.target} ({reference.name}), and there is none",
                    f"add a line such as '10 {reference.target}' to 'seed'",
                )
            nothing = np.ones(stream.size, dtype=bool)
            return Drawn(np.zeros(stream.size, dtype=np.int64), nothing)
        positions = samples.positions(stream, reference, have, counts.get(model.name, stop))
        share = 0.0 if reference.required else share
        return Drawn(positions, self._empty(stream, share, reference.required))

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
