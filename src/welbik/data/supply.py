"""Made-up values for factories and the screen, as Python objects."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from copy import deepcopy
from datetime import date, datetime, timedelta, tzinfo
from decimal import Decimal
from io import BytesIO
from types import MappingProxyType
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from ..kinds.bounds import FromNow
from ..problems import WelbikError, did_you_mean
from ..rules.text import as_hours
from ..rules.tree import Aggregate, Apply, Node, Value, plain, walk
from ..schema.model import MOST_SHOWN, Field, Model, Piece, Reference, Schema
from .columns import Counts, Drawn, Only, as_python
from .drawer import Drawer
from .fixed import counts_with_fixed
from .narrowing import Slot
from .slices import Slice
from .stored import read_condition
from .told import Told
from .uploads import Upload, bytes_of

_TOGETHER = 2000
"""So many rows are made up together."""
_TRIES = 400
_EDGE = 200
"""Tries after which a row need not lie at the edge of a rule: some edges can't be had."""
_NOBODY = "999999999"
"""The key of no row."""
_BLOCKS = (16, 64, 256)
"""So many rows are drawn together: a test that asks for one asks for more; the last one again and again."""
_APART = 24
"""Tries in which a row is to differ from those before it where several fields are unique together."""
_FULL = 40
"""Tries after which a row may leave fields empty: some rules are kept in no other way."""


def shown(model: Model, row: dict[str, Any], zone: tzinfo) -> str:
    """A row as `shown as` has it; references in `row` are already texts."""
    return "".join(_piece(model, part, row, zone) for part in model.shown_as)


def _piece(model: Model, part: Piece, row: dict[str, Any], zone: tzinfo) -> str:
    if not part.is_field:
        return part.text
    value: Any = row.get(part.text)
    member = model.by_name.get(part.text)
    if isinstance(member, Field) and member.kind.labels():
        value = member.kind.labels().get(str(value))
    if isinstance(value, datetime):
        return f"{value.astimezone(zone):%Y-%m-%d %H:%M}"
    if isinstance(value, bool):
        return "Yes" if value else "No"
    if isinstance(value, timedelta):
        return as_hours(value)
    if isinstance(member, Field) and member.is_long and len(str(value)) > MOST_SHOWN:
        return f"{str(value)[: MOST_SHOWN - 1]}…"
    return "—" if value is None else str(value)


class Supply:
    """Made-up rows as Python values: the very rows that filling a database makes."""

    def __init__(
        self, schema: Schema, seed: int = 1, timezone: str = "UTC", *, day: date | None = None
    ) -> None:
        self.schema = schema
        self.drawer = Drawer(schema, seed, timezone, today=day)
        self.zone = ZoneInfo(timezone)

    def rows(self, model: str, start: int, stop: int) -> list[dict[str, Any]]:
        """Some rows by field name, a reference as the text that its target is shown as."""
        return list(self.each(model, start, stop))

    def each(self, model: str, start: int, stop: int) -> Iterator[dict[str, Any]]:
        """The same, some at a time: memory does not grow with the rows."""
        resolved = self.schema.models[model]
        names, counts = {member.name for member in resolved.members}, self._counts(stop)
        for begin in range(start, stop, _TOGETHER):
            yield from self._rows(resolved, begin, min(stop, begin + _TOGETHER), names, counts)

    def matching(
        self, model: str, start: int, stop: int, condition: str, most: int | None = None
    ) -> Iterator[dict[str, Any]]:
        """The rows between two numbers for which a condition holds, up to so many.

        Raises WelbikError for what is no condition.
        """
        resolved = self.schema.models[model]
        node = read_condition(self.schema, resolved, condition)
        names, counts = {member.name for member in resolved.members}, self._counts(stop)
        for begin in range(start, stop, _TOGETHER):
            index = np.arange(begin, min(stop, begin + _TOGETHER))
            rows = Slice(self.drawer, resolved, index, counts, final=True)
            held = self.drawer.arrays.evaluate(node, rows)
            kept = index[held.values.astype(bool) & ~held.empty]
            kept = kept if most is None else kept[:most]
            if len(kept):
                first, last = int(kept[0]), int(kept[-1]) + 1
                yield from self._rows(resolved, first, last, names, counts, kept)
            most = None if most is None else most - len(kept)
            if most == 0:
                return

    def _counts(self, stop: int) -> dict[str, int]:
        """How many rows each model has; as many as are asked for, where no seed says it."""
        seeds = {name: self.schema.seed.get(name) or stop for name in self.schema.models}
        return counts_with_fixed(self.schema, seeds)

    def _rows(
        self,
        model: Model,
        start: int,
        stop: int,
        names: set[str],
        counts: Counts,
        only: Only = None,
    ) -> list[dict[str, Any]]:
        drawn = self.drawer.draw(model, start, stop, counts, only)
        columns: dict[str, list[Any]] = {}
        for member in model.members:
            if member.name not in names:
                continue
            column = drawn[member.name]
            if isinstance(member, Field):
                columns[member.name] = as_python(member.kind, column)
            else:
                columns[member.name] = self._names(
                    self.schema.models[member.target], column, counts
                )
        size = stop - start if only is None else len(only)
        rows = zip(*columns.values(), strict=True) if columns else [()] * size
        return [dict(zip(columns, row, strict=True)) for row in rows]

    def _names(self, target: Model, column: Drawn, counts: Counts) -> list[str | None]:
        """What the rows at some positions are shown as."""
        count = len(column.values)
        there = np.ones(count, dtype=bool) if column.empty is None else ~column.empty
        wanted = {part.text for part in target.shown_as if part.is_field}
        positions, places = np.unique(column.values[there], return_inverse=True)
        if not len(positions):
            return [None] * count
        first, last = int(positions[0]), int(positions[-1]) + 1
        rows = self._rows(target, first, last, wanted, counts, positions)
        names = [
            shown(target, {"id": position + 1, **row}, self.zone)
            for position, row in zip(positions.tolist(), rows, strict=True)
        ]
        told: list[str | None] = [None] * count
        for at, place in zip(np.flatnonzero(there).tolist(), places.tolist(), strict=True):
            told[at] = names[place]
        return told


class _Alone(Drawer):
    """Draws rows that lead to no others yet: their rules are kept as far as they read a row alone."""

    def reference(
        self,
        model: Model,
        reference: Reference,
        index: NDArray[np.int64],
        counts: Counts,
        attempt: int = 0,
    ) -> Drawn:
        return Drawn(np.zeros(len(index), dtype=np.int64), np.ones(len(index), dtype=bool))

    def must_mend(self, model: Model, counts: Counts) -> bool:
        # Part rows are brought within their rules; those of models are told by the factory.
        return model.name not in self.schema.models and super().must_mend(model, counts)

    def slots(self, model: Model, counts: Counts) -> Mapping[str, Slot]:
        return {}


class Factory:
    """Values for the fields of one row after another, none left empty that could have one."""

    def __init__(self, schema: Schema, seed: int = 1, timezone: str = "UTC") -> None:
        self.schema = schema
        self.drawer = _Alone(schema, seed, timezone, full=True)
        self.loose = _Alone(schema, seed, timezone)
        self.rules = Told(schema, timezone)
        self.zone = ZoneInfo(timezone)
        self._next: dict[str, int] = {}
        self._groups: set[tuple[object, ...]] = set()
        self._blocks: dict[tuple[str, int, int, bool, bool], dict[str, list[Any]]] = {}

    def restart(self) -> None:
        """Begins again with the first row of every model."""
        self._next.clear()
        self._groups.clear()

    def values(
        self,
        model: str,
        given: Mapping[str, Any] | None = None,
        parents: Mapping[str, Any] | None = None,
        breaking: str = "",
        edge: str = "",
    ) -> dict[str, Any]:
        """The fields of the model's next row, by attribute of the generated class.

        `given` are values to take as they are, `parents` the rows that relations lead to.
        The row keeps every rule of its model, save that named by `breaking`; that named by
        `edge` it keeps only just, where that can be had. Raises LookupError where no such row is found.
        """
        number = self._next.get(model, 0)
        self._next[model] = number + 1
        resolved = self.schema.models[model]
        known, around = self.given(model, given or {}), dict(parents or {})
        wanted = [breaking] if breaking else []
        for attempt in range(_TRIES):
            values = {**self._drawn(resolved, number, attempt, bool(breaking)), **known}
            if breaking or edge and attempt < _EDGE:
                values = self._bent(
                    resolved, breaking or edge, attempt, values, around, bool(breaking)
                )
            if not self._fits(resolved, values):
                continue
            if self.rules.broken(resolved, {**values, **around}) == wanted:
                groups = set(_groups(resolved, values))
                if attempt < _APART and groups & self._groups:
                    continue
                self._groups |= groups
                return values
        what = f"breaks just the rule {breaking!r}" if breaking else "keeps all its rules"
        raise LookupError(f"no {model} could be made up that {what}: widen the fields it reads")

    def meeting(
        self,
        model: str,
        relation: str,
        breaking: str = "",
        beside: Mapping[str, Any] = MappingProxyType({}),
    ) -> dict[str, Any]:
        """What a row of its own fields has that a relation may lead to; nothing where none is found.

        A rule that is called `breaking` is not kept. `beside` has the rows that other relations lead
        to, by their names, None where they lead to none.
        """
        of = self.schema.models[model]
        reference = of.by_name[relation]
        there = {of.stored(name).attribute: row for name, row in beside.items() if row is not None}
        known = [name for name, row in beside.items() if row is not None]
        asked = of.asked_of(reference, known) if isinstance(reference, Reference) else {}
        if not asked:
            return {}
        assert isinstance(reference, Reference)
        same = dict(self._led_alike(reference, asked, there))
        target = self.schema.models[reference.target]
        parts = [part for node in asked.values() for part in walk(node)]
        read = {p.name for p in parts if isinstance(p, Value) and not p.path}
        fields = [field for field in target.fields if field.name in read and not field.by_database]
        conditions = [
            (self.rules.condition(node), not breaking or name != breaking)
            for name, node in asked.items()
        ]
        for attempt in range(_TRIES):
            # Empty ones are tried in turn: what is asked for may be that nothing is given.
            values = self._drawn(target, self._next.get(target.name, 0), attempt, attempt % 2 == 1)
            if self._fits(target, values) and all(
                meets({**values, **there, **same}) == wanted for meets, wanted in conditions
            ):
                return {**same, **{field.attribute: values[field.attribute] for field in fields}}
        return same

    def same(self, model: str, relation: str, given: Mapping[str, Any]) -> Any:
        """The key of the row that a rule wants a relation to lead to as another one does; None where none does.

        `given` has the keys that relations lead to, by attribute.
        """
        of = self.schema.models[model]

        def key(name: str) -> Any:
            reference = of.by_name[name]
            return given.get(reference.key_attribute) if isinstance(reference, Reference) else None

        for pairs in of.same_rows():
            if any(key(one) is not None and key(one) == key(other) for one, other in pairs):
                continue
            for pair in pairs:
                others = [name for name in pair if name != relation]
                if len(others) == 1 and key(others[0]) is not None:
                    return key(others[0])
        return None

    def _led_alike(
        self, reference: Reference, asked: Mapping[str, Node], there: Mapping[str, Any]
    ) -> Iterator[tuple[str, Any]]:
        """What a row has to lead to the same row as one beside it, where a rule says so."""
        target = self.schema.models[reference.target]
        for node in asked.values():
            if not isinstance(node, Apply) or node.word != "=":
                continue
            for mine, other in (node.operands, node.operands[::-1]):
                if not isinstance(mine, Value) or not isinstance(other, Value) or mine.path:
                    continue
                member = target.by_name.get(mine.name)
                if not isinstance(member, Reference) or len(other.path) != 1:
                    continue
                step = other.path[0]
                row = there[self.schema.models[step.owner].stored(step.reference).attribute]
                led = self.schema.models[step.model].stored(other.name)
                assert isinstance(led, Reference)
                yield member.key_attribute, getattr(row, led.key_attribute)

    def given(self, of: str, given: Mapping[str, Any]) -> dict[str, Any]:
        """What a test gives, related rows by their keys.

        Raises TypeError and ValueError for what no row can have.
        """
        model = self.schema.models[of]
        found: dict[str, Any] = {}
        references = {r.attribute: r.key_attribute for r in model.references}
        fields = {field.attribute: field for field in model.fields}
        known = {*fields, *references, *references.values(), *(m.attribute for m in model.many)}
        for name, value in given.items():
            if name not in known:
                meant = did_you_mean(name, sorted(known))
                raise TypeError(f"{model.name} has no {name!r}" + (f": {meant}" if meant else ""))
            if name in references and value is not None:
                target = self.schema.models[model.stored(_named(model, name)).target]  # type: ignore[union-attr]
                found[references[name]] = getattr(value, target.key or "id")
                continue
            field = fields.get(name)
            if field is not None and value is not None:
                self._may_have(model, field, value)
            found[name] = value
        return found

    def _may_have(self, model: Model, field: Field, value: Any) -> None:
        """Raises ValueError where a value is not as a field is declared."""
        bounds, kind = getattr(field.kind, "bounds", None), field.kind
        wrong = kind.labels() and value not in kind.labels()
        if bounds is not None:
            for end, sign in ((bounds.low, -1), (bounds.high, 1)):
                with suppress(TypeError):
                    wrong = wrong or end is not None and _beyond(value, end, sign, self.zone)
        if kind.textual and isinstance(value, str):
            longest = getattr(kind, "longest", None) or len(value)
            wrong = wrong or not getattr(kind, "shortest", 0) <= len(value) <= longest
            if field.pattern is not None:
                wrong = wrong or not re.fullmatch(field.pattern.text, value)
        if wrong:
            told = kind.describe()
            told += f", matches {field.pattern.text}" if field.pattern is not None else ""
            raise ValueError(f"{model.name}.{field.name} is {told}, and {value!r} was given")

    def room(
        self, model: str, given: Mapping[str, Any], several: Mapping[str, Any]
    ) -> dict[str, Any]:
        """What is given, with room for so many rows of its collections where rules count them."""
        found, resolved = dict(given), self.schema.models[model]
        for name, wanted in several.items():
            if not isinstance(wanted, int | Sequence) or isinstance(wanted, str):
                raise ValueError(f"{model}.{name} takes a number, or a list of what each has")
            count = wanted if isinstance(wanted, int) else len(wanted)
            for field, least in counted(resolved, name, count):
                found.setdefault(field.attribute, least)
        return found

    def wrong(self, model: str) -> list[tuple[str, str, str]]:
        """Each way that one field of a row can be typed wrongly: field, text, and what is wrong."""
        resolved = self.schema.models[model]
        needed = [f.name for f in resolved.fields if f.required and not f.kind.self_made]
        needed += [r.name for r in resolved.references if r.required]
        nowhere = [(r.name, _NOBODY, "leads to nothing") for r in resolved.references]
        empty = [(name, "", "left empty") for name in needed]
        return empty + nowhere + [one[:3] for one in self._cases(model) if not one[3]]

    def inside(self, model: str) -> list[tuple[str, str, str]]:
        """Each way that one field can be typed only just as it may be."""
        return [one[:3] for one in self._cases(model) if one[3]]

    def _cases(self, model: str) -> list[tuple[str, str, str, bool]]:
        return [
            (field.name, str(self.rules.worked_out(case.typed)), case.why, case.accepted)
            for field in self.schema.models[model].fields
            if not field.internal and not field.kind.upload
            for case in field.kind.cases(field)
        ]

    def _bent(
        self,
        model: Model,
        rule: str,
        attempt: int,
        values: dict[str, Any],
        parents: dict[str, Any],
        outside: bool,
    ) -> dict[str, Any]:
        """The values brought to the edge of a rule, or with some of what it reads left out."""
        asked: dict[str, Any] = {"outside": outside, "turn": attempt}
        edge = self.rules.at_edge(model, rule, {**values, **parents}, **asked)
        if edge:
            # Beyond its own bounds it goes to their end, and the other side comes to meet it.
            (attribute,) = edge
            field = next(f for f in model.fields if f.attribute == attribute)
            ended = _ended(field, edge[attribute], self.zone)
            if ended != edge[attribute]:
                values = {**values, attribute: ended}
                around = {**values, **parents}
                edge = self.rules.at_edge(model, rule, around, **asked, but=field.name)
            return {**values, **edge}
        optional = [f.attribute for f in model.fields if not f.required and f.attribute in values]
        out = {name: None for at, name in enumerate(optional[:8]) if attempt >> (at + 1) & 1}
        return {**values, **out} if outside else values

    def _fits(self, model: Model, values: dict[str, Any]) -> bool:
        """Whether values lie within their own fields' bounds, as far as those are constant."""
        for field in model.fields:
            bounds = getattr(field.kind, "bounds", None)
            value = values.get(field.attribute)
            if value is None or bounds is None:
                continue
            for end, sign in ((bounds.low, -1), (bounds.high, 1)):
                if end is not None and _beyond(value, end, sign, self.zone):
                    return False
        return True

    def sent(self, model: str, typed: Mapping[str, str]) -> dict[str, Any]:
        """What is typed into a form as a browser sends it: uploads with their bytes."""
        found: dict[str, Any] = dict(typed)
        for field in self.schema.models[model].fields:
            if field.kind.upload and typed.get(field.name):
                name, _, _, digest = json.loads(typed[field.name])
                found[field.name] = (BytesIO(bytes_of(field, digest)), name)
        return found

    def _drawn(self, model: Model, number: int, attempt: int, loose: bool) -> dict[str, Any]:
        """One try; where a rule is to be broken, or none can be kept, fields may stay empty."""
        empties = attempt % 2 == 1 if loose else attempt >= _FULL
        drawn = self._row(model, number, attempt, empties, loose)
        # What must differ from row to row keeps the value of the first try.
        first = self._row(model, number, 0, False, loose) if attempt else drawn
        found = {
            field.attribute: _copied((first if field.unique else drawn)[field.name])
            for field in model.fields
            if not field.by_database
        }
        for field in model.fields:
            held = found.get(field.attribute)
            if field.kind.upload and held is not None:
                found[field.attribute] = Upload(**held)
        return found

    def _row(
        self, model: Model, number: int, attempt: int, empties: bool, loose: bool
    ) -> dict[str, Any]:
        """The values of a row by field; its neighbours are drawn with it, and kept."""
        start, stop = _block(number)
        asked = (model.name, start, attempt, empties, loose)
        if asked not in self._blocks:
            try:
                self._blocks[asked] = self._columns(model, start, stop, attempt, empties, loose)
            except WelbikError:
                # Fewer can differ from each other than are drawn together.
                alone = self._columns(model, number, number + 1, attempt, empties, loose)
                return {name: column[0] for name, column in alone.items()}
        return {name: column[number - start] for name, column in self._blocks[asked].items()}

    def _columns(
        self, model: Model, start: int, stop: int, attempt: int, empties: bool, loose: bool
    ) -> dict[str, list[Any]]:
        drawer = self.loose if empties else self.drawer
        if loose:
            # What is to break a rule is not drawn within it.
            raw = drawer.draw_fields(model, start, stop, attempt)
            return {f.name: as_python(f.kind, raw[f.name]) for f in model.fields}
        rows = Slice(drawer, model, np.arange(start, stop), {}, final=False)
        rows.attempt = attempt
        return {f.name: as_python(f.kind, rows.member(f.name)) for f in model.fields}


def _groups(model: Model, values: Mapping[str, Any]) -> Iterator[tuple[object, ...]]:
    """What must differ together from row to row, where all of it is known of a row."""
    for group in model.uniques:
        members = [model.stored(name) for name in group.names]
        keys = [m.key_attribute if isinstance(m, Reference) else m.attribute for m in members]
        told = [values.get(key) for key in keys]
        if None not in told:
            yield (model.name, group.names, *map(repr, told))


def _named(model: Model, attribute: str) -> str:
    return next(r.name for r in model.references if r.attribute == attribute)


def counted(model: Model, collection: str, count: int) -> Iterator[tuple[Field, int]]:
    """The fields that a rule keeps at a count of rows or above, and the least that each may be."""
    for rule in model.rules:
        node = rule.node
        if not isinstance(node, Apply) or node.word not in ("<", "<="):
            continue
        less, more = (plain(part) for part in node.operands)
        hops = less.hops if isinstance(less, Aggregate) and less.function == "count" else ()
        field = model.by_name.get(more.name) if isinstance(more, Value) and not more.path else None
        if [hop.name for hop in hops] == [collection] and isinstance(field, Field):
            yield field, count + int(node.word == "<")


def _block(number: int) -> tuple[int, int]:
    """The numbers of the rows that are drawn together with one: the first, and after the last."""
    start = 0
    for size in _BLOCKS:
        if number < start + size:
            return start, start + size
        start += size
    start += (number - start) // size * size
    return start, start + size


def _copied(value: Any) -> Any:
    return deepcopy(value) if isinstance(value, list | dict) else value


def _ended(field: Field, value: Any, zone: tzinfo) -> Any:
    """A value, or the end of its field's bounds that it lies beyond; moving ends apart."""
    bounds = getattr(field.kind, "bounds", None)
    for end, sign in ((bounds.low, -1), (bounds.high, 1)) if bounds else ():
        if end is None or isinstance(end, FromNow) or isinstance(value, datetime):
            continue
        if _beyond(value, end, sign, zone):
            return type(value)(end) if isinstance(value, Decimal | int | float) else end
    return value


def _beyond(value: Any, end: Any, sign: int, zone: tzinfo) -> bool:
    """Whether a value lies past an end; ends that move with the clock are told by it."""
    if isinstance(end, FromNow):
        now = datetime.now(zone) + timedelta(days=end.days)
        end = now if isinstance(value, datetime) else now.date()
    elif isinstance(value, datetime):
        end = end.replace(tzinfo=zone)
    return bool(value > end if sign > 0 else value < end)
