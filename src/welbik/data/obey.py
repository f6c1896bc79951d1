"""Rows that obey every rule: drawn again where they break one, then brought within it.

A row's values depend on nothing but its own number, what its rules read, and how often it
was tried: so a slice comes out the same wherever it is cut.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from ..kinds.bounds import FromNow
from ..problems import WelbikError
from ..rules.arrays import Arrays, Column
from ..rules.tree import Aggregate, Apply, Hop, Node, Value, plain, walk
from ..schema.expressions import REMOVED
from ..schema.model import Field, Model, Reference, Rule
from .fixed import put_fixed
from .rows import Counts, Drawer, Drawn, Mask, Only, as_python
from .world import Some

if TYPE_CHECKING:
    from .streams import RowStream

_TRIES = 16
_BEND = 12
"""Attempts after which values are brought within a rule instead of drawn again."""


def obeying(
    drawer: Drawer, model: Model, start: int, stop: int, counts: Counts, only: Only = None
) -> dict[str, Drawn]:
    """All columns of a slice, no row of which breaks a rule of its model."""
    if not model.uniques:
        return _Slice(drawer, model, start, stop, counts, only).mended()
    # What must differ together is only known once all rows before are.
    first = drawer.world.start(model.name) if drawer.world is not None else 0
    last = max(stop, counts.get(model.name, 0))
    key = ("unique", model.name, last, tuple(sorted(counts.items())))
    if key not in drawer._whole:
        drawer._whole[key] = _Slice(drawer, model, first, last, counts).mended()
    whole: dict[str, Drawn] = drawer._whole[key]
    part = slice(start - first, stop - first) if only is None else only - first
    return {name: _part(drawn, part) for name, drawn in whole.items()}


def _part(drawn: Drawn, part: slice | NDArray[np.int64]) -> Drawn:
    empty = None if drawn.empty is None else drawn.empty[part]
    return Drawn(drawn.values[part], empty if empty is not None and empty.any() else None)


class _Slice:
    """Rows of a model as rules read them; see `rules.arrays.Rows`."""

    def near(self, positions: NDArray[np.int64]) -> tuple[Any, NDArray[np.int64]]:
        return self, positions

    def __init__(
        self,
        drawer: Drawer,
        model: Model,
        start: int,
        stop: int,
        counts: Counts,
        only: Only = None,
    ) -> None:
        self.drawer, self.model, self.counts = drawer, model, counts
        self.start, self.stop, self.only = start, stop, only
        self.index = np.arange(start, stop) if only is None else only
        self.drawn = {m.name: self._raw(m.name) for m in model.members}
        put_fixed(drawer, model, self.index, self.drawn)
        self.fixed = self.index < _fixed_count(drawer, model)

    def _raw(self, name: str, attempt: int = 0) -> Drawn:
        where = self.start, self.stop, self.counts, attempt, self.only
        return self.drawer.raw(self.model, name, *where)

    @property
    def size(self) -> int:
        return len(self.index)

    def column(self, name: str) -> Column:
        return (
            _nothing(self.size)
            if name == REMOVED
            else as_column(self.model, name, self.drawn[name])
        )

    def follow(self, reference: str) -> Any:
        target = self.model.by_name[reference]
        assert isinstance(target, Reference)
        stored = _stored(self.drawer, target)
        if stored is not None:
            return stored
        if target.target == self.model.name:
            return _Earlier(self.drawer, self.model, self.stop, self.counts)
        return _Whole(self.drawer, self.drawer.schema.models[target.target], self.counts)

    def children(self, hop: Hop) -> tuple[Any, NDArray[np.int64]]:
        rows, owner = _children(self.drawer, hop, self.counts)
        if self._is_beside_stored:
            # Who will come to refer to these is only known once they are there.
            owner = np.full(len(owner), -1, dtype=np.int64)
        place = np.full(self.stop - self.start, -1, dtype=np.int64)
        place[self.index - self.start] = np.arange(self.size)
        kept = np.flatnonzero((owner >= self.start) & (owner < self.stop))
        kept = kept[place[owner[kept] - self.start] >= 0]
        return Some(rows, kept), place[owner[kept] - self.start]

    @property
    def _is_beside_stored(self) -> bool:
        world = self.drawer.world
        return world is not None and world.is_read(self.model.name)

    def mended(self) -> dict[str, Drawn]:
        """The columns once no rule is broken; raises WelbikError where that can't be had."""
        rules = [rule for rule in self.model.rules if _reads_own(rule.node)]
        arrays = _arrays(self.drawer)
        for attempt in range(1, _TRIES + 1):
            broken = [(rule, self._broken(arrays, rule)) for rule in rules]
            clashes = list(self._clashes())
            if not any(mask.any() for _, mask in [*broken, *clashes]):
                return self.drawn
            for names, mask in clashes:
                self._redraw(names, mask, attempt)
            for rule, mask in broken:
                if mask.any():
                    self._mend(arrays, rule, mask, attempt)
        self._settle(arrays, rules)
        for rule in rules:
            if self._is_beside_stored and _counts_others(rule.node):
                continue
            mask = self._broken(arrays, rule)
            if mask.any():
                raise self._impossible(rule.text, int(self.index[np.flatnonzero(mask)[0]]))
        for names, mask in self._clashes():
            if mask.any():
                raise self._impossible(f"unique {', '.join(names)}", self.start)
        return self.drawn

    def _settle(self, arrays: Arrays, rules: list[Rule]) -> None:
        """The last means, a rule at a time: brings values to its edge, or leaves one empty.

        What is drawn anew for one rule may break another; this only ever takes away.
        """
        held = _read_by_later(self.model)
        for _ in range(len(rules) + 1):
            for rule in rules:
                mask = self._broken(arrays, rule)
                if not mask.any():
                    continue
                names = [name for name in _own_names(self.model, rule) if name not in held]
                free = [name for name in names if not self.model.stored(name).unique]
                # What another rule reads too stays, where there is a choice.
                self._bend(arrays, rule.node, [rule.at] if rule.at in free else free, mask)
                for name in names:
                    mask = self._broken(arrays, rule)
                    if mask.any() and not self.model.stored(name).required:
                        self._put(name, self.drawn[name].values, mask, mask)
        for names, mask in self._clashes():
            if mask.any():
                self._leave_empty(names, mask)

    def _impossible(self, rule: str, row: int) -> WelbikError:
        return WelbikError(
            f"no {self.model.name} could be made up for row {row} that keeps: {rule}",
            "widen the fields that the rule reads, or ask for fewer rows in 'seed'",
        )

    def _broken(self, arrays: Arrays, rule: Rule) -> Mask:
        held = arrays.evaluate(rule.node, self)
        mask: Mask = ~held.values.astype(bool) & ~held.empty & ~self.fixed
        return mask

    def _clashes(self) -> Iterator[tuple[list[str], Mask]]:
        """The rows that repeat what an earlier one has for a unique group."""
        for unique in self.model.uniques:
            seen = self._stored_groups(unique.names)
            mask = np.zeros(self.size, dtype=bool)
            columns = [self._compared(name) for name in unique.names]
            lists = [column.values.tolist() for column in columns]
            for at, values in enumerate(zip(*lists, strict=True)):
                if any(column.empty[at] for column in columns):
                    continue
                mask[at] = values in seen
                seen.add(values)
            yield [n for n in unique.names if not self.model.stored(n).unique], mask

    def _compared(self, name: str) -> Column:
        """A column as it is compared with stored rows: relations by their place among all."""
        column = self.column(name)
        member = self.model.by_name[name]
        world = self.drawer.world
        if world is None or not isinstance(member, Reference) or not world.is_read(member.target):
            return column
        choice = world.choice(member)
        return Column(choice[column.values] if len(choice) else column.values, column.empty)

    def _stored_groups(self, names: Sequence[str]) -> set[tuple[object, ...]]:
        """What stored rows have for a unique group."""
        world = self.drawer.world
        if world is None or not world.stored[self.model.name]:
            return set()
        rows = world.table(self.model.name)
        columns = [rows.column(name) for name in names]
        kept = rows.live()
        for column in columns:
            kept &= ~column.empty
        return set(zip(*(column.values[kept].tolist() for column in columns), strict=True))

    def _mend(self, arrays: Arrays, rule: Rule, mask: Mask, attempt: int) -> None:
        held = _read_by_later(self.model)
        names = [name for name in _own_names(self.model, rule) if name not in held]
        free = [name for name in names if not self.model.stored(name).unique]
        if attempt == _TRIES or not free:
            self._leave_empty(names, mask)
        elif attempt >= _BEND and self._bend(arrays, rule.node, free, mask):
            return
        else:
            first = [rule.at] if rule.at in free and attempt % 3 else free
            self._redraw(first, mask, attempt)

    def _redraw(self, names: list[str], mask: Mask, attempt: int) -> None:
        for name in names:
            new = self._raw(name, attempt)
            self._put(name, new.values, new.empty, mask)

    def _put(self, name: str, values: Any, empty: Mask | None, mask: Mask) -> None:
        old = self.drawn[name]
        merged = np.where(mask, values, old.values)
        before = np.zeros(self.size, dtype=bool) if old.empty is None else old.empty
        after = np.zeros(self.size, dtype=bool) if empty is None else empty
        both = np.where(mask, after, before)
        self.drawn[name] = Drawn(merged.astype(old.values.dtype), both if both.any() else None)

    def _leave_empty(self, names: list[str], mask: Mask) -> None:
        for name in names:
            if not self.model.stored(name).required:
                old = self.drawn[name]
                self._put(name, old.values, mask, mask)
                return

    def _bend(self, arrays: Arrays, node: Node, free: list[str], mask: Mask) -> bool:
        """Sets one side of a plain comparison to what the other comes to."""
        if not isinstance(node, Apply) or node.word not in ("<", "<=", "="):
            return False
        for side, other, step in ((0, 1, -1), (1, 0, 1)):
            value = plain(node.operands[side])
            if not isinstance(value, Value) or value.path or value.name not in free:
                continue
            given = arrays.evaluate(node.operands[other], self)
            usable = mask & ~given.empty
            values = given.values
            field = self.model.by_name[value.name]
            kind = node.operands[side].type.name
            if isinstance(field, Reference) or kind not in ("integer", "decimal", "date", "number"):
                continue
            assert isinstance(field, Field)
            if value.type.name == "datetime":
                noon = values.astype("datetime64[s]") + np.timedelta64(12, "h")
                values = noon + step * np.timedelta64(1 if node.word == "<" else 0, "D")
            elif node.word == "<":
                values = values + (np.timedelta64(step, "D") if kind == "date" else step)
            if value.type.places != node.operands[side].type.places:
                values = values // 10 ** (node.operands[side].type.places - value.type.places)
            self._put(value.name, values, None, usable & self._within(field, values))
            return True
        return False

    def _within(self, field: Field, values: Any) -> Mask:
        """Where values lie in the bounds of a field."""
        bounds = getattr(field.kind, "bounds", None)
        good = np.ones(len(values), dtype=bool)
        if bounds is None:
            return good
        from ..kinds.date import day_number

        for end, sign in ((bounds.low, 1), (bounds.high, -1)):
            if end is None:
                continue
            if field.kind.word == "date":
                limit: Any = np.datetime64(day_number(end, self.drawer.today), "D")
            elif field.kind.word == "datetime":
                moves = isinstance(end, FromNow)
                limit = (
                    np.datetime64("now") + np.timedelta64(end.days, "D")
                    if moves
                    else np.datetime64(end)
                )
            else:
                limit = float(end) * 10 ** getattr(field.kind, "places", 0)
            good &= (values >= limit) if sign > 0 else (values <= limit)
        return good


def _read_by_later(model: Model) -> set[str]:
    """Fields that later rows read of earlier ones: those must stay as they are first drawn."""
    return {
        part.name
        for rule in model.rules
        for part in walk(rule.node)
        if isinstance(part, Value) and part.model == model.name and part.path
    }


class _Earlier:
    """The rows of a model up to a number, as they are first drawn."""

    def near(self, positions: NDArray[np.int64]) -> tuple[Any, NDArray[np.int64]]:
        return self, positions

    def __init__(self, drawer: Drawer, model: Model, size: int, counts: Counts) -> None:
        self.drawer, self.model, self.size, self.counts = drawer, model, size, counts

    def column(self, name: str) -> Column:
        drawn = {name: self.drawer.raw(self.model, name, 0, self.size, self.counts)}
        put_fixed(self.drawer, self.model, np.arange(self.size), drawn)
        return as_column(self.model, name, drawn[name])

    def follow(self, reference: str) -> Any:
        target = self.model.by_name[reference]
        assert isinstance(target, Reference)
        stored = _stored(self.drawer, target)
        if stored is not None:
            return stored
        if target.target == self.model.name:
            return self
        return _Whole(self.drawer, self.drawer.schema.models[target.target], self.counts)

    def children(self, hop: Hop) -> tuple[Any, NDArray[np.int64]]:
        return _Whole(self.drawer, self.model, self.counts).children(hop)


def _stored(drawer: Drawer, reference: Reference) -> Any:
    """The stored rows that a reference chooses from; None where those are made up."""
    world = drawer.world
    if world is None or not world.is_read(reference.target):
        return None
    return Some(world.table(reference.target), world.choice(reference))


class _Whole:
    """All rows of a model that are made up, drawn once for all who read them."""

    def __init__(self, drawer: Drawer, model: Model, counts: Counts) -> None:
        self.drawer, self.model, self.counts = drawer, model, counts

    @property
    def start(self) -> int:
        world = self.drawer.world
        return 0 if world is None else world.start(self.model.name)

    @property
    def size(self) -> int:
        """Up to the last one; beside stored rows only those that are still to come."""
        return max(0, self.counts.get(self.model.name, 0) - self.start)

    def near(self, positions: NDArray[np.int64]) -> tuple[Any, NDArray[np.int64]]:
        """Just the rows at some positions, where those are few: others need not be made up."""
        there, places = np.unique(positions, return_inverse=True)
        key = ("whole", self.model.name, tuple(sorted(self.counts.items())))
        if key in self.drawer._whole or self.model.uniques or len(there) * 4 > self.size:
            return self, positions
        return _Few(self, there + self.start), places

    def _columns(self) -> dict[str, Drawn]:
        key = ("whole", self.model.name, tuple(sorted(self.counts.items())))
        if key not in self.drawer._whole:
            # While they are being drawn, whoever asks again gets them without their rules.
            start, stop = self.start, self.start + self.size
            self.drawer._whole[key] = {
                m.name: self.drawer.raw(self.model, m.name, start, stop, self.counts)
                for m in self.model.members
            }
            put_fixed(self.drawer, self.model, np.arange(start, stop), self.drawer._whole[key])
            self.drawer._whole[key] = self.drawer.draw(self.model, start, stop, self.counts)
        found: dict[str, Drawn] = self.drawer._whole[key]
        return found

    def column(self, name: str) -> Column:
        if name == REMOVED:
            return _nothing(self.size)
        return as_column(self.model, name, self._columns()[name])

    def follow(self, reference: str) -> Any:
        target = self.model.by_name[reference]
        assert isinstance(target, Reference)
        stored = _stored(self.drawer, target)
        if stored is not None:
            return stored
        return _Whole(self.drawer, self.drawer.schema.models[target.target], self.counts)

    def children(self, hop: Hop) -> tuple[Any, NDArray[np.int64]]:
        rows, owner = _children(self.drawer, hop, self.counts)
        kept = np.flatnonzero(owner >= 0)
        return Some(rows, kept), owner[kept]


class _Few:
    """A few rows of a model that are made up, by their numbers."""

    def __init__(self, whole: _Whole, only: NDArray[np.int64]) -> None:
        self.whole, self.only = whole, only
        self._drawn: dict[str, Drawn] = {}

    @property
    def size(self) -> int:
        return len(self.only)

    def column(self, name: str) -> Column:
        whole = self.whole
        if name == REMOVED:
            return _nothing(self.size)
        if not self._drawn:
            start, stop = int(self.only.min(initial=0)), int(self.only.max(initial=-1)) + 1
            drawer = whole.drawer
            self._drawn = drawer.draw(whole.model, start, stop, whole.counts, self.only)
        return as_column(whole.model, name, self._drawn[name])

    def near(self, positions: NDArray[np.int64]) -> tuple[Any, NDArray[np.int64]]:
        return self, positions

    def follow(self, reference: str) -> Any:
        return self.whole.follow(reference)

    def children(self, hop: Hop) -> tuple[Any, NDArray[np.int64]]:
        rows, owner = self.whole.children(hop)
        place = np.full(self.whole.size, -1, dtype=np.int64)
        place[self.only - self.whole.start] = np.arange(self.size)
        kept = np.flatnonzero(place[owner] >= 0) if len(owner) else owner
        return Some(rows, kept), place[owner[kept]]


def _children(drawer: Drawer, hop: Hop, counts: Counts) -> tuple[_Whole, NDArray[np.int64]]:
    """All rows that a hop leads to, and the position of each one's owner; -1 for none."""
    rows = _Whole(drawer, drawer.schema.models[hop.model], counts)
    if not hop.via:
        # Pairs are made last, when all rows are there: until then there are none.
        return rows, np.full(rows.size, -1, dtype=np.int64)
    if not rows.size:
        return rows, np.zeros(0, dtype=np.int64)
    column = rows.column(hop.via)
    return rows, np.where(column.empty, -1, column.values)


def _nothing(size: int) -> Column:
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


def _arrays(drawer: Drawer) -> Arrays:
    zone = ZoneInfo(drawer.timezone)
    day = dt.date(1970, 1, 1) + dt.timedelta(days=drawer.today)
    now = dt.datetime.combine(day, dt.datetime.now(zone).timetz())
    return Arrays(now, drawer.timezone)


def _fixed_count(drawer: Drawer, model: Model) -> int:
    rows = drawer.schema.rows.get(model.name)
    return len(rows.rows) if rows else 0


def _counts_others(node: Node) -> bool:
    return any(isinstance(part, Aggregate) for part in walk(node))


def _reads_own(node: Node) -> bool:
    return any(isinstance(part, Value) for part in walk(node))


def _own_names(model: Model, rule: Rule) -> list[str]:
    """The members of the row itself that a rule reads, the one it is shown at first."""
    found = [rule.at] if rule.at in model.by_name else []
    for part in walk(rule.node):
        if isinstance(part, Value):
            name = part.path[0].reference if part.path else part.name
            owner = part.path[0].owner if part.path else part.model
            if owner == model.name and name not in found:
                found.append(name)
    stored = [n for n in found if isinstance(model.by_name.get(n), Field | Reference)]
    # A required relation is drawn anew only if nothing else can give way.
    loose = [n for n in stored if isinstance(model.by_name[n], Field)]
    return loose + [n for n in stored if n not in loose]


def part_rows(stream: RowStream, field: Field, number: int) -> list[Mapping[str, Any]]:
    """An entry of a part for each row, as JSON keeps it; its rules are kept."""
    assert field.shape is not None
    shape = field.shape
    model = Model(
        name=f"{stream.model.name}.{field.name}.{number}",
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
    drawn = obeying(stream.drawer, model, stream.start, stream.stop, {}, stream.only)
    names = [f.name for f in shape.fields]
    columns = [
        [_as_json(value) for value in as_python(f.kind.stored().type, drawn[f.name])]
        for f in shape.fields
    ]
    return [dict(zip(names, values, strict=True)) for values in zip(*columns, strict=True)]


def _as_json(value: Any) -> Any:
    if value is None or isinstance(value, str | int | float | bool):
        return value
    return value.isoformat() if hasattr(value, "isoformat") else str(value)
