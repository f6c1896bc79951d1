"""Rows brought to obey what narrowing could not: drawn again, then brought within the rules.

A row's values depend on nothing but its own number, what its rules read, and how often it
was tried: so a slice comes out the same wherever it is cut.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from ..kinds.bounds import FromNow
from ..problems import WelbikError
from ..rules.arrays import Arrays, Column
from ..rules.tree import Aggregate, Apply, Node, Value, own, plain, walk
from ..schema.model import Field, Model, Reference, Rule, Unique
from .columns import Drawn, Here, Mask
from .fixed import encoded
from .slices import Slice

_TRIES = 48
_OTHERS = 32
"""Attempts after which rows may get other parents: how many each has is declared too."""
_BEND = 40
"""Attempts after which values are brought within a rule instead of drawn again."""


class Mending:
    """Rows of a model whose rules, or unique groups, may be broken yet."""

    def __init__(self, rows: Slice, uniques: Sequence[Unique]) -> None:
        self.rows, self.uniques = rows, uniques
        self.drawer, self.model = rows.drawer, rows.model

    @property
    def _is_beside_stored(self) -> bool:
        """Whether stored rows stand beside these, or above them."""
        world = self.drawer.world
        read = {self.model.name, *(reference.target for reference in self.model.references)}
        return world is not None and any(world.is_read(name) for name in read)

    def mended(self) -> dict[str, Drawn]:
        """The columns once no rule is broken; raises WelbikError where that can't be had."""
        beside = self._is_beside_stored
        # How many rows there are in the end is only known once all are there.
        rules = [
            rule
            for rule in self.model.rules
            if _reads_own(rule.node, self.model.name) and not (beside and _is_of_others(rule.node))
        ]
        arrays = self.drawer.arrays
        self.rows.all()
        for attempt in range(1, _TRIES + 1):
            broken = [(rule, self._broken(arrays, rule)) for rule in rules]
            clashes = list(self._clashes())
            if not any(mask.any() for _, mask in [*broken, *clashes]):
                return self.rows.drawn
            for names, mask in clashes:
                self._redraw(names, mask, attempt)
            for rule, mask in broken:
                if mask.any():
                    self._mend(arrays, rule, mask, attempt)
        self._settle(arrays, rules)
        for rule in rules:
            if beside and _counts_others(rule.node):
                continue
            mask = self._broken(arrays, rule)
            if mask.any():
                raise self._impossible(rule.text, int(self.rows.index[np.flatnonzero(mask)[0]]))
        for names, mask in self._clashes():
            if mask.any():
                raise self._impossible(f"unique {', '.join(names)}", int(self.rows.index[0]))
        return self.rows.drawn

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
                        self._put(name, self.rows.drawn[name].values, mask, mask)
        for names, mask in self._clashes():
            if mask.any():
                self._leave_empty(names, mask)

    def _impossible(self, rule: str, row: int) -> WelbikError:
        return WelbikError(
            f"no {self.model.name} could be made up for row {row} that keeps: {rule}",
            "widen the fields that the rule reads, or ask for fewer rows in 'seed'",
        )

    def _broken(self, arrays: Arrays, rule: Rule) -> Mask:
        held = arrays.evaluate(rule.node, self.rows)
        mask: Mask = ~held.values.astype(bool) & ~held.empty & ~self.rows.fixed
        return mask

    def _clashes(self) -> Iterator[tuple[list[str], Mask]]:
        """The rows that repeat what an earlier one has for a unique group."""
        for unique in self.uniques:
            seen = self._stored_groups(unique.names)
            mask = np.zeros(self.rows.size, dtype=bool)
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
        column = self.rows.column(name)
        member = self.model.by_name[name]
        world = self.drawer.world
        if world is None or not isinstance(member, Reference) or not world.is_read(member.target):
            return column
        choice = world.choice(member, self.drawer.arrays)
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
            # What the rule has narrowed already follows from the others.
            told = self._narrowed(rule)
            fields = [n for n in free if isinstance(self.model.by_name[n], Field)]
            some = free if attempt >= _OTHERS or not fields else fields
            some = [name for name in some if name not in told] or some
            first = [rule.at] if rule.at in some and attempt % 3 else some
            if attempt % 4 == 0:
                # Others may have left the ones that the rule reads no way out.
                first = [*first, *(n for n in self._above(names) if n not in first)]
            self._redraw(first, mask, attempt)

    def _above(self, names: list[str]) -> list[str]:
        """The fields that some are narrowed by."""
        needs = [self.drawer.plan.needs.get((self.model.name, name), ()) for name in names]
        found = {event[1] for some in needs for event in some if event[0] == self.model.name}
        kept = found - _read_by_later(self.model)
        return [
            field.name for field in self.model.fields if field.name in kept and not field.unique
        ]

    def _narrowed(self, rule: Rule) -> set[str]:
        """The fields that a rule narrows."""
        return {
            name
            for (model, name), narrows in self.drawer.plan.of.items()
            if model == self.model.name and any(one.node in walk(rule.node) for one in narrows)
        }

    def _redraw(self, names: list[str], mask: Mask, attempt: int) -> None:
        """Draws members again in some rows, and those that are drawn within what they leave."""
        if not mask.any():
            return
        plan, model = self.drawer.plan, self.model.name
        again = [*names]
        for name in again:
            after = [
                event[1]
                for event, needs in plan.needs.items()
                if event[0] == model and (model, name) in needs and event[1] not in again
            ]
            again += [n for n in after if n not in _read_by_later(self.model)]
        part = self.rows.some(mask)
        part.attempt = attempt
        for name in again:
            part.drawn.pop(name)
        for name in again:
            if name not in part.drawn:
                part.drawn[name] = part.draw(name, attempt)
        for name in again:
            self._put(name, *_spread_out(part.drawn[name], mask), mask)

    def _put(self, name: str, values: Any, empty: Mask | None, mask: Mask) -> None:
        old = self.rows.drawn[name]
        merged = np.where(mask, values, old.values)
        before = np.zeros(self.rows.size, dtype=bool) if old.empty is None else old.empty
        after = np.zeros(self.rows.size, dtype=bool) if empty is None else empty
        both = np.where(mask, after, before)
        self.rows.drawn[name] = Drawn(merged.astype(old.values.dtype), both if both.any() else None)

    def _leave_empty(self, names: list[str], mask: Mask) -> None:
        for name in names:
            if not self.model.stored(name).required:
                old = self.rows.drawn[name]
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
            given = arrays.evaluate(node.operands[other], self.rows)
            usable = mask & ~given.empty
            values = given.values
            field = self.model.by_name[value.name]
            kind = node.operands[side].type.name
            if isinstance(field, Reference) or kind not in (
                "integer",
                "decimal",
                "date",
                "number",
                "duration",
            ):
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
        for end, sign in ((bounds.low, 1), (bounds.high, -1)):
            if end is not None:
                limit = _limit(field, end, self.drawer.here)
                good &= (values >= limit) if sign > 0 else (values <= limit)
        return good


def _limit(field: Field, end: Any, here: Here) -> Any:
    """An end of a field's bounds as its drawn column holds it."""
    if isinstance(end, FromNow) and end.word == "now":
        return np.datetime64("now") + np.timedelta64(end.days, "D")
    return encoded(field, end, here)


def _spread_out(drawn: Drawn, mask: Mask) -> tuple[Any, Mask]:
    """A column of some rows among all of them."""
    values = np.empty(len(mask), dtype=drawn.values.dtype)
    empty = np.zeros(len(mask), dtype=bool)
    values[mask] = drawn.values
    empty[mask] = False if drawn.empty is None else drawn.empty
    return values, empty


def _read_by_later(model: Model) -> set[str]:
    """Fields that later rows read of earlier ones: those must stay as they are first drawn."""
    return {
        part.name
        for rule in model.rules
        for part in walk(rule.node)
        if isinstance(part, Value) and part.model == model.name and part.path
    }


def _counts_others(node: Node) -> bool:
    return any(isinstance(part, Aggregate) for part in walk(node))


def _is_of_others(node: Node) -> bool:
    """Whether it counts other rows, and reads nothing of its own but which those are."""
    return _counts_others(node) and all(part.path for part in own(node))


def _reads_own(node: Node, model: str) -> bool:
    """Whether a rule reads anything of its row, and not only of those that lead to it."""
    return any(
        isinstance(part, Value) or part.path or any(hop.model == model for hop in part.hops)
        for part in own(node)
    )


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
