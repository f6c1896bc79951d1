"""Rows that are stored, as people read them: related rows by their names."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo

from ..language.cursor import Cursor, Skip
from ..language.diagnostics import Report
from ..language.expressions import expression
from ..language.lexer import lines
from ..language.source import Source
from ..problems import WelbikError, did_you_mean
from ..rules.sql import quote
from ..rules.tree import Node, Step, Type, Value
from ..schema.entries import REMOVED
from ..schema.expressions import condition
from ..schema.model import Computed, Field, Many, Model, Reference, Schema
from ..schema.scope import scope_of
from ..schema.tables import SchemaNames
from ..storage.backend import Database
from ..storage.tables import key_type

_SOME = 500

Read = Callable[[Sequence[Any]], Any]
"""What makes a value of what a row has in some places."""


@dataclass
class _Asked:
    """What a query selects, and how each column is read from it."""

    nodes: list[tuple[Node, str]] = field(default_factory=list)
    readers: list[Read] = field(default_factory=list)


def read_condition(schema: Schema, model: Model, text: str) -> Node:
    """A condition over a model's rows, in the language's own words.

    Raises WelbikError for what is none.
    """
    report = Report()
    node = None
    read = lines(Source("where", text), report)
    try:
        cursor = Cursor(read[0], report)
        node = condition(expression(cursor), model.name, scope_of(schema, report), report)
        if cursor.now.kind != "end":
            node = None
    except (Skip, IndexError):
        node = None
    problems = report.problems()
    if node is None or problems or len(read) > 1:
        told = problems[0] if problems else None
        said = told.message if told else f"{text!r} is no condition"
        remedy = told.remedy if told else 'write one such as "frames > 10 and closed is empty"'
        raise WelbikError(f"--where: {said}", remedy, status=2)
    return node


def _is_number(node: Node) -> bool:
    return isinstance(node, Value) and node.name == "id"


class Stored:
    """The rows of a model in a database: some columns, of the rows that a condition leaves.

    `columns` are paths of names; the model's own members where none is given. `sort` has
    paths too, each with a minus before it where it goes down.
    """

    def __init__(
        self,
        database: Database,
        schema: Schema,
        model: Model,
        timezone: str,
        columns: Sequence[str] = (),
        where: Node | None = None,
        sort: Sequence[str] = (),
    ) -> None:
        self.database, self.schema, self.model = database, schema, model
        self.zone = ZoneInfo(timezone)
        self.sql = database.sql(SchemaNames(schema), zone=timezone)
        self.names = list(columns) or [m.name for m in (*model.members, *model.computed)]
        self.where = where
        self.sort = list(sort) or [str(key) for key in model.sort]
        self.asked = _Asked()
        self.many: dict[int, Many] = {}
        """The relations to many that are shown, by the place of their column."""
        for place, name in enumerate(self.names):
            member = model.by_name.get(name)
            if isinstance(member, Many):
                self.many[place] = member
                # Asked for by itself, for some rows at a time.
                self.asked.readers.append(_nothing)
            else:
                self.asked.readers.append(self._column(model, name.split("."), ()))

    def rows(self, most: int) -> Iterator[list[Any]]:
        """The values of so many rows, one row after another."""
        table = quote(self.model.table)
        shown = [
            self.database.neutral(self.sql.write(node, self.model.table), type_)
            for node, type_ in self.asked.nodes
        ]
        key = SchemaNames(self.schema).key(self.model.name)
        shown += [self.database.read(self.model.table, key)] if self.many else []
        query = f"SELECT {', '.join(shown) or '1'} FROM {table}{self._conditions()}"
        query += f" ORDER BY {', '.join(self._order())} LIMIT "
        if not self.many:
            for row in self.database.each(f"{query}{most}"):
                yield [read(row) for read in self.asked.readers]
            return
        # Nothing else is asked on the connection while rows are read: some at a time.
        for begin in range(0, most, _SOME):
            lot = self.database.run(f"{query}{min(_SOME, most - begin)} OFFSET {begin}")
            some: list[list[Any]] = [[read(row) for read in self.asked.readers] for row in lot]
            if not some:
                return
            keys = [row[-1] for row in lot]
            for place, many in self.many.items():
                names = self._led_to(many, keys)
                for values, key in zip(some, keys, strict=True):
                    values[place] = names.get(key, [])
            yield from some

    def _led_to(self, many: Many, keys: Sequence[Any]) -> dict[Any, list[str]]:
        """The names of the rows that some rows lead to, by their keys."""
        target, names = self.schema.models[many.target], SchemaNames(self.schema)
        asked = _Asked()
        name = self._name(target, (), asked)
        table, pairs = quote(target.table), quote(many.table)
        shown = [
            self.database.neutral(self.sql.write(node, target.table), type_)
            for node, type_ in asked.nodes
        ]
        shown.append(self.database.read(many.table, many.column))
        marks = ", ".join([self.database.mark] * len(keys))
        query = (
            f"SELECT {', '.join(shown)} FROM {table} JOIN {pairs} "
            f"ON {pairs}.{quote(many.target_column)} = {table}.{quote(names.key(target.name))} "
            f"WHERE {pairs}.{quote(many.column)} IN ({{marks}})"
        )
        if "bin" in target.keeps:
            query += f" AND {table}.{quote(REMOVED)} IS NULL"
        query = query.replace("%", "%%") if self.database.mark == "%s" else query
        led: dict[Any, list[str]] = {}
        for row in self.database.run(query.replace("{marks}", marks), keys):
            led.setdefault(row[-1], []).append(str(name(row)))
        return {key: sorted(found) for key, found in led.items()}

    def count(self) -> int:
        """How many rows there are in all that the condition leaves."""
        asked = f"SELECT count(*) FROM {quote(self.model.table)}{self._conditions()}"
        return int(self.database.run(asked)[0][0])

    def _conditions(self) -> str:
        found = []
        if "bin" in self.model.keeps:
            found.append(f"{quote(self.model.table)}.{quote(REMOVED)} IS NULL")
        if self.where is not None:
            found.append(self.sql.write(self.where, self.model.table))
        return f" WHERE {' AND '.join(found)}" if found else ""

    def _order(self) -> Iterator[str]:
        for key in self.sort:
            down, name = key.startswith("-"), key.lstrip("-")
            asked = _Asked()
            self._column(self.model, name.split("."), (), asked)
            # A related row is sorted by what it is shown as, not by the number that finds it.
            shown = [one for one in asked.nodes if not _is_number(one[0])]
            for node, type_ in shown or asked.nodes:
                written = self.sql.write(node, self.model.table)
                if type_.split()[0] == "text":
                    written = self.sql.ordered(written)
                # What is empty comes last, either way.
                yield f"({written}) IS NULL"
                yield f"{written}{' DESC' if down else ''}"
        names = SchemaNames(self.schema)
        yield f"{quote(self.model.table)}.{quote(names.key(self.model.name))}"

    def _column(
        self,
        model: Model,
        path: Sequence[str],
        way: tuple[Step, ...],
        asked: _Asked | None = None,
    ) -> Read:
        """Selects what a path leads to; gives what reads it."""
        asked = asked or self.asked
        name, *rest = path
        member = model.by_name.get(name)
        if isinstance(member, Reference):
            step = Step(model.name, name, member.target, member.required)
            target = self.schema.models[member.target]
            if rest:
                return self._column(target, rest, (*way, step), asked)
            return self._name(target, (*way, step), asked)
        if rest or not isinstance(member, Field | Computed) and name != "id":
            known = [m.name for m in (*model.members, *model.computed)]
            raise WelbikError(
                f"{model.name} has no field {name!r} to be shown",
                did_you_mean(name, known),
                status=2,
            )
        return self._value(model, name, member, way, asked)

    def _value(
        self, model: Model, name: str, member: Any, way: tuple[Step, ...], asked: _Asked
    ) -> Read:
        if isinstance(member, Computed) and way:
            raise WelbikError(
                f"{model.name}.{name} is computed, and shown with its own model alone",
                f"ask for it with: welbik peek {model.name}",
                status=2,
            )
        type_ = member.kind.stored().type if member is not None else key_type(model, self.schema)
        node: Node = Value(model.name, name, Type("other"), way)
        if isinstance(member, Computed):
            node = member.formula
        place = len(asked.nodes)
        asked.nodes.append((node, type_))
        return lambda row: self._read(type_, row[place])

    def _name(self, model: Model, way: tuple[Step, ...], asked: _Asked) -> Read:
        """Selects what a row is shown as; nothing where there is none."""
        key = self._value(model, "id", None, way, asked)
        pieces: list[Read] = []
        for piece in model.shown_as:
            pieces.append(
                self._piece(model, piece.text, way, asked) if piece.is_field else _plain(piece.text)
            )
        return lambda row: None if key(row) is None else "".join(read(row) for read in pieces)

    def _piece(self, model: Model, name: str, way: tuple[Step, ...], asked: _Asked) -> Read:
        member = model.by_name.get(name)
        read = self._column(model, [name], way, asked)
        labels = member.kind.labels() if isinstance(member, Field) else {}
        return lambda row: _told(read(row), labels)

    def _read(self, type_: str, value: Any) -> Any:
        """A value in the neutral form as a Python value; moments are in the site's zone."""
        word, *numbers = type_.split()
        if value is None:
            return None
        if word == "decimal":
            return Decimal(int(value)).scaleb(-int(numbers[1]))
        if word == "boolean":
            return bool(value)
        if word == "seconds":
            return dt.timedelta(seconds=int(value))
        if word in ("integer", "bigint", "reference"):
            return int(value)
        if word == "timestamp":
            return dt.datetime.fromisoformat(value).replace(tzinfo=dt.UTC).astimezone(self.zone)
        if word in ("date", "time"):
            return (dt.date if word == "date" else dt.time).fromisoformat(value)
        readers: dict[str, Callable[[Any], Any]] = {"uuid": UUID, "json": json.loads}
        return readers[word](value) if word in readers else value


def _nothing(row: Sequence[Any]) -> None:
    return None


def _plain(text: str) -> Read:
    return lambda row: text


def _told(value: Any, labels: Any) -> str:
    if isinstance(value, dt.datetime):
        return value.strftime("%Y-%m-%d %H:%M")
    return "" if value is None else str(labels.get(value, value))
