"""Rules of a parent over the rows that lead to it: which field of those could keep them, and how."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace
from decimal import Decimal
from functools import partial
from typing import NamedTuple

from ..kinds.integer import Integer
from ..rules.intervals import interval
from ..rules.tree import INTEGER, Aggregate, Apply, Const, Node, Value, mapped, own, walk
from ..schema.entries import REMOVED
from ..schema.model import Field, Model, Schema
from ..schema.ranges import bound_in
from .clauses import Clause, Sign, clauses_of, direction, flat
from .events import Event, reads

_TOTAL = "the total"
_AMOUNTS = ("integer", "decimal", "number", "duration")


class Total(NamedTuple):
    """A rule of a parent that holds a field of its rows together by what it is in all of them.

    `via` is the reference that leads to the parent, `where` says which rows count, and the clauses
    are those of the total, as if it were a field of the parent: `beside` where that is stored, and
    all of it is known. Where there are none the rule is tried with the field moved, as it stands in `node`,
    or in `whole` where the parent is stored.
    """

    parent: str
    via: str
    function: str
    where: Node | None
    node: Node
    whole: Node
    clauses: tuple[Clause, ...] = ()
    beside: tuple[Clause, ...] = ()
    of_rows: bool = False
    """Whether it is a rule of the rows, which tells each of them beside all."""
    only_beside: bool = False
    """Whether parents that are made up keep it by a field of their own, so that only stored ones ask for it."""

    def stands_in(self, member: Field) -> Field:
        """The total as a field."""
        return replace(member, model=self.parent, name=_TOTAL)

    def of_stored(self) -> Total:
        """The same for stored parents alone."""
        return self._replace(only_beside=True)


class Counted(NamedTuple):
    """A rule of a parent that says how many of its rows are to be of the kind that `where` tells.

    `via` is the reference that leads to the parent; clauses as of a `Total`.
    """

    parent: str
    via: str
    where: Node
    node: Node
    clauses: tuple[Clause, ...]
    beside: tuple[Clause, ...]

    def stands_in(self, member: Field) -> Field:
        """The count as a field."""
        return replace(member, model=self.parent, name=_TOTAL, kind=Integer())

    def of_stored(self) -> Counted:
        """The same for stored parents alone: those that are made up keep it by a field of their own."""
        return self._replace(clauses=())


class Found(NamedTuple):
    """A field that could keep a rule, by `asked`, once what it `needs` is drawn."""

    event: Event
    needs: set[Event]
    asked: Total | Counted


def kept_by_rows(
    schema: Schema, model: Model, node: Node, whole: Node, sign: Sign
) -> Iterator[Found]:
    """The fields of rows that lead to a model's by which a condition of it could be kept, best first.

    `node` is the condition with a field of the model's own at its end, `whole` as it is.
    """
    gathers = [part for part in dict.fromkeys(walk(node)) if isinstance(part, Aggregate)]
    for one in gathers:
        if one.path or len(one.hops) != 1 or not one.hops[0].via or one.hops[0].model == model.name:
            continue
        child = schema.models[one.hops[0].model]
        if one.function == "count" and one.where is not None:
            yield from _counts(child, model, one, node, whole, sign)
        elif isinstance(one.value, Value) and not one.value.path:
            yield from _totals(child, model, one, node, whole, sign)
    for one in gathers:
        if one.value is not None and not one.path and len(one.hops) == 1 and one.hops[0].via:
            yield from _tried(schema.models[one.hops[0].model], model, one, node, whole)


def _counts(
    child: Model, model: Model, one: Aggregate, node: Node, whole: Node, sign: Sign
) -> Iterator[Found]:
    assert one.where is not None
    total, loose, full = _with_total(model, one, node, whole)
    clauses, all_of_it = clauses_of(loose, model.name, _TOTAL, sign)
    beside, _ = clauses_of(full, model.name, _TOTAL, sign)
    if not all_of_it:
        return
    via = one.hops[0].via
    read = list(own(one.where))
    if any(isinstance(part, Aggregate) for part in read):
        return
    others = reads(one.where) | reads(loose) - {(model.name, total.name)} | {(child.name, via)}
    for name in dict.fromkeys(v.name for v in read if isinstance(v, Value) and not v.path):
        member, event = child.by_name.get(name), (child.name, name)
        if isinstance(member, Field) and _is_free(child, member) and event not in reads(loose):
            asked = Counted(model.name, via, one.where, node, clauses, beside)
            yield Found(event, others - {event}, asked)


def grounds(child: Model, found: Found) -> Iterator[Found]:
    """Other fields of the rows that a rule counts: without enough that they let be, none can come to be.

    Of `active and role = chief` there are as many as a rule wants only where as many are active.
    """
    asked = found.asked
    if not isinstance(asked, Counted):
        return
    clauses, beside = (
        tuple(one for one in some if not one.upper) for some in (asked.clauses, asked.beside)
    )
    for part in flat(asked.where, "and") if clauses or beside else ():
        read = reads(part)
        names = {name for model, name in read if model == child.name} - {REMOVED}
        member = child.by_name.get(next(iter(names))) if len(names) == 1 else None
        if found.event in read or not isinstance(member, Field) or not _is_free(child, member):
            continue
        event = (child.name, member.name)
        needs = (found.needs | read) - {event} - reads(asked.where) | {(child.name, asked.via)}
        yield Found(event, needs, asked._replace(where=part, clauses=clauses, beside=beside))


def _totals(
    child: Model, model: Model, one: Aggregate, node: Node, whole: Node, sign: Sign
) -> Iterator[Found]:
    value, via = one.value, one.hops[0].via
    assert isinstance(value, Value)
    member, event = child.by_name.get(value.name), (child.name, value.name)
    if one.function not in ("sum", "avg", "max", "min") or not isinstance(member, Field):
        return
    if not _is_free(child, member) or value.type.name not in _AMOUNTS:
        return
    total, loose, full = _with_total(model, one, node, whole)
    clauses, all_of_it = clauses_of(loose, model.name, _TOTAL, sign)
    beside, _ = clauses_of(full, model.name, _TOTAL, sign)
    needs = reads(loose) - {(model.name, total.name)} | {(child.name, via)}
    needs |= reads(one.where) if one.where is not None else set()
    if all_of_it and event not in needs:
        asked = Total(*(model.name, via, one.function, one.where, node, whole, clauses, beside))
        yield Found(event, needs, asked)


def _tried(child: Model, model: Model, one: Aggregate, node: Node, whole: Node) -> Iterator[Found]:
    """The fields that what is gathered reads: moving those may keep what nothing can be solved for."""
    assert one.value is not None
    if child.name == model.name:
        return
    needs = reads(node) | {(child.name, one.hops[0].via)}
    for name in dict.fromkeys(
        v.name for v in own(one.value) if isinstance(v, Value) and not v.path
    ):
        member, event = child.by_name.get(name), (child.name, name)
        if not isinstance(member, Field) or not _is_free(child, member):
            continue
        if member.kind.value_type().name in _AMOUNTS:
            asked = Total(model.name, one.hops[0].via, one.function, one.where, node, whole)
            yield Found(event, needs - {event}, asked)


def _with_total(model: Model, one: Aggregate, node: Node, whole: Node) -> tuple[Value, Node, Node]:
    """A rule with a field of its own model in the place of what is gathered."""
    total = Value(model.name, _TOTAL, one.type)
    loose, full = (mapped(part, partial(_put_for, one, total)) for part in (node, whole))
    return total, loose, full


def kept_together(schema: Schema, model: Model, node: Node) -> Iterator[Found]:
    """The fields of a model's rows by which a rule could be kept that each asks of itself beside its parent's others.

    `wage <= 2 * avg(team.people.wage)`: nothing of it can be solved for one row alone.
    """
    for one in dict.fromkeys(part for part in walk(node) if isinstance(part, Aggregate)):
        via = one.hops[0].via
        around = len(one.path) == len(one.hops) == 1 and one.path[0].reference == via
        if not around or one.hops[0].model != model.name or one.path[0].owner != model.name:
            continue
        total = Total(one.path[0].model, via, "", None, node, node, of_rows=True)
        needs = reads(node) | {(model.name, via)}
        read = own(one.value) if one.value is not None else ()
        for name in dict.fromkeys(v.name for v in (*own(node), *read) if isinstance(v, Value)):
            member, event = model.by_name.get(name), (model.name, name)
            if not isinstance(member, Field) or not _is_free(model, member):
                continue
            if event in needs and member.kind.value_type().name in _AMOUNTS:
                yield Found(event, needs - {event}, total)


def with_room(model: Model, node: Node, child: str, sign: Signs) -> Node | None:
    """A rule with what a child's rows come to at the end that leaves the most room: others are drawn before those.

    None where nothing is known of that end.
    """
    gathers = [one for one in walk(node) if isinstance(one, Aggregate)]
    ours = [one for one in gathers if not one.path and one.hops[0].model == child]
    if not isinstance(node, Apply) or len(ours) != 1 or len(gathers) == len(ours):
        return None
    one = ours[0]
    total, loose, _ = _with_total(model, one, node, node)
    assert isinstance(loose, Apply)
    rises = [direction(side, model.name, total.name, sign) for side in loose.operands]
    if loose.word not in ("<", "<=") or sum(map(bool, rises)) != 1 or len(one.hops) != 1:
        return None
    room = _at_most(one, sign, upper=rises[1] > 0 or rises[0] < 0)
    return None if room is None else mapped(node, partial(_put_for, one, room))


def _at_most(one: Aggregate, sign: Signs, *, upper: bool) -> Node | None:
    """What is gathered, as far as its rows can bring it up, or down, by how many there are."""
    if one.value is None or one.value.type.name not in ("integer", "decimal", "number"):
        return None
    end = interval(one.value, sign.bound)[int(upper)]
    if not math.isfinite(end):
        return None
    exact = one.value.type.exact
    value = (Decimal(str(end)) if one.value.type.places else int(end)) if exact else end
    if one.function != "sum":
        return Const(value, one.value.type)
    if (end < 0) == upper:
        # None of them need be among those that count.
        return Const(0 * value, one.type) if one.where is not None else None
    count = Aggregate("count", (), one.hops, None, None, INTEGER)
    return Apply("*", (Const(value, one.value.type), count), one.type)


def _is_free(child: Model, member: Field) -> bool:
    """Whether a field may be any value, whatever other rows have."""
    grouped = any(member.name in unique.names for unique in child.uniques)
    return not member.unique and not grouped and not member.by_database


def _put_for(one: Node, other: Node, part: Node) -> Node:
    return other if part == one else part


class Signs:
    """Tells signs from the bounds of a schema's fields; see `clauses.Sign`."""

    def __init__(self, schema: Schema) -> None:
        self.bound = partial(bound_in, schema)

    def __call__(self, node: Node, *, strict: bool = False) -> int:
        low, high = interval(node, self.bound)
        if low > 0 or low == 0 and not strict:
            return 1
        return -1 if high < 0 or high == 0 and not strict else 0

    def fits(self, node: Node) -> bool:
        ends = interval(node, self.bound)
        # What has no end is not drawn from all there is.
        known = [abs(end) for end in ends if math.isfinite(end)]
        return not node.type.exact or max(known, default=0) * 10.0**node.type.places < 2.0**62
