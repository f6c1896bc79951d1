"""Every stored row against every declaration, as the database itself answers.

What no query can ask (the entries of a list of parts) is read row by row: memory does not grow
with the rows.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence, Set
from dataclasses import dataclass
from typing import Any

from ..kinds.bounds import FromNow
from ..rules import tree
from ..rules.sql import quote
from ..rules.tree import Apply, Clock, Const, Node, Value
from ..schema.entries import REMOVED
from ..schema.model import Field, Many, Model, Reference, Schema
from ..storage.backend import Database
from ..storage.forms import how
from ..storage.promises import of_bounds, of_list, of_many, of_pattern, of_rule, of_tree
from ..storage.tables import Column, Table, table_of
from .entries import Lists
from .stored import Stored

FIRST = 5
"""How many rows of each kind of break are named."""
_WORDS = {
    "range": "out of range",
    "length": "of another length",
    "among": "with none of the choices",
}


@dataclass(frozen=True)
class Broken:
    """A declaration that stored rows break: how many do, some of them, and the SQL that finds all.

    `at` is a member, or empty for a rule of the whole row; `rows` have the name of a row and its value.
    """

    model: str
    at: str
    what: str
    count: int
    rows: tuple[tuple[str, str], ...]
    sql: str

    def as_json(self) -> dict[str, object]:
        rows = [{"row": name, "value": value} for name, value in self.rows]
        found: dict[str, object] = {"model": self.model, "at": self.at, "what": self.what}
        return found | {"count": self.count, "rows": rows, "sql": self.sql}


class _Breaking(Stored):
    """The rows of a model that an SQL condition holds for: the name of each, and a value."""

    def __init__(
        self,
        database: Database,
        schema: Schema,
        model: Model,
        timezone: str,
        condition: str,
        at: str,
    ) -> None:
        shown = [at] if at in model.by_name and not isinstance(model.by_name[at], Many) else []
        super().__init__(database, schema, model, timezone, shown or ["id"])
        self.condition = condition
        self.sort = []
        self.asked.readers = [self._name(model, (), self.asked)]
        if shown:
            self.asked.readers.append(self._column(model, shown, ()))

    def _conditions(self) -> str:
        return f" WHERE {self.condition}"


class Audit:
    """Asks the stored rows of a schema; `tell` hears of each model that is done.

    With `only` some promises are asked, by table and text (see `storage.promises`), and nothing
    that tables hold.
    """

    def __init__(
        self,
        database: Database,
        schema: Schema,
        timezone: str,
        tell: Callable[[str], None] = lambda model: None,
        only: Set[tuple[str, str]] | None = None,
    ) -> None:
        self.database, self.schema, self.timezone, self.tell = database, schema, timezone, tell
        self.only = only

    def broken(self) -> Iterator[Broken]:
        """Everything that is broken, model after model."""
        for model in self.schema:
            yield from self._model(model)
            self.tell(model.name)

    def _model(self, model: Model) -> Iterator[Broken]:
        table = table_of(model, self.schema)
        for member in model.members:
            column = table.column(member.column)
            assert column is not None
            yield from self._column(model, table, member, column)
        for rule in model.rules:
            if not self._asks(model, of_rule(rule)):
                continue
            condition = f"NOT ({self._sql(rule.node, model)})"
            yield from self._found(
                model, rule.at, f"breaking the rule: {rule.text}", condition, live=True
            )
        if self.only is None:
            yield from self._uniques(model, table)
        for many in model.many:
            if many.required and many.declares and self._asks(model, of_many(many)):
                pairs, own = quote(many.table), quote(many.column)
                key = f"{quote(table.name)}.{quote(table.own)}"
                condition = f"NOT EXISTS (SELECT 1 FROM {pairs} WHERE {pairs}.{own} = {key})"
                yield from self._found(
                    model, many.name, "without any, and one is required", condition
                )
        yield from self._lists(model, table)

    def _asks(self, model: Model, promise: str) -> bool:
        return self.only is None or (model.table, promise) in self.only

    def _column(
        self, model: Model, table: Table, member: Field | Reference, column: Column
    ) -> Iterator[Broken]:
        name = f"{quote(table.name)}.{quote(column.name)}"
        if column.required and column.empty is None and self.only is None:
            yield from self._found(
                model, member.name, "without a value, and it is required", f"{name} IS NULL"
            )
        checks = self.database.ddl.checks(table, column) if self.only is None else ()
        for what, condition in checks:
            said = next(
                (w for end, w in _WORDS.items() if what.endswith(f"_{end}")), "not as declared"
            )
            yield from self._found(model, member.name, said, f"NOT ({condition})")
        if isinstance(member, Reference):
            held = how(column)
            told = self.database.sql.held(held, name) if held is not None else name
            yield from self._reference(model, member, told)
            return
        if member.pattern is not None and self._asks(model, of_pattern(member)):
            read = Value(model.name, member.name, tree.TEXT)
            matching = Apply("matches", (read,), tree.BOOLEAN, member.pattern)
            what = f"not matching {member.pattern.text}"
            yield from self._found(model, member.name, what, f"NOT {self._sql(matching, model)}")
        moving = _moving(model, member) if self._asks(model, of_bounds(member)) else ()
        for node, what in moving:
            yield from self._found(model, member.name, what, f"NOT {self._sql(node, model)}")

    def _reference(self, model: Model, member: Reference, name: str) -> Iterator[Broken]:
        target = self.schema.models[member.target]
        other, key = quote(target.table), quote(self._key(target))
        # The key comes first: where databases compare in a column's own way, it is the first one's.
        found = f"SELECT 1 FROM {other} AS led_to WHERE led_to.{key} = {name}"
        condition = f"{name} IS NOT NULL AND NOT EXISTS ({found})"
        if self.only is None:
            what = f"leading to no {target.singular}"
            yield from self._found(model, member.name, what, condition)
        is_tree = member.target == model.name and not member.loops
        if is_tree and self._asks(model, of_tree(member)):
            own = quote(self._key(model))
            # What a way from a row without a parent that is there does not reach stands in a circle.
            first = f"{name} IS NULL OR {name} NOT IN (SELECT p.{own} FROM {other} AS p)"
            reached = (
                f"WITH RECURSIVE reached(k) AS (SELECT {own} FROM {other} WHERE {first} "
                f"UNION SELECT c.{own} FROM {other} AS c JOIN reached ON c.{quote(member.column)} = reached.k) "
                "SELECT k FROM reached"
            )
            condition = f"{name} IS NOT NULL AND {quote(model.table)}.{own} NOT IN ({reached})"
            yield from self._found(model, member.name, "standing in a circle", condition)

    def _uniques(self, model: Model, table: Table) -> Iterator[Broken]:
        live = "bin" in model.keeps
        groups: list[tuple[str, tuple[str, ...]]] = [
            (m.name, (m.column,)) for m in model.members if m.unique and m.name != model.key
        ]
        groups += [
            (" and ".join(u.names), tuple(model.stored(n).column for n in u.names))
            for u in model.uniques
        ]
        for at, columns in groups:
            names = [quote(column) for column in columns]
            given = " AND ".join(f"{name} IS NOT NULL" for name in names)
            given += f" AND {quote(REMOVED)} IS NULL" if live else ""
            group = (
                f"SELECT {', '.join(names)} FROM {quote(table.name)} WHERE {given} "
                f"GROUP BY {', '.join(names)} HAVING count(*) > 1"
            )
            tie = " AND ".join(f"twice.{name} = {quote(table.name)}.{name}" for name in names)
            condition = f"EXISTS (SELECT 1 FROM ({group}) AS twice WHERE {tie})"
            yield from self._found(
                model, at, "with what another row has, and it is unique", condition, live=live
            )

    def _lists(self, model: Model, table: Table) -> Iterator[Broken]:
        """The entries of lists: read one row after another."""
        for field in model.fields:
            if not field.kind.part or not self._asks(model, of_list(field)):
                continue
            lists = Lists(field, self.timezone)
            rows = _Breaking(self.database, self.schema, model, self.timezone, "1 = 1", field.name)
            count, first = 0, list[tuple[str, str]]()
            for name, value in rows.rows(2**62):
                said = lists.wrong(value)
                if said:
                    count += 1
                    first += [(str(name), said)] if len(first) < FIRST else []
            if count:
                where = f"{quote(field.column)} IS NOT NULL"
                sql = f"SELECT * FROM {quote(table.name)} WHERE {where}"
                yield Broken(
                    model.name,
                    field.name,
                    "with an entry that is not as declared",
                    count,
                    tuple(first),
                    sql,
                )

    def _found(
        self, model: Model, at: str, what: str, condition: str, *, live: bool = False
    ) -> Iterator[Broken]:
        if live and "bin" in model.keeps:
            condition = f"{quote(model.table)}.{quote(REMOVED)} IS NULL AND {condition}"
        source = f"{quote(model.table)} WHERE {condition}"
        count = int(self.database.run(f"SELECT count(*) FROM {source}")[0][0])
        if not count:
            return
        rows = _Breaking(self.database, self.schema, model, self.timezone, condition, at)
        first = tuple((str(name), _shown(value)) for name, *value in rows.rows(FIRST))
        yield Broken(model.name, at, what, count, first, f"SELECT * FROM {source}")

    def _sql(self, node: Node, model: Model) -> str:
        from ..schema.tables import SchemaNames

        return self.database.sql(SchemaNames(self.schema), zone=self.timezone).write(
            node, model.table
        )

    @staticmethod
    def _key(model: Model) -> str:
        if model.keys:
            return model.stored(model.keys[0]).column
        return model.stored(model.key).column if model.key else model.number


def _moving(model: Model, member: Field) -> Iterator[tuple[Node, str]]:
    """The bounds of a field that move with the clock, as conditions."""
    bounds = getattr(member.kind, "bounds", None)
    own = Value(model.name, member.name, member.kind.value_type())
    for end, side in ((bounds.low, "before"), (bounds.high, "after")) if bounds else ():
        if not isinstance(end, FromNow):
            continue
        moment: Node = Clock(end.word, own.type)
        if end.days:
            moment = Apply("shift", (moment, Const(end.days, tree.DAYS)), own.type)
        pair = (moment, own) if side == "before" else (own, moment)
        yield Apply("<=", pair, tree.BOOLEAN), f"{side} {end}"


def _shown(value: Sequence[Any]) -> str:
    if not value or value[0] is None:
        return ""
    given = value[0]
    if isinstance(given, dt.datetime):
        given = given.strftime("%Y-%m-%d %H:%M")
    if isinstance(given, bool):
        given = "yes" if given else "no"
    text = " ".join(str(given).split())
    return text if len(text) <= 60 else f"{text[:59]}…"
