"""Which field each rule narrows, and how: told from the declarations, before any row is drawn.

A rule that ties fields is kept by drawing one of them between what the others leave. Which one is
chosen so that nothing is read before it is drawn, across all models. A rule becomes clauses: one
comparison of the field with something else each, or whether it is given, needed unless one of some
guards holds.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from decimal import Decimal
from functools import partial
from itertools import product
from typing import NamedTuple

from ..rules.implied import implied
from ..rules.tree import (
    BOOLEAN,
    Aggregate,
    Apply,
    Clock,
    Const,
    Node,
    Step,
    Value,
    children,
    lifted,
    lowered,
    mapped,
    plain,
    raised,
    reached,
    walk,
)
from ..schema.model import Field, Model, Reference, Rule, Schema, Unique
from .clauses import Clause, Sign, clauses_of, direction, flat
from .events import Event, hops, reads
from .gathered import Counted, Found, Signs, Total, grounds, kept_by_rows, kept_together, with_room
from .meaning import natural_orders


class Narrow(NamedTuple):
    """A rule that narrows a field: by clauses, and by trying all its values where it is `tried`."""

    node: Node
    clauses: tuple[Clause, ...]
    tried: bool = False


class Slot(NamedTuple):
    """A field that tells the rows of one parent apart, for a unique group; no parent: all rows.

    `among` has the fields of few values that do so together, whatever order they have.
    """

    unique: Unique
    name: str
    anchor: str
    among: tuple[str, ...] = ()


class Follower(NamedTuple):
    """A field that is drawn beyond another: below it where it is held from above."""

    event: Event
    upper: bool
    strict: int


class Ordered(NamedTuple):
    """A tree whose rows come after their parents in a field, or before them."""

    reference: str
    after: bool


@dataclass
class Plan:
    """What narrows each member of a schema's models, and the rules that nothing narrows."""

    schema: Schema
    of: dict[Event, list[Narrow]] = field(default_factory=dict)
    loose: dict[str, list[Rule]] = field(default_factory=dict)
    chosen: dict[Event, Node] = field(default_factory=dict)
    """Conditions of `where` that the rows a reference leads to meet."""
    totals: dict[Event, list[Total]] = field(default_factory=dict)
    """The rules of parents that hold a field of their rows together."""
    counted: dict[Event, list[Counted]] = field(default_factory=dict)
    """The rules of parents that count their rows by a field."""
    kinds: set[Node] = field(default_factory=set)
    """What those count."""
    only: dict[Event, Node] = field(default_factory=dict)
    """What must hold of the rows in which a field has a value, unless a rule wants one."""
    slots: dict[str, list[Slot]] = field(default_factory=dict)
    """The fields of each model that could tell rows of its unique groups apart, best first."""
    followers: dict[Event, list[Follower]] = field(default_factory=dict)
    """Fields that are drawn beyond a field, and need room there."""
    trees: dict[Event, Ordered] = field(default_factory=dict)
    rank: dict[str, int] = field(default_factory=dict)
    needs: dict[Event, set[Event]] = field(default_factory=dict)
    models: dict[str, Model] = field(default_factory=dict)
    """Those of the schema, and what was added."""

    def __post_init__(self) -> None:
        self.models = dict(self.schema.models)
        self._kept: set[tuple[Node, str]] = set()
        """What is kept by rows of which model."""
        self._sign = Signs(self.schema)
        self.rank = {model.name: at for at, model in enumerate(self.schema.parents_first)}
        for model in self.schema:
            self.loose[model.name], self.slots[model.name] = [], []
        for model in self.schema.parents_first:
            self._choices(model)
        for one in [one for model in self.schema for one in model.fields]:
            event = (one.model, one.name)
            if one.only is not None and self._may(event, reads(one.only)):
                self.only[event] = one.only
        for model in self.schema.parents_first:
            for rule in model.rules:
                if not self._is_choice(model, rule) and not self._narrow(model, rule):
                    self.loose[model.name].append(rule)
        for model in self.schema.parents_first:
            for node in implied(rule.node for rule in model.rules):
                self._narrow_part(model, "", node)
        for model in self.schema.parents_first:
            for unique in model.uniques:
                self._slot(model, unique)
        for model in self.schema:
            self._orders(model)
        self._follow()

    def add(self, part: Model) -> None:
        """Plans for a model beside those of the schema, which none of them leads to."""
        alone = Plan(Schema({part.name: part}, {}))
        self.models |= alone.models
        self.of |= alone.of
        self.loose |= alone.loose
        self.slots |= alone.slots
        self.only |= alone.only
        self.followers |= alone.followers
        self.needs |= alone.needs
        self.rank[part.name] = len(self.rank)

    def may_lose(self, model: Model) -> bool:
        """Whether rules may leave a field nothing that must have something."""
        for member in model.fields:
            event = (model.name, member.name)
            narrows = self.of.get(event, ())
            if any(narrow.tried for narrow in narrows):
                return True
            clauses = [clause for narrow in narrows for clause in narrow.clauses]
            ends = [clause for clause in clauses if clause.node.word != "empty" or clause.want]
            must = member.required or len(ends) < len(clauses)
            sure = member.required and all(map(_is_sure, ends)) or event in self.trees
            if ends and must and not sure:
                return True
        return False

    def moved(self, model: Model, sure: bool = True) -> set[str]:
        """The references by which rows may lead elsewhere in the end, for a rule that is broken else.

        With stored rows around it is not `sure` that what narrows leaves a way out.
        """
        whole = not sure or self.may_lose(model)
        rules = model.rules if whole else self.loose.get(model.name, ())
        read = [part for rule in rules for part in walk(rule.node) if isinstance(part, Value)]
        ways = {
            (v.path[0].owner, v.path[0].reference) if v.path else (v.model, v.name) for v in read
        }
        return {one.name for one in model.references if (model.name, one.name) in ways}

    def _choices(self, model: Model) -> None:
        for reference in model.references:
            if reference.where is not None and reference.target != model.name:
                event = (model.name, reference.name)
                if self._may(event, reads(reference.where)):
                    self.chosen[event] = reference.where

    def _is_choice(self, model: Model, rule: Rule) -> bool:
        for reference in model.references:
            node = self.chosen.get((model.name, reference.name))
            if node is not None:
                step = Step(model.name, reference.name, reference.target, reference.required)
                asked = reached(node, (step,))
                nodes = [rule.node]
                if isinstance(rule.node, Apply) and rule.node.word == "or":
                    nodes += list(rule.node.operands)
                if rule.at == reference.name and asked in nodes:
                    return True
        return False

    def _narrow(self, model: Model, rule: Rule) -> bool:
        """Whether a rule is kept by narrowing alone: each part that `and` joins, by a field of its own."""
        if any(
            isinstance(p, Aggregate) and any(not h.via for h in p.hops) for p in walk(rule.node)
        ):
            # Pairs are made last, when all rows are there: the database has the last word.
            return True
        parts = list(flat(rule.node, "and"))
        kept = [self._narrow_part(model, rule.at, part) for part in parts]
        return all(kept)

    def _narrow_part(self, model: Model, at: str, node: Node) -> bool:
        """Finds a field that a condition can narrow; in part is better than not at all."""
        kept = self._narrow_one(model, at, node) or self._together(model, node)
        self._beside(model, node)
        above = raised(node, model.name)
        if above is not None and above[0].model != model.name:
            # Others that lead to the same row have to leave it as it is.
            step, asked = above
            self._kept.add((asked, model.name))
            self._beside(self.schema.models[step.model], asked)
        return kept

    def _narrow_one(self, model: Model, at: str, node: Node) -> bool:
        if self._rather_by_rows(model, at, node) and self._by_rows(model, node, node):
            return True
        partly = False
        for name in _candidates(model, at, node):
            member = model.by_name[name]
            assert isinstance(member, Field)
            if member.unique and member.kind.value_type().amount:
                continue
            clauses, whole = clauses_of(node, model.name, name, self._sign)
            tried = bool(_few(member)) and not whole
            whole = whole or tried
            if not clauses and not tried or partly and not whole:
                continue
            event = (model.name, name)
            if _in_circles(node, event):
                continue
            if self._tree(model, name, node) or self._may(event, reads(node) - {event}):
                self.of.setdefault(event, []).append(Narrow(node, clauses, tried))
                if whole:
                    self._by_rows(model, _at_its_end(node, member, self._sign), node)
                    return True
                partly = True
        below = lowered(node)
        # What holds of the greatest is asked of each: nothing else has to give way.
        if below is not None and below[0].model != model.name:
            hop, each = below
            if self._narrow_part(self.schema.models[hop.model], "", each):
                self._kept.add((node, hop.model))
                return True
        if self._by_rows(model, node, node):
            return True
        there = lifted(node)
        if there is None or there[0].model == model.name:
            return False
        # What a row asks of its parent alone is kept as if the parent asked it.
        step, asked = there
        return self._narrow_part(self.schema.models[step.model], "", asked)

    def _rather_by_rows(self, model: Model, at: str, node: Node) -> bool:
        """Whether a row's own fields give way to what others gather already, and might not do so twice."""
        if not any(isinstance(part, Aggregate) for part in walk(node)):
            return False
        names = _candidates(model, at, node)
        kept = [one for name in names for one in self.of.get((model.name, name), ())]
        return any(isinstance(part, Aggregate) for one in kept for part in walk(one.node))

    def _by_rows(self, model: Model, node: Node, whole: Node) -> bool:
        """Whether a condition is kept by a field of the rows that lead to a row."""
        for found in kept_by_rows(self.schema, model, node, whole, self._sign):
            if found.event in self.trees or not self._may(found.event, found.needs):
                continue
            self._put(found)
            self._kept.add((whole, found.event[0]))
            for ground in grounds(self.schema.models[found.event[0]], found):
                if ground.event not in self.trees and self._may(ground.event, ground.needs):
                    self._put(ground)
            self._leave_room(model, node, found.event[0])
            return True
        return False

    def _together(self, model: Model, node: Node) -> bool:
        """Whether the rows of one parent keep a condition by what they are beside each other."""
        for found in kept_together(self.schema, model, node):
            if found.event not in self.trees and self._may(found.event, found.needs):
                self._put(found)
                return True
        return False

    def _leave_room(self, model: Model, node: Node, last: str) -> None:
        """Has rows of other models, which are drawn before, leave the `last` ones room to keep a condition."""
        loose = with_room(model, node, last, self._sign)
        for found in kept_by_rows(self.schema, model, loose, loose, self._sign) if loose else ():
            free = found.event not in self.trees and found.event[0] != last
            if free and self._may(found.event, found.needs):
                self._put(found)
                return

    def _beside(self, model: Model, node: Node) -> None:
        """Has all rows that a condition gathers keep it where they lead to a stored row.

        There nothing else gives way: the row stays as it is, and others that lead to it were there before.
        """
        for found in kept_by_rows(self.schema, model, node, node, self._sign):
            child = found.event[0]
            # What others hold is stored then, and need not be drawn before.
            needs = {event for event in found.needs if event[0] == child}
            if found.event in self.trees or (node, child) in self._kept:
                continue
            if self._may(found.event, needs):
                self._put(Found(found.event, needs, found.asked.of_stored()))
                self._kept.add((node, child))

    def _put(self, found: Found) -> None:
        if isinstance(found.asked, Counted):
            self.counted.setdefault(found.event, []).append(found.asked)
            if found.asked.clauses:
                self.kinds.add(found.asked.where)
        else:
            self.totals.setdefault(found.event, []).append(found.asked)

    def _tree(self, model: Model, name: str, node: Node) -> bool:
        """Whether a rule orders a tree by a field: then generations come one after another."""
        if not isinstance(node, Apply) or node.word not in ("<", "<="):
            return False
        one, other = node.operands
        if not (isinstance(one, Value) and isinstance(other, Value)):
            return False
        for near, far, after in ((other, one, True), (one, other, False)):
            own = near.name == far.name == name and not near.path and len(far.path) == 1
            if own and far.path[0].owner == far.path[0].model == model.name:
                reference = model.by_name[far.path[0].reference]
                assert isinstance(reference, Reference)
                event = (model.name, name)
                if event in self.trees or reference.unique:
                    return False
                if not self._may(event, {(model.name, reference.name)}):
                    return False
                self.trees[event] = Ordered(reference.name, after)
                return True
        return False

    def _may(self, event: Event, needed: set[Event]) -> bool:
        """Whether what a member needs can be drawn before it; if so it is noted."""
        if any(self._leads(one, event, set()) for one in needed):
            return False
        self.needs.setdefault(event, set()).update(needed)
        return True

    def _leads(self, event: Event, to: Event, seen: set[Event]) -> bool:
        if event == to:
            return True
        seen.add(event)
        return any(
            one not in seen and self._leads(one, to, seen) for one in self.needs.get(event, ())
        )

    def before(self, event: Event) -> Iterator[Value]:
        """The values that a field is drawn beyond, where those alone are compared."""
        for narrow in self.of.get(event, ()):
            for clause in narrow.clauses:
                if clause.guards or clause.upper or clause.node.word == "empty":
                    continue
                for side in map(plain, clause.node.operands):
                    if isinstance(side, Value) and (side.model, side.name) != event:
                        yield side

    def _follow(self) -> None:
        """Notes which fields must leave room for others: plain comparisons of two."""
        for event, narrows in self.of.items():
            member = self.schema.models[event[0]].by_name[event[1]]
            if not isinstance(member, Field) or not member.required or event in self.trees:
                continue
            for clause in (clause for narrow in narrows for clause in narrow.clauses):
                one, other = (
                    (plain(part) for part in clause.node.operands[:2])
                    if len(clause.node.operands) == 2
                    else (None, None)
                )
                if clause.guards or not isinstance(one, Value) or not isinstance(other, Value):
                    continue
                far = other if (one.model, one.name) == event and not one.path else one
                follower = Follower(event, clause.upper, int(clause.node.word == "<"))
                self.followers.setdefault((far.model, far.name), []).append(follower)

    def _slot(self, model: Model, unique: Unique) -> None:
        """Finds the fields that could tell the rows of a group apart."""
        anchors = [
            name
            for name in unique.names
            if isinstance(one := model.by_name[name], Reference)
            and not one.unique
            and one.target != model.name
        ]
        anchors.sort(key=lambda n: not any(t.word == "per" for t in model.stored(n).sample))
        for anchor in [*anchors[:1], ""]:
            for name in unique.names:
                event = (model.name, name)
                member = model.by_name[name]
                if name == anchor or event in self.trees:
                    continue
                if not isinstance(member, Field) or member.unique or not _has_order(member):
                    continue
                if any(term.word in ("from", "within") for term in member.sample):
                    continue
                if not all(_same_for(one, anchor) for one in self.of.get(event, ())):
                    continue
                if anchor and not self._may(event, {(model.name, anchor)}):
                    continue
                self.slots[model.name].append(Slot(unique, name, anchor))
        for anchor, name in product(anchors, unique.names):
            # Beside a row of some other model, every row leads to another one of these.
            event, free = (model.name, name), self._may_be_told_by(model, unique, name)
            if name != anchor and free and self._may(event, {(model.name, anchor)}):
                self.slots[model.name].append(Slot(unique, name, anchor))
        for anchor in [*anchors, ""]:
            names = [n for n in unique.names if n != anchor and self._has_few(model, unique, n)]
            needed = {(model.name, anchor)} if anchor else set()
            if names and all(self._may((model.name, name), needed) for name in names):
                self.slots[model.name].append(Slot(unique, names[0], anchor, tuple(names)))

    def _has_few(self, model: Model, unique: Unique, name: str) -> bool:
        """Whether a field may have any of its values, which may be few, wherever it stands."""
        member = model.by_name[name]
        if not isinstance(member, Field) or member.unique:
            return False
        read = (part for node in self._nodes() for part in walk(node) if isinstance(part, Value))
        if any((part.model, part.name) == (model.name, name) for part in read):
            # What a rule reads may have to be drawn again.
            return False
        labels, yes = member.kind.labels(), member.kind.value_type().name == "boolean"
        if not (labels or yes or _has_order(member)):
            return False
        others = any(name in other.names for other in model.uniques if other is not unique)
        # Which choices are likely says nothing of cells that several fields span.
        anchored = any(isinstance(model.by_name[one], Reference) for one in unique.names)
        alone = labels and anchored and len(unique.names) == 2
        usual = {"empty", "weights"} if alone else {"empty"}
        return not others and {term.word for term in member.sample} <= usual

    def _may_be_told_by(self, model: Model, unique: Unique, name: str) -> bool:
        """Whether nothing else says which rows a relation leads to, or asks for those that lead there."""
        member = model.by_name[name]
        if not isinstance(member, Reference) or member.unique or member.target == model.name:
            return False
        if member.where is not None or any(term.word != "empty" for term in member.sample):
            return False
        if any(name in other.names for other in model.uniques if other is not unique):
            return False
        ways = {(hop.model, hop.via) for node in self._nodes() for hop in hops(node)}
        return (model.name, name) not in ways

    def _nodes(self) -> Iterator[Node]:
        """All that rules and conditions of the schema say."""
        for model in self.schema:
            yield from (rule.node for rule in model.rules)
            yield from (field.only for field in model.fields if field.only is not None)
            yield from (one.where for one in model.references if one.where is not None)

    def _orders(self, model: Model) -> None:
        """What names suggest: `opened` before `closed`, where no rule says it."""
        fields = [f for f in model.fields if not f.unique and _has_order(f)]
        tied = [{v.name for v in walk(r.node) if isinstance(v, Value)} for r in model.rules]
        for first, second in natural_orders([f.name for f in fields]):
            one, other = model.stored(first), model.stored(second)
            assert isinstance(one, Field) and isinstance(other, Field)
            types = one.kind.value_type(), other.kind.value_type()
            if types[0] != types[1] or any({first, second} <= names for names in tied):
                continue
            event = (model.name, second)
            slot = any(second == slot.name for slot in self.slots[model.name])
            if slot or not self._may(event, {(model.name, first)}):
                continue
            values = [Value(model.name, name, types[0]) for name in (first, second)]
            node = Apply("<=", tuple(values), BOOLEAN)
            self.of.setdefault(event, []).append(Narrow(node, (Clause((), node, False),)))


def _at_its_end(node: Node, member: Field, sign: Sign) -> Node:
    """A rule with a field of it at the end that leaves the most room: beyond that nothing helps."""
    if not isinstance(node, Apply):
        return node
    if node.word in ("and", "or"):
        operands = tuple(_at_its_end(part, member, sign) for part in node.operands)
        return replace(node, operands=operands)
    bounds = getattr(member.kind, "bounds", None)
    if node.word not in ("<", "<=") or bounds is None:
        return node
    rises = [direction(side, member.model, member.name, sign) for side in node.operands]
    end = bounds.low if rises[0] > 0 or rises[1] < 0 else bounds.high
    if sum(map(bool, rises)) != 1 or not isinstance(end, int | float | Decimal):
        return node
    return mapped(node, partial(_held_at, member, end))


def _held_at(member: Field, end: int | float | Decimal, part: Node) -> Node:
    is_it = isinstance(part, Value) and not part.path and part.name == member.name
    return Const(end, part.type) if is_it else part


def _is_sure(clause: Clause) -> bool:
    """Whether room is left for what a clause asks: beyond another value, a number or a count."""
    if clause.guards or clause.node.word == "empty":
        return False
    return all(
        isinstance(side, Value | Const | Clock)
        or isinstance(side, Aggregate)
        and side.function == "count"
        for side in map(plain, clause.node.operands)
    )


def _same_for(narrow: Narrow, anchor: str) -> bool:
    """Whether what a rule leaves is the same for all rows of one parent."""
    own = [part for part in walk(narrow.node) if isinstance(part, Value)]
    far = [part for part in own if part.path]
    near = {part.name for part in own if not part.path}
    if any(isinstance(part, Aggregate) for part in walk(narrow.node)) or narrow.tried:
        return False
    return len(near) <= 1 and all(part.path[0].reference == anchor for part in far)


def _in_circles(node: Node, event: Event) -> bool:
    """Whether an expression reads the member of other rows than those before its own in a tree."""
    for part in walk(node):
        if isinstance(part, Aggregate) and any(event in reads(p) for p in children(part)):
            return True
        if not isinstance(part, Value) or not part.path or (part.model, part.name) != event:
            continue
        if any(step.owner != event[0] or step.model != event[0] for step in part.path):
            return True
    return False


def _few(member: Field) -> int:
    """How many values a field has that can all be tried; 0 where there are too many."""
    if member.unique:
        return 0
    if member.kind.labels():
        return len(member.kind.labels())
    type_ = member.kind.value_type().name
    if type_ == "boolean":
        return 2
    bounds = getattr(member.kind, "bounds", None)
    if type_ == "integer" and bounds and bounds.low is not None and bounds.high is not None:
        size = int(bounds.high - bounds.low + 1)
        return size if size <= 64 else 0
    return 0


def _has_order(member: Field) -> bool:
    return member.kind.value_type().name in (
        *("integer", "decimal", "number", "date", "datetime", "time", "duration"),
    )


def _candidates(model: Model, at: str, of: Node) -> list[str]:
    """The fields of the row itself that a condition could narrow, the likeliest first."""
    names = [
        part.name
        for part in walk(of)
        if isinstance(part, Value) and not part.path and part.model == model.name
    ]
    order = [member.name for member in model.members]
    fields = [n for n in dict.fromkeys(names) if isinstance(model.by_name.get(n), Field)]

    def rank(name: str) -> tuple[bool, ...] | tuple[int, ...]:
        member = model.stored(name)
        return (
            member.unique,
            bool(member.required),
            name != at,
            -order.index(name),
        )

    return sorted(fields, key=rank)
