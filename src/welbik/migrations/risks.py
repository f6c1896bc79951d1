"""What stored rows say to a migration, asked before anything of it runs."""

from __future__ import annotations

import contextlib
import datetime as dt
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import NamedTuple

from ..problems import WelbikError
from ..rules.sql import quote
from ..rules.text import as_hours
from ..rules.tree import Node
from ..storage.backend import Database
from ..storage.ddl import indexes_of
from ..storage.tables import Column, Index, Table, Tables, identifier
from .converting import type_of
from .plan import Given, Part, change_of, copied, parts, spelled_in, sql_of, write
from .steps import (
    AddColumn,
    ChangeColumn,
    ChangeKey,
    CopyRows,
    DropColumn,
    DropTable,
    MakeRows,
    RenameColumn,
    RenameTable,
    Run,
    Step,
    after,
)
from .values import node_of, reads

FIRST = 5
"""How many rows of each kind are named."""
_LARGE = 100_000
"""Rows from which on it is said that a table is written anew."""
_INTEGERS = {"integer": 31, "seconds": 31, "bigint": 63, "reference": 31}


@dataclass(frozen=True)
class Risk:
    """Something that rows say to a migration.

    `kind` is refused (it would fail), loss (values go) or cost (it takes time); `count` how many
    rows, and `first` some of them: how each is told, and its value.
    """

    kind: str
    where: str
    what: str
    count: int
    first: tuple[tuple[str, str], ...] = ()
    allowed: bool = False
    remedy: str = ""

    def lines(self) -> list[str]:
        """The risk as people read it: a sentence, and a line for each of the first rows."""
        rows = f"{self.count:,} row{'s' * (self.count != 1)}"
        shown = [f"{name}: {value}" if value else name for name, value in self.first]
        more = (
            [f"and {self.count - len(shown):,} more"] if shown and self.count > len(shown) else []
        )
        return [f"{self.where}: {rows} {self.what}", *(f"  {one}" for one in (*shown, *more))]


class _Shown(NamedTuple):
    """Something that is told of a row: its SQL, and its neutral type where that is known."""

    value: str
    type: str = ""


Told = Mapping[str, Sequence[str]]
"""By table the columns that tell a row, as far as they are known."""


def risks(
    database: Database, tables: Tables, steps: Sequence[Step], today: dt.datetime, told: Told
) -> list[Risk]:
    """What the rows that are stored say to steps, from the tables that a database has.

    What comes after a step written by hand is not asked: nothing is known of the rows by then.
    """
    there = database.table_names()
    found: list[Risk] = []
    keys = {step.table: step.told_by for step in steps if isinstance(step, ChangeKey)}
    renames: list[Step] = []
    touched: set[str] = set()
    for part in parts(tables, steps):
        if isinstance(part, Run):
            break
        renames += part.renames
        called = {s.table: s.name for s in part.renames if isinstance(s, RenameTable)}
        touched = {called.get(name, name) for name in touched}
        part = replace(part, renames=list(renames))
        asking = _Asking(database, tables, part, today, told, there, keys)
        found += asking.later(touched) if touched else asking.risks()
        # A table that is made is told whole, all others by their names.
        tables_of_steps = [getattr(step, "table", "") for step in part.steps]
        touched |= {getattr(table, "name", table) for table in tables_of_steps}
    return found


class _Asking:
    """Asks the rows of the tables of a part, which are still called as they were.

    Each question begins with the tables under the names that they are to have.
    """

    def __init__(
        self,
        database: Database,
        tables: Tables,
        part: Part,
        today: dt.datetime,
        told: Told,
        there: set[str],
        keys: Mapping[str, tuple[str, ...]],
    ) -> None:
        self.database, self.part, self.today, self.told = database, part, today, told
        self.keys = keys
        self.ddl = database.ddl
        self.there, self.names, self.now = _under_new_names(database, tables, part, there)

    def ask(self, question: str) -> list[tuple[object, ...]]:
        return self.database.run(f"{self.names}{question}")

    def count(self, source: str) -> int:
        return int(str(self.ask(f"SELECT count(*) {source}")[0][0]))

    def risks(self) -> list[Risk]:
        found: list[Risk] = []
        for step in self.part.steps:
            if isinstance(step, DropTable):
                found += self._gone(step)
        found += self._new_rows()
        pairs = {old.name: (old, new) for old, new in self.part.changed}
        # Those that are to be told apart otherwise in a moment are asked too.
        come = {name for name in self.keys if name in self.part.renamed.keys() & self.part.after}
        pairs |= {n: (self.part.renamed[n], self.part.after[n]) for n in come - pairs.keys()}
        for old, new in pairs.values():
            if old.name in self.there and self._some(old.name):
                found += self._table(old, new)
        return found

    def later(self, touched: Collection[str]) -> list[Risk]:
        """What can be asked before the steps that come first: of tables that those leave as they are,
        and for the rest, which columns that are there now go."""
        found: list[Risk] = []
        for step in self.part.steps:
            if isinstance(step, DropTable) and step.table not in touched:
                found += self._gone(step)
        for old, new in self.part.changed:
            there = self.now.get(old.name)
            if old.name not in self.there or not self._some(old.name):
                continue
            if {old.name, *self._read(old, new)} & {*touched}:
                same = tuple(c for c in old.columns if there and there.column(c.name) == c)
                found += self._losses(replace(old, columns=same))
            else:
                found += self._table(old, new)
        return found

    def _read(self, old: Table, new: Table) -> Iterator[str]:
        """The tables that answers on the rows of one follow from."""
        yield from (column.references for column in new.columns if column.references)
        for (table, _), given in self.part.given.items():
            if table == old.name:
                yield from (model for model, _ in reads(given.value.node))
                yield given.find.partition(".")[0]

    def _gone(self, step: DropTable) -> Iterator[Risk]:
        """The rows that go with their table."""
        there = not step.leave and step.table in self.there
        count = self.count(f"FROM {quote(step.table)}") if there else 0
        if count:
            yield Risk("loss", step.table, "going with the table", count, allowed=step.loss)

    def _new_rows(self) -> Iterator[Risk]:
        """Rows of which others would be made that their table can't have."""
        for step in self.part.steps:
            if isinstance(step, MakeRows | CopyRows) and step.of in self.there:
                old, new = self.part.renamed[step.of], self.part.after[step.table]
                if isinstance(step, MakeRows):
                    node = node_of(self.part.rows, step.of, step.value)
                    values = {step.column: self._sql(node, step.of)}
                else:
                    given = copied(self.part, step)
                    values = {name: self._sql(one.node, step.of) for name, one in given.items()}
                for column in (column for column in new.columns if column.name in values):
                    conditions = [condition for _, condition in self.ddl.checks(new, column)]
                    if column.type.startswith("text "):
                        length = self.ddl.length(quote(column.name))
                        conditions.append(f"{length} <= {column.type.split()[1]}")
                    for condition in dict.fromkeys(conditions):
                        what = f"of which {new.name}.{column.name} can't be made"
                        yield from self._broken(old, "", what, condition, values, column)

    def _some(self, table: str) -> bool:
        return bool(self.ask(f"SELECT 1 FROM {quote(table)} LIMIT 1"))

    def _table(self, old: Table, new: Table) -> Iterator[Risk]:
        yield from self._losses(old)
        yield from self._unread(old)
        change = change_of(self.ddl, self.part, old, new, self.today)
        values = self._values(old, new, {**change.fills, **change.values})
        touched = {c.name for c in new.columns if c != old.column(c.name)} | {*change.values}
        # They refer to the same rows as before.
        touched -= {name for table, name in self.part.moved if table == old.name}
        for column in new.columns:
            if column.name in touched:
                yield from self._held(old, column, values)
        yield from self._conditions(old, new, values, touched)
        yield from self._doubles(old, new, values, touched)
        yield from self._cost(old, new, bool(touched))

    def _values(self, old: Table, new: Table, given: Mapping[str, str]) -> dict[str, str]:
        """What each column of the table afterwards is of a row now, as SQL."""
        found = {}
        for column in new.columns:
            value = given.get(column.name)
            known = self.part.given.get((old.name, column.name))
            if (old.name, column.name) in self.part.moved:
                value = known = None
            if value is not None and known is not None:
                value = self._guarded(old.name, known)
            if value is None:
                there, empty = old.column(column.name), self.ddl.nothing(column.type)
                value = f"{quote(old.name)}.{quote(column.name)}" if there else empty
            found[column.name] = value
        return found

    def _guarded(self, table: str, given: Given) -> str:
        """What a column gets, or nothing where that can't be told from a row."""
        if given.find and given.find.partition(".")[0] not in self.there:
            return self.ddl.nothing("reference")
        value = sql_of(self.ddl, self.part, table, given, self.today)
        if given.value.fits is None:
            return value
        return f"CASE WHEN {self._sql(given.value.fits, table)} THEN {value} END"

    def _sql(self, node: Node, table: str) -> str:
        return write(self.ddl, self.part.rows, node, table, self.today)

    def _losses(self, old: Table) -> Iterator[Risk]:
        carried = self._carried()
        for step in self.part.steps:
            if isinstance(step, DropColumn) and step.table == old.name and old.column(step.name):
                if (old.name, step.name) in carried:
                    # Somebody said where its values go.
                    continue
                where = f"{quote(old.name)}.{quote(step.name)} IS NOT NULL"
                yield from self._risk(
                    "loss",
                    old,
                    step.name,
                    "losing their value",
                    where,
                    self._column(old, step.name),
                    step.loss,
                )
            if isinstance(step, ChangeColumn) and step.table == old.name:
                given = self.part.given.get((old.name, step.column.name))
                if given is None or given.value.kept is None or step.value:
                    # What somebody wrote an expression for was meant.
                    continue
                kept = self._sql(given.value.kept, old.name)
                there = f"{quote(old.name)}.{quote(step.column.name)}"
                where = f"{there} IS NOT NULL AND NOT {kept}"
                yield from self._risk(
                    "loss",
                    old,
                    step.column.name,
                    "losing a part of their value",
                    where,
                    self._column(old, step.column.name),
                    step.loss,
                )

    def _carried(self) -> set[tuple[str, str]]:
        """The columns, by table, that something else is made from."""
        nodes = [given.value.node for given in self.part.given.values()]
        for step in self.part.steps:
            if isinstance(step, CopyRows):
                nodes += [value.node for value in copied(self.part, step).values()]
        rows = self.part.rows
        return {(model, rows.column(model, name)) for node in nodes for model, name in reads(node)}

    def _unread(self, old: Table) -> Iterator[Risk]:
        """Rows whose value can't be told as one of the new type, or whose row is not there."""
        for (table, name), given in self.part.given.items():
            if table != old.name:
                continue
            node = given.value.node
            while hasattr(node, "operands"):
                node = node.operands[0]
            shown = _Shown(self._sql(node, table), type_of(node, spelled_in(self.part.rows, old)))
            if given.value.fits is not None:
                where = f"NOT {self._sql(given.value.fits, table)}"
                what = "unreadable as what it is to be"
                yield from self._risk("refused", old, name, what, where, shown)
            makes = any(isinstance(step, MakeRows) and step.of == table for step in self.part.steps)
            if given.find and not makes:
                value = sql_of(self.ddl, self.part, table, given, self.today)
                text = self._sql(given.value.node, table)
                where = f"{text} IS NOT NULL AND {value} IS NULL"
                what = f"naming no row of {given.find.partition('.')[0]}"
                yield from self._risk("refused", old, name, what, where, shown)

    def _held(self, old: Table, column: Column, values: Mapping[str, str]) -> Iterator[Risk]:
        """Rows that a column can't have: empty, too long, out of its range, without a row."""
        value, step = values[column.name], self._step(old.name, column.name)
        makes = isinstance(step, AddColumn | ChangeColumn) and step.find
        made = isinstance(step, AddColumn) and step.made
        if column.required and not made:
            unread = self.part.given.get((old.name, column.name))
            where = f"({value}) IS NULL"
            if makes and unread is not None:
                # Its row is made or missed otherwise: here it is about there being no text.
                where = f"({self._sql(unread.value.node, old.name)}) IS NULL"
            if unread is not None and unread.value.fits is not None:
                # Those that can't be read are told already.
                where += f" AND {self._sql(unread.value.fits, old.name)}"
            what = "without a value, and it is required"
            remedy = _remedy(old.column(column.name), column)
            yield from self._risk("refused", old, column.name, what, where, remedy=remedy)
        word, *numbers = column.type.split()
        if word == "text" and numbers:
            where = f"{self.ddl.length(f'({value})')} > {numbers[0]}"
            what = f"longer than {numbers[0]} characters"
            yield from self._risk(
                "refused", old, column.name, what, where, _Shown(value, column.type)
            )
        if word in _INTEGERS:
            most = 2 ** _INTEGERS[word] - 1
            where = f"({value}) NOT BETWEEN {-most - 1} AND {most}" if word != "bigint" else ""
            if where:
                yield from self._risk(
                    "refused", old, column.name, "too large", where, _Shown(value, column.type)
                )
        if word == "decimal":
            whole = 10 ** (int(numbers[0]) - (int(numbers[1]) if self.ddl.exact else 0))
            where = f"abs({value}) >= {whole}"
            yield from self._risk(
                "refused",
                old,
                column.name,
                "with too many digits",
                where,
                _Shown(value, column.type),
            )
        if replace(old, columns=(column,)).bound and not makes and not made:
            there = old.column(column.name)
            if there is None or there.references != column.references or there.type != column.type:
                yield from self._lost(old, column, value)

    def _lost(self, old: Table, column: Column, value: str) -> Iterator[Risk]:
        if column.references not in self.there:
            return
        key = quote(self.part.rows.key(column.references))
        where = f"({value}) IS NOT NULL AND ({value}) NOT IN (SELECT {key} FROM {quote(column.references)})"
        what = f"leading to no row of {column.references}"
        yield from self._risk("refused", old, column.name, what, where, _Shown(value, column.type))

    def _conditions(
        self, old: Table, new: Table, values: Mapping[str, str], touched: set[str]
    ) -> Iterator[Risk]:
        """Rows that would break a condition which is new, or reads what changes."""
        known = dict(one for c in old.columns for one in self.ddl.checks(old, c))
        for column in new.columns:
            for name, condition in self.ddl.checks(new, column):
                if known.get(name) != condition or column.name in touched:
                    what = {
                        "range": "out of range",
                        "length": "of another length",
                        "among": "with none of the choices",
                    }
                    said = next(
                        (w for k, w in what.items() if name.endswith(f"_{k}")),
                        "breaking a condition",
                    )
                    risks = self._broken(old, column.name, said, condition, values, column)
                    remedy = (
                        _called_anew(old.column(column.name), column)
                        if name.endswith("_among")
                        else ""
                    )
                    yield from (replace(risk, remedy=remedy) for risk in risks)
        rules = dict(self.ddl.rules(old))
        says = {identifier(new.name, c.name, "rule"): f"the rule: {c.rule}" for c in new.checks}
        for name, condition in self.ddl.rules(new):
            if rules.get(name) != condition or any(quote(one) in condition for one in touched):
                yield from self._broken(old, "", f"breaking {says[name]}", condition, values)

    def _broken(
        self,
        old: Table,
        name: str,
        what: str,
        condition: str,
        values: Mapping[str, str],
        shown: Column | None = None,
    ) -> Iterator[Risk]:
        told = [quote(f"welbik_{n}") for n, _ in enumerate(self._names(old))]
        listed = [f"{value} AS {quote(n)}" for n, value in values.items()]
        listed += [f"{n.value} AS {t}" for n, t in zip(self._names(old), told, strict=True)]
        inner = f"SELECT {', '.join(listed)} FROM {quote(old.name)}"
        source = f"FROM ({inner}) AS {quote(old.name)} WHERE NOT ({condition})"
        types = [name.type for name in self._names(old)]
        names = [_Shown(one, type_) for one, type_ in zip(told, types, strict=True)]
        value = _Shown(quote(shown.name), shown.type) if shown else _Shown("NULL")
        where = f"{old.name}.{name}" if name else old.name
        yield from self._found("refused", where, what, source, old, [value, *names])

    def _doubles(
        self, old: Table, new: Table, values: Mapping[str, str], touched: set[str]
    ) -> Iterator[Risk]:
        """Values that several rows have and only one may."""
        before = {self.ddl.create_index(old, i) for i in indexes_of(old) if i.unique}
        live = quote("removed_at") if old.column("removed_at") else ""
        key = self.keys.get(new.name, ())
        known = bool(key) and all(new.column(name) for name in key)
        for index in [*indexes_of(new), *([Index(key, True)] if known else [])]:
            if not index.unique:
                continue
            same = self.ddl.create_index(new, index) in before
            if same and not touched & {*index.columns}:
                continue
            if any(self._is_made(old.name, name) for name in index.columns):
                continue
            listed = ", ".join(
                f"{values[n]} AS {quote(f'k{at}')}" for at, n in enumerate(index.columns)
            )
            keys = [quote(f"k{at}") for at in range(len(index.columns))]
            binned = f" WHERE {quote(old.name)}.{live} IS NULL" if index.live and live else ""
            given = " AND ".join(f"{key} IS NOT NULL" for key in keys)
            inner = f"SELECT {listed} FROM {quote(old.name)}{binned}"
            group = f"SELECT {', '.join(keys)}, count(*) AS n FROM ({inner}) AS t WHERE {given} GROUP BY {', '.join(keys)} HAVING count(*) > 1"
            count = int(str(self.ask(f"SELECT coalesce(sum(n), 0) FROM ({group}) AS d")[0][0]))
            if not count:
                continue
            columns = [new.column(name) for name in index.columns]
            shown = [_Shown(k, c.type) for k, c in zip(keys, columns, strict=True) if c]
            asked = ", ".join(map(self._neutral, shown))
            rows = self.ask(f"SELECT {asked}, n FROM ({group}) AS d ORDER BY n DESC LIMIT {FIRST}")
            first = [
                (
                    ", ".join(_text(v, s.type) for v, s in zip(row, shown, strict=False)),
                    f"{row[-1]} rows",
                )
                for row in rows
            ]
            where = f"{old.name}.{' and '.join(index.columns)}"
            what = "with a value that another one has, and it is unique"
            yield Risk("refused", where, what, count, tuple(first))

    def _cost(self, old: Table, new: Table, rewritten: bool) -> Iterator[Risk]:
        anew = self.ddl.reshape(change_of(self.ddl, self.part, old, new, self.today), {})
        if not (rewritten and (anew.fill or anew.shrink)):
            return
        count = self.count(f"FROM {quote(old.name)}")
        if count >= _LARGE:
            yield Risk(
                "cost", old.name, "to be written anew; who writes to them waits meanwhile", count
            )

    def _step(self, table: str, column: str) -> Step | None:
        for step in self.part.steps:
            if isinstance(step, AddColumn | ChangeColumn) and (
                (step.table, step.column.name) == (table, column)
            ):
                return step
        return None

    def _is_made(self, table: str, column: str) -> bool:
        step = self._step(table, column)
        return isinstance(step, AddColumn) and bool(step.made)

    def _names(self, table: Table) -> list[_Shown]:
        """What tells a row: columns of its name, and its key."""
        known = [name for name in self.told.get(table.name, ()) if table.column(name)]
        columns = [*known, *table.told_by]
        return [self._column(table, name) for name in columns]

    @staticmethod
    def _column(table: Table, name: str) -> _Shown:
        column = table.column(name)
        return _Shown(f"{quote(table.name)}.{quote(name)}", column.type if column else "integer")

    def _neutral(self, shown: _Shown) -> str:
        return self.database.neutral(shown.value, shown.type) if shown.type else shown.value

    def _risk(
        self,
        kind: str,
        old: Table,
        name: str,
        what: str,
        where: str,
        shown: _Shown | None = None,
        allowed: bool = False,
        remedy: str = "",
    ) -> Iterator[Risk]:
        """The risk that rows of a table meet a condition, where some do."""
        source = f"FROM {quote(old.name)} WHERE {where}"
        told = [shown or _Shown("NULL"), *self._names(old)]
        for risk in self._found(kind, f"{old.name}.{name}", what, source, old, told):
            yield replace(risk, allowed=allowed, remedy=remedy)

    def _found(
        self, kind: str, where: str, what: str, source: str, old: Table, shown: Sequence[_Shown]
    ) -> Iterator[Risk]:
        """The rows of a source, where there are some: a value of each, and what tells it."""
        count = self.count(source)
        if not count:
            return
        asked = ", ".join(map(self._neutral, shown))
        rows = self.ask(f"SELECT {asked} {source} ORDER BY {shown[-1].value} LIMIT {FIRST}")
        first = []
        for row in rows:
            value, *names = [
                None if v is None else _text(v, s.type) for v, s in zip(row, shown, strict=True)
            ]
            name = " ".join(one for one in names[:-1] if one is not None)
            first.append((name or f"{old.name} {names[-1]}", value or ""))
        yield Risk(kind, where, what, count, tuple(first))


def _remedy(before: Column | None, column: Column) -> str:
    """What to do where rows would be without what is required of them."""
    if column.references:
        other = column.references
        way = f"each row can then be given its {other} on its page, or many at once from the list"
        return f"declare {column.name} without 'required': {way}; or say which they get: was …"
    if before is not None:
        return f"say what rows without one get: {column.name} …, required, was coalesce({column.name}, …)"
    return (
        f"give it a default, say what they get ({column.name} …, required, was …), "
        "or declare it without 'required'"
    )


def _under_new_names(
    database: Database, tables: Tables, part: Part, there: set[str]
) -> tuple[set[str], str, Tables]:
    """The tables that are there by the names they get, what a question begins with for those, and
    how they are now, likewise under new names."""
    now = {name: name for name in there}
    known = dict(tables)
    for step in part.renames:
        # What an earlier part makes has no name here yet.
        with contextlib.suppress(WelbikError):
            known = after(known, [step])
    columns: dict[str, dict[str, str]] = {}
    for step in part.renames:
        if isinstance(step, RenameTable) and step.table in now:
            now[step.name] = now.pop(step.table)
            columns[step.name] = columns.pop(step.table, {})
        elif isinstance(step, RenameColumn) and step.table in now:
            names = columns.setdefault(step.table, {})
            names[step.name] = names.pop(step.old, step.old)
    said = []
    for name in columns:
        table = known[name]
        own = [table.number] if table.numbered else []
        listed = ", ".join(
            f"{quote(columns[name].get(c, c))} AS {quote(c)}"
            for c in (*own, *(column.name for column in table.columns))
        )
        said.append(f"{quote(name)} AS (SELECT {listed} FROM {database.outside(now[name])})")
    return set(now), f"WITH {', '.join(said)} " if said else "", known


def _text(value: object, type_: str) -> str:
    """A value of the neutral form as people read it."""
    word, *numbers = type_.split() or [""]
    if word == "decimal" and isinstance(value, int):
        value = Decimal(value).scaleb(-int(numbers[1]))
    if word == "seconds" and isinstance(value, int):
        value = as_hours(dt.timedelta(seconds=value))
    if word == "boolean":
        value = "yes" if value else "no"
    shown = " ".join(str(value).split())
    shown = shown.partition(".")[0] if word in ("timestamp", "time") else shown
    return shown if len(shown) <= 60 else f"{shown[:59]}…"


def _called_anew(there: Column | None, column: Column) -> str:
    """What to do where choices went and others came."""
    gone = [choice for choice in there.among if choice not in column.among] if there else []
    new = [choice for choice in column.among if there and choice not in there.among]
    if not gone or not new:
        return ""
    said = f"say what a choice is called now, such as: {new[0]} was {gone[0]}"
    return f"{said}; or mend these rows, or loosen the declaration"
