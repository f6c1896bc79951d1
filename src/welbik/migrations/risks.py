"""What stored rows say to a migration, asked before anything of it runs."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from ..rules.sql import quote
from ..rules.tree import Node
from ..storage.backend import Database
from ..storage.ddl import indexes_of
from ..storage.tables import Column, Table, Tables
from .plan import Given, Part, change_of, parts, sql_of, write
from .steps import (
    AddColumn,
    ChangeColumn,
    DropColumn,
    DropTable,
    MakeRows,
    RenameColumn,
    RenameTable,
    Run,
    Step,
)

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


Told = Mapping[str, Sequence[str]]
"""By table the columns that tell a row, as far as they are known."""


def risks(
    database: Database, tables: Tables, steps: Sequence[Step], today: dt.datetime, told: Told
) -> list[Risk]:
    """What the rows that are stored say to steps, from the tables that a database has.

    After a step written by hand nothing is known of the rows any more, so what comes then is
    not asked.
    """
    there = database.table_names()
    found: list[Risk] = []
    for part in parts(tables, steps):
        if isinstance(part, Run):
            break
        found += _Asking(database, part, today, told, there).risks()
        if part.steps:
            # What comes then would be asked of rows that are not yet as it finds them.
            break
    return found


class _Asking:
    """Asks the rows of the tables of a part, which are still called as they were.

    Each question begins with the tables under the names that they are to have.
    """

    def __init__(
        self, database: Database, part: Part, today: dt.datetime, told: Told, there: set[str]
    ) -> None:
        self.database, self.part, self.today, self.told = database, part, today, told
        self.ddl = database.ddl
        self.there, self.names = _under_new_names(database, part, there)

    def ask(self, question: str) -> list[tuple[object, ...]]:
        return self.database.run(f"{self.names}{question}")

    def count(self, source: str) -> int:
        return int(str(self.ask(f"SELECT count(*) {source}")[0][0]))

    def risks(self) -> list[Risk]:
        found: list[Risk] = []
        for step in self.part.steps:
            if isinstance(step, DropTable) and step.table in self.there:
                count = self.count(f"FROM {quote(step.table)}")
                if count:
                    found.append(
                        Risk("loss", step.table, "go with the table", count, allowed=step.loss)
                    )
        for old, new in self.part.changed:
            if old.name in self.there and self._some(old.name):
                found += self._table(old, new)
        return found

    def _some(self, table: str) -> bool:
        return bool(self.ask(f"SELECT 1 FROM {quote(table)} LIMIT 1"))

    def _table(self, old: Table, new: Table) -> Iterator[Risk]:
        yield from self._losses(old)
        yield from self._unread(old)
        change = change_of(self.ddl, self.part, old, new, self.today)
        values = self._values(old, new, {**change.fills, **change.values})
        touched = {c.name for c in new.columns if c != old.column(c.name)} | {*change.values}
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
            if value is not None and known is not None:
                value = self._guarded(old.name, known)
            if value is None:
                there = old.column(column.name)
                value = f"{quote(old.name)}.{quote(column.name)}" if there else "NULL"
            found[column.name] = value
        return found

    def _guarded(self, table: str, given: Given) -> str:
        """What a column gets, or nothing where that can't be told from a row."""
        value = sql_of(self.ddl, self.part, table, given, self.today)
        if given.value.fits is None:
            return value
        return f"CASE WHEN {self._sql(given.value.fits, table)} THEN {value} END"

    def _sql(self, node: Node, table: str) -> str:
        return write(self.ddl, self.part.rows, node, table, self.today)

    def _losses(self, old: Table) -> Iterator[Risk]:
        for step in self.part.steps:
            if isinstance(step, DropColumn) and step.table == old.name and old.column(step.name):
                where = f"{quote(old.name)}.{quote(step.name)} IS NOT NULL"
                yield from self._risk(
                    "loss", old, step.name, "lose their value", where, quote(step.name), step.loss
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
                    "lose a part of their value",
                    where,
                    there,
                    step.loss,
                )

    def _unread(self, old: Table) -> Iterator[Risk]:
        """Rows whose value can't be told as one of the new type, or whose row is not there."""
        for (table, name), given in self.part.given.items():
            if table != old.name:
                continue
            node = given.value.node
            while hasattr(node, "operands"):
                node = node.operands[0]
            shown = self._sql(node, table)
            if given.value.fits is not None:
                where = f"NOT {self._sql(given.value.fits, table)}"
                what = "can't be read as what it is to be"
                yield from self._risk("refused", old, name, what, where, shown)
            makes = any(isinstance(step, MakeRows) and step.of == table for step in self.part.steps)
            if given.find and not makes:
                value = sql_of(self.ddl, self.part, table, given, self.today)
                text = self._sql(given.value.node, table)
                where = f"{text} IS NOT NULL AND {value} IS NULL"
                what = f"name no row of {given.find.partition('.')[0]}"
                yield from self._risk("refused", old, name, what, where, shown)

    def _held(self, old: Table, column: Column, values: Mapping[str, str]) -> Iterator[Risk]:
        """Rows that a column can't have: empty, too long, out of its range, without a row."""
        value, step = values[column.name], self._step(old.name, column.name)
        makes = isinstance(step, AddColumn | ChangeColumn) and step.find
        made = isinstance(step, AddColumn) and step.made
        if column.required and not made and not makes:
            unread = self.part.given.get((old.name, column.name))
            where = f"({value}) IS NULL"
            if unread is not None and unread.value.fits is not None:
                # Those that can't be read are told already.
                where += f" AND {self._sql(unread.value.fits, old.name)}"
            what = "have no value, and it is required"
            remedy = _remedy(old.column(column.name), column)
            yield from self._risk("refused", old, column.name, what, where, remedy=remedy)
        word, *numbers = column.type.split()
        if word == "text" and numbers:
            where = f"{self.ddl.length(f'({value})')} > {numbers[0]}"
            what = f"are longer than {numbers[0]} characters"
            yield from self._risk("refused", old, column.name, what, where, value)
        if word in _INTEGERS:
            most = 2 ** _INTEGERS[word] - 1
            where = f"({value}) NOT BETWEEN {-most - 1} AND {most}" if word != "bigint" else ""
            if where:
                yield from self._risk("refused", old, column.name, "are too large", where, value)
        if word == "decimal":
            whole = 10 ** (int(numbers[0]) - (int(numbers[1]) if self.ddl.exact else 0))
            where = f"abs({value}) >= {whole}"
            yield from self._risk("refused", old, column.name, "have too many digits", where, value)
        if column.references and not makes and not made:
            there = old.column(column.name)
            if there is None or there.references != column.references or there.type != column.type:
                yield from self._lost(old, column, value)

    def _lost(self, old: Table, column: Column, value: str) -> Iterator[Risk]:
        if column.references not in self.there:
            return
        key = quote(self.part.rows.key(column.references))
        where = f"({value}) IS NOT NULL AND ({value}) NOT IN (SELECT {key} FROM {quote(column.references)})"
        what = f"refer to no row of {column.references}"
        yield from self._risk("refused", old, column.name, what, where, value)

    def _conditions(
        self, old: Table, new: Table, values: Mapping[str, str], touched: set[str]
    ) -> Iterator[Risk]:
        """Rows that would break a condition which is new, or reads what changes."""
        known = dict(one for c in old.columns for one in self.ddl.checks(old, c))
        for column in new.columns:
            for name, condition in self.ddl.checks(new, column):
                if known.get(name) != condition or column.name in touched:
                    what = {
                        "range": "are out of range",
                        "length": "have another length",
                        "among": "are none of the choices",
                    }
                    said = next(
                        (w for k, w in what.items() if name.endswith(f"_{k}")), "break a check"
                    )
                    yield from self._broken(old, column.name, said, condition, values, column.name)
        rules = dict(self.ddl.rules(old))
        texts = {check.name: check.rule for check in new.checks}
        for (name, condition), rule in zip(self.ddl.rules(new), texts.values(), strict=True):
            if rules.get(name) != condition or any(quote(one) in condition for one in touched):
                yield from self._broken(old, "", f"break the rule: {rule}", condition, values)

    def _broken(
        self,
        old: Table,
        name: str,
        what: str,
        condition: str,
        values: Mapping[str, str],
        shown: str = "",
    ) -> Iterator[Risk]:
        listed = ", ".join(f"{value} AS {quote(n)}" for n, value in values.items())
        told = ", ".join(
            f"{one} AS {quote(f'welbik_{n}')}" for n, one in enumerate(self._names(old))
        )
        inner = f"SELECT {told}, {listed} FROM {quote(old.name)}"
        source = f"FROM ({inner}) AS {quote(old.name)} WHERE NOT ({condition})"
        count = self.count(source)
        if not count:
            return
        names = ", ".join(quote(f"welbik_{n}") for n in range(len(self._names(old))))
        value = self._shown(old, quote(shown), shown) if shown else "NULL"
        rows = self.ask(f"SELECT {value}, {names} {source} ORDER BY 2 LIMIT {FIRST}")
        where = f"{old.name}.{name}" if name else old.name
        yield Risk("refused", where, what, count, tuple(self._first(old, rows)))

    def _doubles(
        self, old: Table, new: Table, values: Mapping[str, str], touched: set[str]
    ) -> Iterator[Risk]:
        """Values that several rows have and only one may."""
        before = {self.ddl.create_index(old, i) for i in indexes_of(old) if i.unique}
        live = quote("removed_at") if old.column("removed_at") else ""
        for index in indexes_of(new):
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
            if count:
                shown = [
                    self._shown(new, key, n) for key, n in zip(keys, index.columns, strict=True)
                ]
                rows = self.ask(
                    f"SELECT {', '.join(shown)}, n FROM ({group}) AS d ORDER BY n DESC LIMIT {FIRST}"
                )
                first = [(", ".join(map(_text, row[:-1])), f"{row[-1]} rows") for row in rows]
                where = f"{old.name}.{' and '.join(index.columns)}"
                yield Risk(
                    "refused",
                    where,
                    "have a value that another one has, and it is unique",
                    count,
                    tuple(first),
                )

    def _cost(self, old: Table, new: Table, rewritten: bool) -> Iterator[Risk]:
        anew = self.ddl.reshape(change_of(self.ddl, self.part, old, new, self.today), {})
        if not (rewritten and (anew.fill or anew.shrink)):
            return
        count = self.count(f"FROM {quote(old.name)}")
        if count >= _LARGE:
            yield Risk("cost", old.name, "are written anew, and wait meanwhile", count)

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

    def _names(self, table: Table) -> list[str]:
        """What tells a row, as SQL: columns of its name, and its key."""
        known = [name for name in self.told.get(table.name, ()) if table.column(name)]
        columns = [*known, table.key or "id"]
        return [self._shown(table, f"{quote(table.name)}.{quote(n)}", n) for n in columns]

    def _shown(self, table: Table, value: str, name: str) -> str:
        column = table.column(name)
        return self.database.neutral(value, column.type) if column else value

    def _risk(
        self,
        kind: str,
        old: Table,
        name: str,
        what: str,
        where: str,
        shown: str = "",
        allowed: bool = False,
        remedy: str = "",
    ) -> Iterator[Risk]:
        """The risk that rows of a table meet a condition, where some do."""
        source = f"FROM {quote(old.name)} WHERE {where}"
        count = self.count(source)
        if count:
            names = ", ".join(self._names(old))
            key = f"{quote(old.name)}.{quote(old.key or 'id')}"
            rows = self.ask(
                f"SELECT {shown or 'NULL'}, {names} {source} ORDER BY {key} LIMIT {FIRST}"
            )
            first = tuple(self._first(old, rows))
            yield Risk(kind, f"{old.name}.{name}", what, count, first, allowed, remedy)

    def _first(self, table: Table, rows: Sequence[Sequence[object]]) -> Iterator[tuple[str, str]]:
        """How rows are told, and their values: a row without a name by its key."""
        for value, *names in rows:
            name = " ".join(_text(one) for one in names[:-1] if one is not None)
            yield name or f"{table.name} {names[-1]}", "" if value is None else _text(value)


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


def _under_new_names(database: Database, part: Part, there: set[str]) -> tuple[set[str], str]:
    """The tables that are there by the names they get, and what a question begins with for those."""
    now = {name: name for name in there}
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
        table = part.renamed[name]
        own = [] if table.key else ["id"]
        listed = ", ".join(
            f"{quote(columns[name].get(c, c))} AS {quote(c)}"
            for c in (*own, *(column.name for column in table.columns))
        )
        said.append(f"{quote(name)} AS (SELECT {listed} FROM {database.outside(now[name])})")
    return set(now), f"WITH {', '.join(said)} " if said else ""


def _text(value: object) -> str:
    shown = " ".join(str(value).split())
    return shown if len(shown) <= 60 else f"{shown[:59]}…"
