"""Typed expressions: what rules, computed fields and conditions become before any target.

Logic is three-valued, as SQL's: an empty value makes a comparison neither true nor false.
A `/` gives a number, dividing by zero gives nothing, and no text is ever empty.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Collection, Iterator
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import NamedTuple, Protocol

from .patterns import Pattern


class Type(NamedTuple):
    """What an expression gives.

    `name` is integer, decimal, number, text, boolean, date, time, datetime, days, duration,
    row or other; `places` those of a decimal, `choices` those of a closed list as they are
    stored, `words` as declarations write them, `model` a row's.
    """

    name: str
    places: int = 0
    choices: tuple[str, ...] = ()
    model: str = ""
    words: tuple[str, ...] = ()

    @property
    def exact(self) -> bool:
        return self.name in ("integer", "decimal", "days")

    @property
    def numeric(self) -> bool:
        return self.exact or self.name == "number"

    @property
    def amount(self) -> bool:
        """Whether it has a sign and can be added."""
        return self.numeric or self.name == "duration"


INTEGER, NUMBER, TEXT = Type("integer"), Type("number"), Type("text")
BOOLEAN, DATE, TIME, DATETIME = Type("boolean"), Type("date"), Type("time"), Type("datetime")
DAYS, DURATION = Type("days"), Type("duration")

Literal = int | Decimal | float | str | bool | dt.date | dt.time | dt.datetime | dt.timedelta


@dataclass(frozen=True, slots=True)
class Const:
    """A value; a datetime is local to the site, as it was written."""

    value: Literal
    type: Type


@dataclass(frozen=True, slots=True)
class Step:
    """From a row of `owner` to the row of `model` that its reference names."""

    owner: str
    reference: str
    model: str
    required: bool = False


@dataclass(frozen=True, slots=True)
class Value:
    """A stored value: the way along references, then a field of `model`.

    `optional` says that the field itself may be empty.
    """

    model: str
    name: str
    type: Type
    path: tuple[Step, ...] = ()
    optional: bool = True

    @property
    def required(self) -> bool:
        """Whether it is never empty, nor any reference on the way."""
        return not self.optional and all(step.required for step in self.path)


@dataclass(frozen=True, slots=True)
class Clock:
    """`today` or `now`."""

    word: str
    type: Type


@dataclass(frozen=True, slots=True)
class Apply:
    """An operator or function: or and not = < <= empty matches || + - * / neg, and functions.

    Other comparisons, `between`, `in`, `when` and `given` are made of these.
    """

    word: str
    operands: tuple[Node, ...]
    type: Type
    pattern: Pattern | None = None


@dataclass(frozen=True, slots=True)
class Hop:
    """From a row to many: `via` is the child's reference, empty for many to many."""

    name: str
    owner: str
    model: str
    via: str = ""


@dataclass(frozen=True, slots=True)
class Aggregate:
    """A function over the rows that some hops lead to; `value` and `where` read those rows."""

    function: str
    path: tuple[Step, ...]
    hops: tuple[Hop, ...]
    value: Node | None
    where: Node | None
    type: Type


Node = Const | Value | Clock | Apply | Aggregate


class Held(NamedTuple):
    """How a column that others made holds its values.

    `type` is its neutral type, `form` a word of `kinds.native`; `yes_no` is what stands for yes
    and no, `empty` for nothing.
    """

    type: str
    form: str
    yes_no: tuple[str, ...] = ()
    empty: str | None = None


class Names(Protocol):
    """What tables and columns are called, for targets that are SQL."""

    def table(self, model: str) -> str:
        """The table of a model."""

    def key(self, model: str) -> str:
        """The column of a model's primary key."""

    def column(self, model: str, name: str) -> str:
        """The column of a field, or of a reference."""

    def how(self, model: str, name: str) -> Held | None:
        """How the column of a field holds its values, where that is not as Welbik does."""

    def joined(self, owner: str, name: str) -> tuple[str, str, str]:
        """A many-to-many relation: its table, the column of the owner, that of the others."""


def children(node: Node) -> tuple[Node, ...]:
    """The expressions right below a node."""
    if isinstance(node, Apply):
        return node.operands
    if isinstance(node, Aggregate):
        return tuple(part for part in (node.value, node.where) if part is not None)
    return ()


def walk(node: Node) -> Iterator[Node]:
    """A node and all below it."""
    yield node
    for child in children(node):
        yield from walk(child)


def extent(node: Node) -> tuple[int, int]:
    """How many nodes an expression has if each shared part is counted wherever it is read, and how deep it is."""
    known: dict[int, tuple[int, int]] = {}

    def measure(part: Node) -> tuple[int, int]:
        if id(part) not in known:
            below = [measure(child) for child in children(part)]
            size, depth = sum(n for n, _ in below), max((d for _, d in below), default=0)
            known[id(part)] = size + 1, depth + 1
        return known[id(part)]

    return measure(node)


def own(node: Node) -> Iterator[Value | Aggregate]:
    """What a node reads from its own row on: values and aggregates, not what is inside those."""
    if isinstance(node, Value | Aggregate):
        yield node
    elif isinstance(node, Apply):
        for child in node.operands:
            yield from own(child)


def reached(node: Node, steps: tuple[Step, ...]) -> Node:
    """The same expression, read from a row that `steps` lead to."""
    if isinstance(node, Value | Aggregate):
        return replace(node, path=steps + node.path)
    if isinstance(node, Apply):
        return replace(node, operands=tuple(reached(part, steps) for part in node.operands))
    return node


def lifted(node: Node) -> tuple[Step, Node] | None:
    """The way to a row, and the same expression as that row has it, where nothing else is read."""
    parts = list(own(node))
    steps = {part.path[:1] for part in parts}
    if len(steps) != 1 or steps == {()}:
        return None

    def near(one: Node) -> Node:
        return replace(one, path=one.path[1:]) if isinstance(one, Value | Aggregate) else one

    return parts[0].path[0], mapped(node, near)


def lowered(node: Node) -> tuple[Hop, Node] | None:
    """What a rule over the greatest or the least of some rows asks of each of them, and the way there.

    `max(hives.frames) <= most` is `frames <= apiary.most` of every hive. None where it is no such rule.
    """
    if not isinstance(node, Apply):
        return None
    if node.word == "or":
        found = [lowered(part) for part in node.operands]
        there = [one for one in found if one is not None]
        if len(there) != 1:
            return None
        hop, _ = there[0]
        parts = zip(node.operands, found, strict=True)
        each = tuple(_from_below(part, hop) if one is None else one[1] for part, one in parts)
        return hop, replace(node, operands=each)
    if node.word not in ("<", "<="):
        return None
    for side, function in ((0, "max"), (1, "min")):
        found_, other = node.operands[side], node.operands[1 - side]
        if not isinstance(found_, Aggregate) or found_.function != function or found_.path:
            continue
        if len(found_.hops) != 1 or not found_.hops[0].via or found_.value is None:
            continue
        hop = found_.hops[0]
        sides = [found_.value, _from_below(other, hop)]
        each_ = replace(node, operands=tuple(sides if side == 0 else sides[::-1]))
        if found_.where is None:
            return hop, each_
        outside = Apply("not", (found_.where,), BOOLEAN)
        return hop, Apply("or", (outside, each_), BOOLEAN)
    return None


def raised(node: Node, model: str) -> tuple[Step, Node] | None:
    """What a rule of a model's rows asks of the row that each leads to: the opposite of `lowered`.

    `frames <= min(apiary.offers.most)` is `max(hives.frames) <= min(offers.most)` of every apiary. None
    where a row's own fields are not alone on one side.
    """
    if not isinstance(node, Apply) or node.word not in ("<", "<="):
        return None
    for side, function in ((0, "max"), (1, "min")):
        mine, other = node.operands[side], node.operands[1 - side]
        there = lifted(other)
        values = [*own(mine)]
        if there is None or not values or any(part.path for part in values):
            continue
        step, far = there
        hop = Hop("", step.model, model, step.reference)
        most = Aggregate(function, (), (hop,), mine, None, mine.type)
        return step, replace(node, operands=(most, far) if side == 0 else (far, most))
    return None


def _from_below(node: Node, hop: Hop) -> Node:
    """The same expression, read from one of the rows that lead there."""
    return reached(node, (Step(hop.model, hop.via, hop.owner),))


def behind(node: Node, reference: str, beside: Collection[str] = ()) -> Node | None:
    """The same condition as the row has it that a reference leads to; None where it reads any other.

    What it reads of rows that references `beside` lead to is read from these on.
    """
    ways = [
        [step.reference for step in one.path] if isinstance(one, Value) else [] for one in own(node)
    ]
    others = [way for way in ways if way != [reference]]
    if len(others) == len(ways) or not all(way and way[0] in beside for way in others):
        return None

    def near(one: Node) -> Node:
        is_own = isinstance(one, Value) and [step.reference for step in one.path] == [reference]
        return replace(one, path=()) if is_own and isinstance(one, Value) else one

    return mapped(node, near)


def equals(node: Node) -> Iterator[tuple[str, str]]:
    """The pairs of a row's own members of which a condition, or a part of what it is made of, wants equality."""
    if not isinstance(node, Apply):
        return
    if node.word in ("and", "or"):
        for part in node.operands:
            yield from equals(part)
    elif node.word == "=":
        one, other = node.operands
        if isinstance(one, Value) and isinstance(other, Value) and not (one.path or other.path):
            yield one.name, other.name


def mapped(node: Node, change: Callable[[Node], Node]) -> Node:
    """The tree with every node changed, those below first; inside aggregates nothing is."""
    if isinstance(node, Apply):
        node = replace(node, operands=tuple(mapped(part, change) for part in node.operands))
    return change(node)


def reads_clock(node: Node) -> bool:
    return any(isinstance(part, Clock) for part in walk(node))


def reads_zone(node: Node) -> bool:
    """Whether it needs the site's time zone: a moment beside a date, or its year, month, day."""
    for part in walk(node):
        if isinstance(part, Const) and part.type.name == "datetime":
            return True
        if isinstance(part, Apply) and part.word == "local_date":
            return True
    return False


def reads_others(node: Node) -> bool:
    """Whether it reads more than its own row."""
    return any(isinstance(p, Aggregate) or isinstance(p, Value) and p.path for p in walk(node))


def fits_check(node: Node) -> bool:
    """Whether every database can hold it as a CHECK: its own row, no clock, no zone, no pattern."""
    return not (
        reads_others(node)
        or reads_clock(node)
        or reads_zone(node)
        or any(isinstance(part, Apply) and part.word == "matches" for part in walk(node))
    )


def maybe_empty(node: Node) -> bool:
    """Whether it can come to nothing."""
    if isinstance(node, Value):
        return not node.required
    if isinstance(node, Aggregate):
        return node.function != "count" or any(not step.required for step in node.path)
    if isinstance(node, Apply):
        if node.word == "empty":
            return False
        if node.word in ("/", "trim"):
            return True
        if node.word == "coalesce":
            return all(map(maybe_empty, node.operands))
        return any(map(maybe_empty, node.operands))
    return False


NOT_STRICT = ("and", "or", "empty", "/", "trim", "coalesce")
"""Operations that may come to nothing of what is there, or to something of what is not."""


def strict(node: Node) -> bool:
    """Whether it is empty just when something it reads is: so those can be asked instead."""
    if isinstance(node, Apply):
        return node.word not in NOT_STRICT and all(map(strict, node.operands))
    return isinstance(node, Const | Value | Clock)


def plain(node: Node) -> Node:
    """An expression without what only makes it comparable with another."""
    while isinstance(node, Apply) and node.word in ("cast", "local_date"):
        node = node.operands[0]
    return node
