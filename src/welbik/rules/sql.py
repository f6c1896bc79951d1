"""Expressions as SQL: for CHECK constraints, conditions and values of queries.

One class writes what databases share, one subclass each what they do not.
"""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from itertools import count
from typing import ClassVar, NamedTuple
from zoneinfo import ZoneInfo

from .patterns import Either, Pattern, Repeat, Sequence, Set, render
from .patterns import Node as PatternNode
from .tree import Aggregate, Apply, Clock, Const, Hop, Names, Node, Step, Type, Value, maybe_empty

_NEWLINE_ONLY = ((0, 9), (11, 0x10FFFF))


class _Joined(NamedTuple):
    """A table on the way, its alias, and what links it to the one before; all as SQL."""

    table: str
    alias: str
    link: str


def _from(way: list[_Joined]) -> str:
    """FROM and WHERE of a way that begins at a row outside."""
    text = f"FROM {way[0].table} AS {way[0].alias}"
    for joined in way[1:]:
        text += f" JOIN {joined.table} AS {joined.alias} ON {joined.link}"
    return f"{text} WHERE {way[0].link}"


class Sql:
    """Writes expressions over a row called `row`, a table or an alias.

    `now` is what `today` and `now` mean, aware; `names` says what tables and columns are called.
    """

    def __init__(self, names: Names, now: dt.datetime | None = None, zone: str = "UTC") -> None:
        self.names = names
        self.zone = ZoneInfo(zone)
        self.now = now or dt.datetime.now(self.zone)
        self._numbers = count(1)

    def write(self, node: Node, row: str) -> str:
        """The SQL of an expression; `row` is an identifier without its quotes."""
        return self._write(node, quote(row))

    def _write(self, node: Node, row: str) -> str:
        if isinstance(node, Const):
            return self.constant(node)
        if isinstance(node, Clock):
            here = self.now.astimezone(self.zone)
            if node.word == "today":
                return self.constant(Const(here.date(), node.type))
            return self.moment(self.now.astimezone(dt.UTC).replace(tzinfo=None))
        if isinstance(node, Value):
            return self._value(node, row)
        if isinstance(node, Aggregate):
            return self._aggregate(node, row)
        return self._apply(node, row)

    def _value(self, node: Value, row: str) -> str:
        column = quote(self.names.column(node.model, node.name))
        if not node.path:
            return f"{row}.{column}"
        way = self._follow(node.path, row)
        return f"(SELECT {way[-1].alias}.{column} {_from(way)})"

    def _alias(self) -> str:
        return quote(f"t{next(self._numbers)}")

    def _follow(self, path: tuple[Step, ...], row: str) -> list[_Joined]:
        """The tables that references lead through."""
        way: list[_Joined] = []
        for step in path:
            alias = self._alias()
            key, column = self.names.key(step.model), self.names.column(step.owner, step.reference)
            link = f"{alias}.{quote(key)} = {way[-1].alias if way else row}.{quote(column)}"
            way.append(_Joined(quote(self.names.table(step.model)), alias, link))
        return way

    def _spread(self, hops: tuple[Hop, ...], way: list[_Joined], row: str) -> list[_Joined]:
        """The tables that collections lead through, after those of `way`."""
        way = list(way)
        for hop in hops:
            last = way[-1].alias if way else row
            key = quote(self.names.key(hop.owner))
            table = quote(self.names.table(hop.model))
            if hop.via:
                alias = self._alias()
                column = quote(self.names.column(hop.model, hop.via))
                way.append(_Joined(table, alias, f"{alias}.{column} = {last}.{key}"))
                continue
            between, mine, theirs = (quote(name) for name in self.names.joined(hop.owner, hop.name))
            pair, alias = self._alias(), self._alias()
            target = quote(self.names.key(hop.model))
            way.append(_Joined(between, pair, f"{pair}.{mine} = {last}.{key}"))
            way.append(_Joined(table, alias, f"{alias}.{target} = {pair}.{theirs}"))
        return way

    def _apply(self, node: Apply, row: str) -> str:
        word = node.word
        parts = [self._write(part, row) for part in node.operands]
        first = parts[0]
        if word in ("and", "or"):
            return f"({parts[0]} {word.upper()} {parts[1]})"
        if word == "not":
            return f"(NOT {first})"
        if word == "empty":
            return f"({first} IS NULL)"
        if word in ("=", "<", "<="):
            if node.operands[0].type.name == "text" and word != "=":
                first = self.ordered(first)
            return f"({first} {word} {parts[1]})"
        if word in ("+", "-", "*", "||"):
            return f"({parts[0]} {word} {parts[1]})"
        if word == "neg":
            return f"(- {first})"
        if word == "matches":
            assert node.pattern is not None
            return self.matches(first, node.pattern)
        if word == "cast":
            return self.cast(first, node.operands[0].type, node.type)
        if word == "round":
            return self.round(first, node)
        if word == "to_exact":
            return self.to_exact(first, node.type.places)
        if word in ("length", "abs"):
            return f"{word}({first})"
        return self.special(word, parts, node)

    def special(self, word: str, parts: list[str], node: Apply) -> str:
        """What each database writes its own way: dates, trimming, division, extremes."""
        raise NotImplementedError

    def _aggregate(self, node: Aggregate, row: str) -> str:
        way = self._spread(node.hops, self._follow(node.path, row), row)
        last = way[-1].alias
        value = "*" if node.value is None else self._write(node.value, last)
        found = f"SELECT {self._function(node, value)} {_from(way)}"
        if node.where is not None:
            found += f" AND {self._write(node.where, last)}"
        if node.function != "count" or all(step.required for step in node.path):
            return f"({found})"
        # No row, no count: nothing is known of rows that are not there.
        some = self._follow(node.path, row)
        key = quote(self.names.key(node.path[-1].model))
        there = f"(SELECT {some[-1].alias}.{key} {_from(some)})"
        return f"(CASE WHEN {there} IS NOT NULL THEN ({found}) END)"

    def _function(self, node: Aggregate, value: str) -> str:
        if node.function == "avg":
            assert node.value is not None
            total = self.cast(f"sum({value})", node.value.type, node.type)
            return self.divided(total, f"count({value})")
        if node.function in ("min", "max") and node.type.name == "text":
            return f"{node.function}({self.ordered(value)})"
        return f"{node.function}({value})"

    def constant(self, node: Const) -> str:
        value = node.value
        if isinstance(value, bool):
            return self.boolean(value)
        if isinstance(value, dt.datetime):
            here = value.replace(tzinfo=self.zone)
            return self.moment(here.astimezone(dt.UTC).replace(tzinfo=None))
        if isinstance(value, dt.date):
            return self.day(value)
        if isinstance(value, dt.time):
            return self.time(value)
        if isinstance(value, dt.timedelta):
            value = int(value.total_seconds())
        if isinstance(value, str):
            return text(value)
        if node.type.name == "number":
            return self.cast(repr(float(value)), Type("number"), Type("number"))
        if isinstance(value, Decimal):
            return self.exact(value, node.type.places)
        return f"({value})" if value < 0 else str(value)

    def boolean(self, value: bool) -> str:
        raise NotImplementedError

    def exact(self, value: Decimal, places: int) -> str:
        raise NotImplementedError

    def day(self, value: dt.date) -> str:
        raise NotImplementedError

    def time(self, value: dt.time) -> str:
        raise NotImplementedError

    def moment(self, value: dt.datetime) -> str:
        """A UTC moment."""
        raise NotImplementedError

    def ordered(self, value: str) -> str:
        """A text that is compared by its code points."""
        raise NotImplementedError

    matching: ClassVar[str]
    """The operator that asks whether a text has a form."""

    def matches(self, value: str, pattern: Pattern) -> str:
        return f"({value} {self.matching} {text(self.form(pattern))})"

    @staticmethod
    def form(pattern: Pattern) -> str:
        """A pattern as this database reads it, for the whole of a text."""
        raise NotImplementedError

    def cast(self, value: str, have: Type, wanted: Type) -> str:
        raise NotImplementedError

    def round(self, value: str, node: Apply) -> str:
        raise NotImplementedError

    def to_exact(self, value: str, places: int) -> str:
        """A number as a decimal, half away from zero."""
        raise NotImplementedError

    def divided(self, value: str, by: str) -> str:
        raise NotImplementedError


class Sqlite(Sql):
    """SQLite: decimals are whole numbers of their smallest place, dates and moments ISO text.

    `matches` and moments beside dates need the functions `regexp` and `local_date`,
    which a connection registers (`storage.sqlite` and the application's kit do).
    """

    matching = "REGEXP"

    def boolean(self, value: bool) -> str:
        return "1" if value else "0"

    def exact(self, value: Decimal, places: int) -> str:
        scaled = int(value.scaleb(places))
        return f"({scaled})" if scaled < 0 else str(scaled)

    def day(self, value: dt.date) -> str:
        return text(value.isoformat())

    def time(self, value: dt.time) -> str:
        return text(value.strftime("%H:%M:%S.%f"))

    def moment(self, value: dt.datetime) -> str:
        return text(value.isoformat(" ", "microseconds"))

    def ordered(self, value: str) -> str:
        return value

    @staticmethod
    def form(pattern: Pattern) -> str:
        return pattern.text

    def cast(self, value: str, have: Type, wanted: Type) -> str:
        if wanted.name == "number":
            if have.name == "decimal":
                return f"(CAST({value} AS REAL) / 1e{have.places})"
            return value if have.name == "number" else f"CAST({value} AS REAL)"
        places = wanted.places - have.places
        return f"({value} * {10**places})" if places else value

    def round(self, value: str, node: Apply) -> str:
        places = int(node.operands[1].value)  # type: ignore[union-attr,arg-type]
        have = node.operands[0].type
        if have.name == "number":
            scaled = f"CAST(abs({value}) * 1e{places} + 0.5 AS INTEGER) / 1e{places}"
            return f"(CASE WHEN {value} < 0 THEN - {scaled} ELSE {scaled} END)"
        step = 10 ** (have.places - places)
        whole = f"(abs({value}) + {step // 2}) / {step}"
        return f"(CASE WHEN {value} < 0 THEN - ({whole}) ELSE {whole} END)"

    def to_exact(self, value: str, places: int) -> str:
        whole = f"CAST(abs({value}) * 1e{places} + 0.5 AS INTEGER)"
        return f"(CASE WHEN {value} < 0 THEN - {whole} ELSE {whole} END)"

    def divided(self, value: str, by: str) -> str:
        return f"({value} / {by})"

    def special(self, word: str, parts: list[str], node: Apply) -> str:
        first = parts[0]
        if word == "/":
            return self.divided(first, parts[1])
        if word == "shift":
            days = f"({parts[1]} || ' days')"
            if node.type.name == "date":
                return f"date({first}, {days})"
            return f"(strftime('%Y-%m-%d %H:%M:%S', {first}, {days}) || substr({first}, 20))"
        if word == "days_between":
            return f"CAST(julianday({first}) - julianday({parts[1]}) AS INTEGER)"
        if word in ("year", "month", "day"):
            letter = {"year": "%Y", "month": "%m", "day": "%d"}[word]
            return f"CAST(strftime('{letter}', {first}) AS INTEGER)"
        if word in ("least", "greatest"):
            return f"{'min' if word == 'least' else 'max'}({first}, {parts[1]})"
        if word == "trim":
            return f"NULLIF(trim({first}, ' '), '')"
        return f"{word}({first})"


class Postgresql(Sql):
    """PostgreSQL."""

    matching = "~"

    def boolean(self, value: bool) -> str:
        return "TRUE" if value else "FALSE"

    def exact(self, value: Decimal, places: int) -> str:
        return f"({value:f})" if value < 0 else f"{value:f}"

    def day(self, value: dt.date) -> str:
        return f"DATE '{value.isoformat()}'"

    def time(self, value: dt.time) -> str:
        return f"TIME '{value.isoformat()}'"

    def moment(self, value: dt.datetime) -> str:
        return f"TIMESTAMP '{value.isoformat(' ', 'microseconds')}'"

    def ordered(self, value: str) -> str:
        return f'({value} COLLATE "C")'

    @staticmethod
    def form(pattern: Pattern) -> str:
        return f"^({render(_explicit(pattern.tree))})$"

    def cast(self, value: str, have: Type, wanted: Type) -> str:
        if wanted.name == "number":
            return f"CAST({value} AS double precision)"
        return f"CAST({value} AS numeric)" if wanted.name == "decimal" else value

    def round(self, value: str, node: Apply) -> str:
        places = int(node.operands[1].value)  # type: ignore[union-attr,arg-type]
        if node.operands[0].type.name == "number":
            scale = f"CAST(1e{places} AS double precision)"
            return f"(floor(abs({value}) * {scale} + 0.5) / {scale} * sign({value}))"
        found = f"round({value}, {places})"
        return found if node.type.name == "decimal" else f"CAST({found} AS bigint)"

    def to_exact(self, value: str, places: int) -> str:
        scale = f"CAST(1e{places} AS double precision)"
        whole = f"CAST(floor(abs({value}) * {scale} + 0.5) * sign({value}) AS numeric)"
        return f"({whole} / {10**places}.0)" if places else whole

    def divided(self, value: str, by: str) -> str:
        return f"({value} / NULLIF({by}, 0))"

    def special(self, word: str, parts: list[str], node: Apply) -> str:
        first = parts[0]
        if word == "/":
            return self.divided(first, parts[1])
        if word == "shift":
            if node.type.name == "date":
                return f"({first} + CAST({parts[1]} AS integer))"
            return f"({first} + {parts[1]} * INTERVAL '1 day')"
        if word == "days_between":
            return f"({first} - {parts[1]})"
        if word in ("year", "month", "day"):
            return f"CAST(extract({word} FROM {first}) AS integer)"
        if word == "local_date":
            zone = text(str(self.zone))
            return f"CAST({first} AT TIME ZONE 'UTC' AT TIME ZONE {zone} AS date)"
        if word in ("least", "greatest"):
            return self._extreme(word, parts, node)
        if word == "trim":
            return f"NULLIF(btrim({first}, ' '), '')"
        # Letters beyond A-Z stay as they are, as everywhere: databases disagree about those.
        return f'{word}({first} COLLATE "C")'

    def _extreme(self, word: str, parts: list[str], node: Apply) -> str:
        """Nothing where either is nothing; PostgreSQL's own would give the other one."""
        if node.type.name == "text":
            parts = [self.ordered(parts[0]), parts[1]]
        found = f"{word}({parts[0]}, {parts[1]})"
        if not any(map(maybe_empty, node.operands)):
            return found
        return f"(CASE WHEN {parts[0]} IS NOT NULL AND {parts[1]} IS NOT NULL THEN {found} END)"


def _explicit(node: PatternNode) -> PatternNode:
    """The same pattern, in which `.` says what it leaves out."""
    if isinstance(node, Set):
        return Set(_NEWLINE_ONLY) if render(node) == "." else node
    if isinstance(node, Sequence):
        return Sequence(tuple(map(_explicit, node.parts)))
    if isinstance(node, Either):
        return Either(tuple(map(_explicit, node.ways)))
    return Repeat(_explicit(node.part), node.low, node.high)


def quote(name: str) -> str:
    """An identifier."""
    return '"' + name.replace('"', '""') + '"'


def text(value: str) -> str:
    """A text literal."""
    return "'" + value.replace("'", "''") + "'"
