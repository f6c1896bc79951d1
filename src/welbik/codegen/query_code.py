"""Expressions as SQLAlchemy source: conditions and values inside the application's queries.

Other rows stand in as their model's class by another name. Within the body of a class they do so as
`sa.table(…)`, so that no model's module needs another's. What databases write differently goes
through the kit's `expressions`.
"""

from __future__ import annotations

import datetime as dt
import keyword
from collections.abc import Collection
from dataclasses import dataclass, field
from decimal import Decimal

from ..kinds.literals import quote
from ..rules.brought import use
from ..rules.patterns import explicit, render
from ..rules.python import length_source
from ..rules.tree import (
    Aggregate,
    Apply,
    Clock,
    Const,
    Hop,
    Node,
    Step,
    Type,
    Value,
    maybe_empty,
)
from ..schema.model import Field, Reference, Schema
from ..schema.tables import SchemaNames
from .column_code import column_type

_SIGNS = {"=": "==", "<": "<", "<=": "<="}
_PLAIN = ("+", "-", "*")


@dataclass
class StandIn:
    """A table that an expression looks into: its constant, name and the columns it needs."""

    constant: str
    table: str
    alias: str
    columns: dict[str, str] = field(default_factory=dict)

    def column(self, name: str, kind: str = "") -> str:
        """Source of one of its columns, which it then has."""
        self.columns.setdefault(name, kind)
        if name.isidentifier() and not keyword.iskeyword(name) and not hasattr(dict, name):
            return f"{self.constant}.c.{name}"
        return f"{self.constant}.c[{quote(name)}]"

    def source(self) -> str:
        """Its definition."""
        shown = [
            f"{use.sa}.column({quote(name)}{f', {kind}' if kind else ''})"
            for name, kind in self.columns.items()
        ]
        arguments = ", ".join([quote(self.table), *shown])
        return f"{self.constant} = {use.sa}.table({arguments}).alias({quote(self.alias)})"


class Aliased(StandIn):
    """So too, for rows of a model whose class is at hand."""

    def __init__(self, constant: str, model: str) -> None:
        super().__init__(constant, "", constant.lower())
        self.model = model

    def column(self, name: str, kind: str = "") -> str:
        """Source of one of the class's attributes."""
        return f"{self.constant}.{name}"

    def source(self) -> str:
        """Its definition."""
        row = use.row(self.model)
        return f"{self.constant} = {use.orm}.aliased({row}, name={quote(self.alias)})"


class Queries:
    """Writes expressions over the rows of one model; gathers the tables that stand in.

    `own` is what comes before an attribute of the model: its class, or nothing in its body, where
    no other class is at hand.
    No table that stands in is called by a name of `taken`.
    """

    def __init__(self, schema: Schema, own: str, taken: Collection[str] = ()) -> None:
        self.schema = schema
        self.names = SchemaNames(schema)
        self.own, self.taken = own, taken
        self.stand_ins: dict[str, StandIn] = {}
        self.used: set[str] = set()

    def condition(self, node: Node) -> str:
        """Source of an SQL condition, or value."""
        if isinstance(node, Clock):
            # As a column by itself a parameter would lose what tells it when the query is cached.
            return f"{use.expressions}.itself({self._write(node, None)})"
        return _unwrapped(self._write(node, None))

    value = condition

    def negated(self, node: Node) -> str:
        """Source of a condition that is true just when this one is false."""
        return _unwrapped(self._not(node, None))

    def _column(self, here: StandIn | None, model: str, name: str) -> str:
        if isinstance(here, Aliased):
            return here.column(self._attribute(model, name))
        if here is not None:
            column = self.names.column(model, name)
            return here.column(column, self._type(model, name))
        attribute = self._attribute(model, name)
        self.used.add(attribute)
        return f"{self.own}.{attribute}" if self.own else attribute

    def _attribute(self, model: str, name: str) -> str:
        """The attribute of a model's class that holds a column."""
        found = self.schema.models[model]
        member = found.by_name.get(found.key if name == "id" and found.key else name)
        if isinstance(member, Reference):
            return member.key_attribute
        return name if member is None else member.attribute

    def _type(self, model: str, name: str) -> str:
        """The SQLAlchemy type of a column, where expressions need to know it."""
        member = self.schema.models[model].by_name.get(name)
        if not isinstance(member, Field):
            return ""
        return column_type(member, alone=True)

    def _stand_in(self, name: str, model: str) -> StandIn:
        constant = self._constant(name)
        found = Aliased(constant, model) if self.own else None
        return self._known(found or StandIn(constant, self.names.table(model), constant.lower()))

    def _named(self, name: str, table: str) -> StandIn:
        constant = self._constant(name)
        return self._known(StandIn(constant, table, constant.lower()))

    def _constant(self, name: str) -> str:
        constant, number = name.upper(), 2
        while constant in self.stand_ins or constant in self.taken:
            constant, number = f"{name.upper()}_{number}", number + 1
        return constant

    def _known(self, found: StandIn) -> StandIn:
        self.stand_ins[found.constant] = found
        return found

    def _key(self, here: StandIn | None, model: str) -> str:
        if here is None or isinstance(here, Aliased):
            return self._column(here, model, "id")
        return here.column(self.names.key(model))

    def _link(self, here: StandIn, column: str) -> str:
        return here.column(column)

    def _follow(self, path: tuple[Step, ...], here: StandIn | None) -> list[tuple[StandIn, str]]:
        """The tables that references lead through, each with what links it to the one before."""
        way: list[tuple[StandIn, str]] = []
        for step in path:
            before = way[-1][0] if way else here
            table = self._stand_in(step.reference, step.model)
            column = self._column(before, step.owner, step.reference)
            way.append((table, f"{self._key(table, step.model)} == {column}"))
        return way

    def _spread(
        self, hops: tuple[Hop, ...], way: list[tuple[StandIn, str]], here: StandIn | None
    ) -> list[tuple[StandIn, str]]:
        way = list(way)
        for hop in hops:
            last = way[-1][0] if way else here
            key = self._key(last, hop.owner)
            if hop.via:
                table = self._stand_in(hop.name, hop.model)
                column = self._column(table, hop.model, hop.via)
                way.append((table, f"{column} == {key}"))
                continue
            name, mine, theirs = self.names.joined(hop.owner, hop.name)
            pairs = self._named(f"{hop.name}_pairs", name)
            way.append((pairs, f"{self._link(pairs, mine)} == {key}"))
            table = self._stand_in(hop.name, hop.model)
            link = f"{self._key(table, hop.model)} == {self._link(pairs, theirs)}"
            way.append((table, link))
        return way

    def _select(self, what: str, way: list[tuple[StandIn, str]], more: str = "") -> str:
        first = way[0][0].constant
        text = f"{use.sa}.select({what}).select_from({first})"
        for table, link in way[1:]:
            text += f".join({table.constant}, {link})"
        where = way[0][1] + (f", {more}" if more else "")
        return f"{text}.where({where}).scalar_subquery()"

    def _write(self, node: Node, here: StandIn | None) -> str:
        if isinstance(node, Const):
            return _constant(node)
        if isinstance(node, Clock):
            return f"{use.columns}.{node.word}()"
        if isinstance(node, Value):
            if not node.path:
                return self._column(here, node.model, node.name)
            way = self._follow(node.path, here)
            return self._select(self._column(way[-1][0], node.model, node.name), way)
        if isinstance(node, Aggregate):
            return self._aggregate(node, here)
        return self._apply(node, here)

    def _aggregate(self, node: Aggregate, here: StandIn | None) -> str:
        way = self._spread(node.hops, self._follow(node.path, here), here)
        last = way[-1][0]
        value = "" if node.value is None else self._write(node.value, last)
        function = f"{use.sa}.func.{node.function}({value})"
        if node.function == "avg":
            assert node.value is not None
            total = _cast(f"{use.sa}.func.sum({value})", node.value.type, node.type)
            function = f"{total} / {use.sa}.func.nullif({use.sa}.func.count({value}), 0)"
        elif node.function == "sum" and node.type.name == "integer":
            function = f"{use.expressions}.total({value})"
        where = self._write(node.where, last) if node.where is not None else ""
        if where:
            # The rows of a parent are found by the parent: an index of what filters them has too many.
            where = f"{use.expressions}.not_leading({where})"
        found = self._select(function, way, where)
        if node.function != "count" or all(step.required for step in node.path):
            return found
        some = self._follow(node.path, here)
        there = self._select(self._key(some[-1][0], node.path[-1].model), some)
        return f"{use.sa}.case(({there}.is_not(None), {found}))"

    def _apply(self, node: Apply, here: StandIn | None) -> str:
        word = node.word
        if word in ("and", "or"):
            joined = ", ".join(self._write(part, here) for part in _flat(node, word))
            return f"{use.sa}.{word}_({joined})"
        if word == "not":
            return self._not(node.operands[0], here)
        first = self._operand(node.operands[0], here)
        if word == "empty":
            return f"{first}.is_(None)"
        if word in _SIGNS:
            return self._compared(node, here, _SIGNS[word])
        parts = [first, *(self._operand(part, here) for part in node.operands[1:])]
        if word == "local_date":
            return f"{use.expressions}.local_day({first})"
        if word == "cast":
            have = node.operands[0].type
            if have.name == "integer" and node.type.name == "days":
                return first
            return _cast(first, have, node.type)
        if word in _PLAIN or word == "neg":
            exact = any(p.type.name in ("decimal", "duration") for p in (node, *node.operands))
            found = f"(-{first})" if word == "neg" else f"({parts[0]} {word} {parts[1]})"
            return (
                f"{use.sa}.type_coerce({_unwrapped(found)}, {_sa_type(node.type)})"
                if exact
                else found
            )
        return _called(node, parts)

    def _compared(self, node: Apply, here: StandIn | None, sign: str) -> str:
        left, right = node.operands
        if isinstance(left, Const | Clock) and not isinstance(right, Const | Clock):
            left, right = right, left
            sign = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}.get(sign, sign)
        second = self._exact_constant(right, left) or self._operand(right, here)
        first = self._operand(left, here)
        # Of nothing it is not known, where `is` would say no.
        if isinstance(right, Const) and isinstance(right.value, bool) and not maybe_empty(left):
            return (
                f"({first}.is_({right.value}))"
                if sign == "=="
                else f"({first}.is_not({right.value}))"
            )
        return f"({first} {sign} {second})"

    def _exact_constant(self, node: Node, beside: Node) -> str:
        """A decimal constant beside a column of the same places is bound by the column's type."""
        if not isinstance(node, Const) or node.type.name != "decimal":
            return ""
        if isinstance(beside, Value) and not beside.path:
            return _decimal(node)
        return ""

    def _operand(self, node: Node, here: StandIn | None) -> str:
        """What stands beside an operator: a constant there needs SQL's form of itself."""
        if isinstance(node, Const):
            return _literal(node)
        return self._write(node, here)

    def _not(self, node: Node, here: StandIn | None) -> str:
        if isinstance(node, Apply):
            if node.word == "not":
                return self._write(node.operands[0], here)
            if node.word == "empty":
                return f"{self._operand(node.operands[0], here)}.is_not(None)"
            if node.word in _SIGNS and not isinstance(node.operands[1], Const):
                return self._compared(
                    node, here, {"==": "!=", "<": ">=", "<=": ">"}[_SIGNS[node.word]]
                )
            if node.word in ("and", "or"):
                other = "or" if node.word == "and" else "and"
                parts = ", ".join(self._not(part, here) for part in _flat(node, node.word))
                return f"{use.sa}.{other}_({parts})"
        return f"{use.sa}.not_({_unwrapped(self._write(node, here))})"


def _cast(value: str, have: Type, wanted: Type) -> str:
    """A value as one of another type."""
    if wanted.name == "number":
        places = [str(have.places)] if have.name == "decimal" else []
        return value if have.name == "number" else _call("as_number", value, *places)
    if wanted.name == "decimal" and wanted.places != have.places:
        return _call("as_exact", value, str(have.places), str(wanted.places))
    return value


def _called(node: Apply, parts: list[str]) -> str:
    """What each database writes its own way, as a call of the kit."""
    word, first, have = node.word, parts[0], node.operands[0].type
    if node.pattern is not None:
        return _call("matches", first, quote(render(explicit(node.pattern.tree))))
    if word == "||":
        return f"{first}.concat({parts[1]})"
    if word == "abs":
        return f"{use.sa}.func.abs({first}, type_={_sa_type(node.type)})"
    if word == "round":
        given = [f"have={have.places}"] if have.name != "number" else []
        return _call("rounded", first, _places(node), *given)
    if word == "to_exact":
        return _call(word, first, _places(node))
    if word in ("least", "greatest"):
        return _call(word, *parts, _sa_type(node.type))
    if word in ("year", "month", "day"):
        return _call("part", quote(word), first)
    if word == "shift":
        return _call("days_later" if node.type.name == "date" else "moment_later", *parts)
    return _call({"/": "divided", "trim": "trimmed"}.get(word, word), *parts)


def _places(node: Apply) -> str:
    places = node.operands[1]
    assert isinstance(places, Const)
    return str(places.value)


def _call(name: str, *arguments: str) -> str:
    return f"{use.expressions}.{name}({', '.join(map(_unwrapped, arguments))})"


def _sa_type(kind: Type) -> str:
    if kind.name == "decimal":
        return f"{use.columns}.Exact(18, {kind.places})"
    return {
        **{
            "integer": f"{use.sa}.Integer()",
            "days": f"{use.sa}.Integer()",
            "number": f"{use.sa}.Double()",
        },
        **{
            "text": f"{use.sa}.Text()",
            "boolean": f"{use.sa}.Boolean()",
            "date": f"{use.sa}.Date()",
        },
        **{
            "time": f"{use.sa}.Time()",
            "duration": f"{use.columns}.Duration()",
            "datetime": f"{use.columns}.Moment()",
        },
    }[kind.name]


def _flat(node: Apply, word: str) -> list[Node]:
    """The parts of a chain of one word."""
    found: list[Node] = []
    for part in node.operands:
        same = isinstance(part, Apply) and part.word == word
        found += _flat(part, word) if same and isinstance(part, Apply) else [part]
    return found


def _unwrapped(source: str) -> str:
    """Source without a pair of brackets around all of it."""
    if not source.startswith("("):
        return source
    depth = 0
    for at, character in enumerate(source):
        depth += (character == "(") - (character == ")")
        if depth == 0:
            return source[1:-1] if at == len(source) - 1 else source
    return source


def _decimal(node: Const) -> str:
    value = node.value
    assert isinstance(value, Decimal)
    if value == value.to_integral_value():
        return f"{use.Decimal}({int(value)})"
    return f'{use.Decimal}("{value:f}")'


def _constant(node: Const) -> str:
    if isinstance(node.value, bool):
        return f"{use.sa}.{'true' if node.value else 'false'}()"
    return _literal(node)


def _literal(node: Const) -> str:
    """A constant that SQLAlchemy binds with its type."""
    value = node.value
    if isinstance(value, bool):
        return f"{use.sa}.literal({value})"
    if isinstance(value, dt.datetime):
        shown = f'{use.clock}.local("{value.isoformat(timespec="minutes")}")'
        return f"{use.sa}.literal({shown}, {use.columns}.Moment())"
    if isinstance(value, dt.timedelta):
        return f"{use.sa}.literal({length_source(value)}, {use.columns}.Duration())"
    if isinstance(value, dt.date):
        return f"{use.sa}.literal({use.dt}.date({value.year}, {value.month}, {value.day}))"
    if isinstance(value, dt.time):
        return f"{use.sa}.literal({use.dt}.time({value.hour}, {value.minute}, {value.second}))"
    if node.type.name == "decimal":
        return f"{use.sa}.literal({_decimal(node)}, {_sa_type(node.type)})"
    if isinstance(value, str):
        return f"{use.sa}.literal({quote(value)})"
    return f"{use.sa}.literal({value!r})"
