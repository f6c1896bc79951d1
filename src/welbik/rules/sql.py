"""Expressions as SQL: for CHECK constraints, conditions and values of queries.

One class writes what databases share; what they do not is in the file of each, in `storage`.
"""

from __future__ import annotations

import datetime as dt
import re
from decimal import Decimal
from itertools import count
from typing import ClassVar, NamedTuple
from zoneinfo import ZoneInfo

from . import tree
from .patterns import Pattern
from .tree import Aggregate, Apply, Clock, Const, Held, Hop, Names, Node, Step, Type, Value

_COLON = "':'"


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
            return self._read(node, f"{row}.{column}")
        way = self._follow(node.path, row)
        return f"(SELECT {self._read(node, f'{way[-1].alias}.{column}')} {_from(way)})"

    def _read(self, node: Value, column: str) -> str:
        """A column as an expression that gives what Welbik would have stored."""
        how = self.names.how(node.model, node.name)
        return self.held(how, column) if how is not None else column

    @classmethod
    def held(cls, how: Held, column: str) -> str:
        """The value of a column that others made, as Welbik would have stored it."""
        if how.empty is not None:
            number = re.fullmatch(r"-?[0-9]+(\.[0-9]+)?", how.empty)
            plain = how.type.split()[0] not in ("text", "date", "timestamp", "time", "uuid", "json")
            stands = how.empty if number and plain else text(how.empty)
            column = cls.nothing(column, stands, how)
        return cls.unheld(how, column) if how.form else column

    @classmethod
    def nothing(cls, column: str, stands: str, how: Held) -> str:
        """A column without what stands for nothing there."""
        return f"NULLIF({column}, {stands})"

    @classmethod
    def unheld(cls, how: Held, column: str) -> str:
        """What a form says of a value; see `storage.forms`."""
        if how.form == "words":
            return f"({column} = {text(how.yes_no[0])})"
        if how.form == "flag":
            return f"({column} <> 0)"
        raise NotImplementedError(how.form)

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
            return self._not(node.operands[0], first, row)
        if word == "empty":
            return f"({first} IS NULL)"
        if word in ("=", "<", "<="):
            if node.operands[0].type.name == "text" and word != "=":
                first = self.ordered(first)
            return f"({first} {word} {parts[1]})"
        if word == "/":
            return self.divided(first, parts[1])
        if word == "||":
            return self.joined(first, parts[1])
        if word in ("+", "-", "*"):
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
        if word == "length":
            return self.length(first)
        if word in ("abs", "coalesce"):
            return f"{word}({', '.join(parts)})"
        if word == "exchanged":
            pairs = zip(parts[1::2], parts[2::2], strict=True)
            cases = " ".join(f"WHEN {old} THEN {new}" for old, new in pairs)
            return f"(CASE {first} {cases} ELSE {first} END)"
        if word in ("told", "read", "moment", "number", "truth"):
            return self.converted(word, first, node)
        return self.special(word, parts, node)

    def converted(self, word: str, value: str, node: Apply) -> str:
        """A value as one of another type.

        `told` is a value as a text, `read` a text as a value, `moment` a day as the moment when
        it begins, `number` yes or no as 1 or 0, and `truth` the other way round.
        """
        have = node.operands[0].type
        if word == "moment":
            return self.as_utc(self.as_type(value, tree.DATETIME))
        if word == "number":
            return f"(CASE WHEN {value} THEN 1 WHEN NOT {value} THEN 0 END)"
        if word == "truth":
            return f"({value} <> 0)"
        if word == "told":
            return self.told(value, have)
        if node.type.name == "boolean":
            yes, no = "'yes', 'true', 'on', 'y', '1'", "'no', 'false', 'off', 'n', '0'"
            return (
                f"(CASE WHEN {value} IN ({yes}) THEN {self.boolean(True)} "
                f"WHEN {value} IN ({no}) THEN {self.boolean(False)}{self.neither(value)} END)"
            )
        if node.type.name == "duration":
            return self._length_read(value)
        found = self.as_type(value, node.type)
        return self.as_utc(found) if node.type.name == "datetime" else found

    def neither(self, value: str) -> str:
        """What a text comes to that says neither yes nor no: nothing, or an error if there can be one."""
        return ""

    def told(self, value: str, have: Type) -> str:
        """A value as a text."""
        if have.name == "boolean":
            return f"(CASE WHEN {value} THEN 'yes' WHEN NOT {value} THEN 'no' END)"
        if have.name == "datetime":
            return self.clock_text(self.as_local(value), "datetime")
        if have.name in ("date", "time"):
            return self.clock_text(value, have.name)
        if have.name == "other":
            return self.dashed(value)
        if have.name == "duration":
            return self._length_told(value)
        return self.plain_text(value, have)

    def _length_told(self, value: str) -> str:
        """A length of time in hours and minutes, with its seconds where it has some."""

        def two(number: str) -> str:
            return f"substr({self.plain_text(f'(100 + {number})', tree.INTEGER)}, 2, 2)"

        whole = f"abs({value})"
        seconds = two(f"{whole} % 60")
        tail = f"(CASE WHEN {whole} % 60 = 0 THEN '' ELSE {self.joined(_COLON, seconds)} END)"
        hours = self.plain_text(self.per(whole, 3600), tree.INTEGER)
        minutes = two(self.per(f"({whole} % 3600)", 60))
        sign = f"(CASE WHEN {value} < 0 THEN '-' ELSE '' END)"
        found = self.joined(self.joined(sign, hours), self.joined(_COLON, minutes))
        return self.joined(found, tail)

    def _length_read(self, value: str) -> str:
        """The seconds of a text such as `1:30` or `-0:00:05`."""
        text = f"replace({value}, '-', '')"
        length, colon = self.length(text), self.length(f"replace({text}, {_COLON}, '')")
        # As many colons, each with two digits behind it.
        head = f"({length} - 3 * ({length} - {colon}))"
        seconds = (
            f"CASE WHEN {length} - {colon} = 2 THEN substr({text}, {length} - 1, 2) ELSE '0' END"
        )
        hours, minutes = f"substr({text}, 1, {head})", f"substr({text}, {head} + 2, 2)"
        parts = [self.as_type(part, tree.INTEGER) for part in (hours, minutes, seconds)]
        found = f"({parts[0]} * 3600 + {parts[1]} * 60 + {parts[2]})"
        return f"(CASE WHEN substr({value}, 1, 1) = '-' THEN - {found} ELSE {found} END)"

    def per(self, value: str, by: int) -> str:
        """How often a whole number goes into another that is not less than nothing."""
        return f"({value} / {by})"

    def as_type(self, value: str, wanted: Type) -> str:
        """A text that has the form of a type, or a day for a moment, as one of that type."""
        raise NotImplementedError

    def plain_text(self, value: str, have: Type) -> str:
        """A number as a text, or a text that others are made of."""
        raise NotImplementedError

    def clock_text(self, value: str, word: str) -> str:
        """A `date`, a `time` or a `datetime` as text, without parts of seconds."""
        raise NotImplementedError

    def dashed(self, value: str) -> str:
        """A UUID as people write it."""
        parts = [
            f"substr({value}, {at}, {n})" for at, n in ((1, 8), (9, 4), (13, 4), (17, 4), (21, 12))
        ]
        found = parts[0]
        for part in parts[1:]:
            found = self.joined(self.joined(found, "'-'"), part)
        return found

    def as_utc(self, moment: str) -> str:
        """A moment on the clocks of the site as a UTC one."""
        raise NotImplementedError

    def as_local(self, moment: str) -> str:
        """The other way round."""
        raise NotImplementedError

    def _not(self, node: Node, written: str, row: str) -> str:
        if isinstance(node, Apply) and node.word == "empty":
            return f"({self._write(node.operands[0], row)} IS NOT NULL)"
        return f"(NOT {written})"

    def special(self, word: str, parts: list[str], node: Apply) -> str:
        """What each database writes its own way: dates, trimming, extremes."""
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
        return "TRUE" if value else "FALSE"

    def exact(self, value: Decimal, places: int) -> str:
        return f"({value:f})" if value < 0 else f"{value:f}"

    def day(self, value: dt.date) -> str:
        return f"DATE '{value.isoformat()}'"

    def time(self, value: dt.time) -> str:
        return f"TIME '{value.isoformat()}'"

    def moment(self, value: dt.datetime) -> str:
        """A UTC moment."""
        return f"TIMESTAMP '{value.isoformat(' ', 'microseconds')}'"

    def ordered(self, value: str) -> str:
        """A text that is compared by its code points."""
        return value

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
        return f"({value} / NULLIF({by}, 0))"

    def joined(self, first: str, second: str) -> str:
        """Two texts as one."""
        return f"({first} || {second})"

    def length(self, value: str) -> str:
        """How many characters a text has."""
        return f"length({value})"


def quote(name: str) -> str:
    """An identifier."""
    return '"' + name.replace('"', '""') + '"'


def text(value: str) -> str:
    """A text literal."""
    return "'" + value.replace("'", "''") + "'"
