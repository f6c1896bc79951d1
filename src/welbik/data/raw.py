"""Columns as they are first drawn, and what all rows of a model share."""

from __future__ import annotations

import datetime as dt
from abc import ABC, abstractmethod
from collections.abc import Mapping
from functools import cached_property
from typing import Any, Protocol
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from ..problems import WelbikError
from ..rules.arrays import Arrays, Rows
from ..schema.model import Field, Model, Reference, Schema
from . import samples
from .columns import Counts, Drawn, Here, Mask, Only, as_python
from .embedded import entries_of
from .field_stream import FieldStream
from .narrowing import Plan, Slot
from .sharing import NO_END, Chain, Picked, Sharing, Tree
from .spreads import Spread, spread_of
from .streams import RowStream, key_of, out_of_values, permuted_each, span_of
from .topping import Topping
from .world import Some, World

_EMPTY_REFERENCE = 0.25
Places = NDArray[np.int64]


class Cut(Rows, Protocol):
    """Some rows of a model by their numbers, while they are drawn; see `slices.Slice`."""

    drawer: RawDrawer
    model: Model
    index: Places
    counts: Counts
    fixed: Mask

    @property
    def arrays(self) -> Arrays:
        """What works rules out over them."""

    def member(self, name: str) -> Drawn:
        """A column of them."""

    def other(self, model: Model, index: Places) -> Cut:
        """Rows of any model, as they are first drawn."""

    def survey(self) -> Cut:
        """Rows spread over all of the model's."""


class RawDrawer(ABC):
    """Draws columns of a schema's models.

    With `full` no field is left empty that could have a value.
    """

    def __init__(
        self,
        schema: Schema,
        seed: int,
        timezone: str = "UTC",
        *,
        full: bool = False,
        today: dt.date | None = None,
    ) -> None:
        self.schema = schema
        self.seed = seed
        self.full = full
        self.here = Here.on(timezone, today)
        self.world: World | None = None
        """The database that is filled: what is there is read and not made up."""
        self.known: dict[tuple[object, ...], Any] = {}
        """What was told once for whole models."""
        self.mending: set[str] = set()
        """The models whose rows are being brought within their rules."""

    @cached_property
    def plan(self) -> Plan:
        return Plan(self.schema)

    @cached_property
    def arrays(self) -> Arrays:
        """What works rules out, today."""
        zone = ZoneInfo(self.here.timezone)
        now = dt.datetime.combine(self.here.day, dt.datetime.now(zone).timetz())
        return Arrays(now, self.here.timezone)

    def forget(self) -> None:
        """Makes up anew what was kept of whole models: what it was made of has changed."""
        self.known.clear()

    @abstractmethod
    def draw(
        self, model: Model, start: int, stop: int, counts: Counts, only: Only = None
    ) -> dict[str, Drawn]:
        """All columns of a slice by member name, every rule of the model kept."""

    @abstractmethod
    def mended(self, rows: Cut) -> dict[str, Drawn]:
        """The columns of rows, drawn again where rules could not be kept by narrowing."""

    @abstractmethod
    def must_mend(self, model: Model, counts: Counts) -> bool:
        """Whether rows of a model may have to be drawn again."""

    @abstractmethod
    def siblings(
        self, model: Model, anchor: str, index: Places, counts: Counts
    ) -> tuple[Places, Places, Places]:
        """The place of each row among those of its parent, how many these are, and the parent."""

    @abstractmethod
    def forced(self, rows: Cut, member: Field) -> tuple[float, float]:
        """The shares of rows where rules leave a field no value, and where they leave it free."""

    @abstractmethod
    def may_force(self, model: Model, member: Field, counts: Counts) -> bool:
        """Whether rules may leave a field no value, or none but empty."""

    @abstractmethod
    def ends(self, model: Model, member: Field, counts: Counts) -> tuple[int, int]:
        """Between what a field's values lie in all rows, in the units of its spread."""

    @abstractmethod
    def slots(self, model: Model, counts: Counts) -> Mapping[str, Slot]:
        """The fields that tell rows of unique groups apart, and how each does."""

    def first(self, model: str) -> int:
        """The number of the first row of a model that is made up."""
        world = self.world
        # A part is no model: its values are made up for the rows that it lies in.
        return 0 if world is None or model not in self.schema.models else world.start(model)

    def draw_fields(
        self, model: Model, start: int, stop: int, attempt: int = 0
    ) -> dict[str, Drawn]:
        """The columns of a slice that depend on no other row, whatever the rules."""
        index = np.arange(start, stop)
        return {f.name: self.field(model, f, index, attempt) for f in model.fields}

    def stream(self, model: Model, field: Field, index: Places, attempt: int = 0) -> FieldStream:
        """The numbers that a field's values are made of, for some rows."""
        start, stop, only = span_of(index)
        rows = (start, stop, attempt, only)
        return FieldStream(self.seed, model, field, self.here, rows, self._beside, self._part_rows)

    def spread(self, model: Model, field: Field) -> Spread | None:
        """How a field's values are spread, where they have an order."""
        key = ("spread", model.name, field.name)
        if key not in self.known:
            self.known[key] = spread_of(model, field, self.here, self._since(model, field))
        found: Spread | None = self.known[key]
        return found

    def _since(self, model: Model, field: Field) -> int | None:
        """The first day of what a day or moment comes after, where it has no first of its own."""
        bounds = getattr(field.kind, "bounds", None)
        if field.kind.value_type().name not in ("date", "datetime") or bounds is None or bounds.low:
            return None
        days = []
        for value in self.plan.before((model.name, field.name)):
            other = self.plan.models[value.model].by_name.get(value.name)
            if isinstance(other, Field) and other.kind.value_type().name in ("date", "datetime"):
                spread = self.spread(self.plan.models[value.model], other)
                if spread is not None:
                    scale = 1 if other.kind.value_type().name == "date" else 86_400
                    days.append(spread.reach.low // scale)
        return min(days, default=None)

    def field(self, model: Model, field: Field, index: Places, attempt: int = 0) -> Drawn:
        """One column of some rows, whatever the rules; each attempt gives other values."""
        stream = self.stream(model, field, index, attempt)
        spread = None if field.unique else self.spread(model, field)
        if spread is not None:
            low = np.full(len(index), spread.reach.low)
            units = spread.draw(stream, low, np.full(len(index), spread.reach.high))
            values = field.kind.drawn(units, spread.reach.places)
        else:
            values = samples.draw(field, stream)
        always = field.required or field.kind.self_made
        return Drawn(values, self.emptied(stream, self.share_of(field), always))

    def share_of(self, field: Field) -> float:
        """The share of rows without a value."""
        always = field.required or field.kind.self_made
        filled = self.full or always or (field.default is not None and not field.sample)
        return 0.0 if filled else samples.empty_share(field.sample, field.kind.often_empty)

    def _beside(self, stream: FieldStream, field: Field) -> NDArray[Any]:
        """What another field of its model holds in the rows of a stream, were none empty."""
        return self.field(stream.model, field, stream.index).values

    def _part_rows(self, stream: FieldStream, number: int) -> list[Mapping[str, Any]]:
        """An entry of a part for each row, as JSON keeps it; its rules are kept."""
        shape = stream.field.shape
        assert shape is not None
        key = ("part", stream.model.name, stream.field.name, number)
        if key not in self.known:
            self.known[key] = entries_of(shape, f"{stream.model.name}.{stream.field.name}.{number}")
            self.plan.add(self.known[key])
        model: Model = self.known[key]
        drawn = self.draw(model, stream.start, stream.stop, {}, stream.only)
        names = [f.name for f in shape.fields]
        columns = [f.kind.all_in_json(as_python(f.kind, drawn[f.name])) for f in shape.fields]
        return [dict(zip(names, values, strict=True)) for values in zip(*columns, strict=True)]

    def emptied(self, stream: RowStream, share: float, required: bool) -> Mask | None:
        """The rows of a stream that are left empty; raises WelbikError where one can't be."""
        empty: Mask | None = stream.fractions("empty") < share if share else None
        if stream.limit is not None:
            if required:
                raise out_of_values(*stream.names, stream.limit)
            beyond: Mask = stream.index >= stream.limit
            empty = beyond if empty is None else empty | beyond
        return empty if empty is not None and empty.any() else None

    def reference(
        self, model: Model, reference: Reference, index: Places, counts: Counts, attempt: int = 0
    ) -> Drawn:
        """The parents of some rows, by position; another one with each attempt."""
        have = self._to_choose(reference, counts)
        needed = reference.required and len(index) and reference.target != model.name
        if needed and not have:
            raise WelbikError(
                f"every {model.name} needs a {reference.target} ({reference.name}), and there is none",
                f"add a line such as '10 {reference.target}' to 'seed'",
            )
        shared = self.shared(model, reference, counts)
        if shared is None:
            return Drawn(np.zeros(len(index), dtype=np.int64), np.ones(len(index), dtype=bool))
        positions, empty = shared.parents(index)
        slot = self.slots(model, counts).get(reference.name) if model.uniques else None
        if slot is not None and have:
            positions, attempt = self._apart(model, reference, slot.anchor, index, counts, have), 0
        if needed and empty.any():
            raise self._too_few(model, reference, have)
        # Whose rows are counted stays its parent, unless that is what stands in the way.
        kept = isinstance(shared, Topping) and attempt % 4
        if attempt and not kept and isinstance(shared, Topping):
            positions = shared.another(index, attempt)
        elif attempt and not kept and not reference.unique and have:
            start, stop, only = span_of(index)
            stream = RowStream(self.seed, model.name, reference.name, start, stop, attempt, only)
            most = np.minimum(index, have) if reference.target == model.name else have
            if not isinstance(shared, Picked):
                positions = np.minimum(
                    (stream.fractions() * most).astype(np.int64), np.maximum(most - 1, 0)
                )
        return Drawn(positions, empty if empty.any() else None)

    def _apart(
        self,
        model: Model,
        reference: Reference,
        anchor: str,
        index: Places,
        counts: Counts,
        have: int,
    ) -> Places:
        """Rows that a reference leads to, another one for each row beside one that `anchor` leads to."""
        place, _, parent = self.siblings(model, anchor, index, counts)
        key = key_of(self.seed, model.name, reference.name, "apart")
        return permuted_each(place % have, np.full(len(index), have), parent, key)

    def _too_few(self, model: Model, reference: Reference, have: int) -> WelbikError:
        if reference.unique:
            what = f"{model.name}.{reference.name} is unique, and there are only {have} {reference.target} to lead to"
        else:
            what = f"no {reference.target} meets the 'where' of {model.name}.{reference.name}"
        return WelbikError(
            what, f"ask for more {reference.target} in 'seed', or for fewer {model.name}"
        )

    def _to_choose(self, reference: Reference, counts: Counts) -> int:
        """How many rows a reference has to choose from."""
        world = self.world
        if world is not None and world.is_read(reference.target):
            return len(world.choice(reference, self.arrays))
        return max(0, counts.get(reference.target, 0) - self.first(reference.target))

    def shared(
        self, model: Model, reference: Reference, counts: Counts
    ) -> Sharing | Tree | Chain | Picked | Topping | None:
        """How a model's rows are shared out among those that a reference leads to."""
        have, first = self._to_choose(reference, counts), self.first(model.name)
        # A model that no count is known of is as large as it is asked for.
        rows = max(1, counts.get(model.name, 0) - first)
        key = ("shared", model.name, reference.name, have, rows, first)
        if key not in self.known:
            self.known[key] = self._shared(model, reference, counts, (have, rows, first))
        found: Sharing | Tree | Chain | Picked | Topping | None = self.known[key]
        return found

    def _shared(
        self, model: Model, reference: Reference, counts: Counts, sizes: tuple[int, int, int]
    ) -> Sharing | Tree | Chain | Picked | Topping | None:
        have, rows, first = sizes
        share = samples.empty_share(reference.sample, _EMPTY_REFERENCE)
        share = 0.0 if reference.required else share
        key = key_of(self.seed, model.name, reference.name, "shared")
        law = samples.law_of(self.schema, reference, self.plan.kinds)
        read = self.world is not None and self.world.is_read(reference.target)
        if reference.target == model.name and not read:
            if reference.unique:
                return Chain(key, rows, empty=share)
            return Tree(key, rows, law, empty=share)
        if not have:
            return None
        asked: dict[str, Any] = {"empty": share, "start": first, "unique": reference.unique}
        if read and not reference.unique and self.world is not None:
            room = self.world.room(reference, self.arrays)
            parents = Some(
                self.world.table(reference.target), self.world.choice(reference, self.arrays)
            )
            least, most = samples.ends_of_each(self.schema, reference, parents, self.arrays)
            least = np.maximum(least, law.low)
            most = most if law.high is None else np.minimum(most, law.high)
            bound = least.any() or (most < NO_END).any()
            if law.word == "range" or room is not None or (bound and law.word != "skewed"):
                led = self.world.led(reference, self.arrays)
                more: dict[str, Any] = {"room": room, "required": reference.required}
                return Topping(key, rows, led, least, most, empty=share, start=first, **more)
        if read or (model.name, reference.name) not in self.plan.chosen:
            return Sharing(key, rows, have, law, **asked)
        there = self.meeting(model, reference, counts, have)
        return Picked(Sharing(key, rows, len(there), law, **asked), there)

    @abstractmethod
    def meeting(self, model: Model, reference: Reference, counts: Counts, have: int) -> Places:
        """The positions of the rows that meet the `where` of a reference."""

    def tree(self, model: Model, reference: str, counts: Counts) -> Tree | None:
        """The tree that a reference of a model to itself makes, where it is made up."""
        member = model.by_name[reference]
        assert isinstance(member, Reference)
        shared = self.shared(model, member, counts)
        return shared if isinstance(shared, Tree) else None
