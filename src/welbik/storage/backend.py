"""What a database is to us: how it is opened, read, loaded and changed.

A file beside this one for each database says what that does its own way. Rows go in and
come out in the neutral form (see `neutral`).
"""

from __future__ import annotations

import json
from abc import abstractmethod
from collections.abc import Callable, Container, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from types import TracebackType
from typing import Any, ClassVar, Self

from ..problems import WelbikError
from ..rules.sql import Sql, quote
from ..schema.entries import REMOVED
from .address import Address, renamed
from .books import Books
from .catalog import Catalog
from .checks import TableNames, check_sql
from .ddl import Ddl
from .forms import how
from .packing import Packed, Packing
from .tables import SENT, Table, Tables

BOOKS = "welbik_migration"
LOOKS = "welbik_tables"
"""How the tables looked when the last migration had run."""

_AT_ONCE = 500
"""Rows in one statement: each database takes only so many values."""

READ_SECONDS, SURVEY_SECONDS = 60, 10
"""How long a statement may take that reads stored rows, and one that surveys tables of others."""

BUSY_SECONDS = 10
"""How long a command waits for somebody else who changes the database."""

UNDO = "undo "  # Before the name of a migration while it is undone.
_LIVE = f" WHERE {quote(REMOVED)} IS NULL"
_BOOKS = {"number": "integer", "name": "text 200", "digest": "text 64", "schema": "text 16"}
_BOOKS["applied"] = "timestamp"
_LOOKS = {"table_name": "text 200", "look": "text"}

Statements = Sequence["str | Callable[[Database], object]"]
"""SQL in order, and functions between it that are given the database."""


class Database(Books):
    """An open database. Every method raises WelbikError where it can't serve."""

    word: ClassVar[str]
    """What it is called in addresses, and on the command line."""
    requirement: ClassVar[str] = ""
    """The driver, as `pip install` takes it; empty where Python has it."""
    sql: ClassVar[type[Sql]]
    ddl: ClassVar[Ddl]
    reserved: ClassVar[tuple[str, ...]] = ("welbik_",)
    """How the names of tables begin that are for Welbik's, or the database's, own use."""
    mark: ClassVar[str] = "%s"
    """What stands for a value in a statement."""
    errors: tuple[type[Exception], ...]
    """What its driver raises."""

    has_schemas: ClassVar[bool] = False
    """Whether tables stand in schemas, one of which is searched first."""
    by_lines: ClassVar[bool] = False
    """Whether it loads rows as text, a line each."""
    in_a_file: ClassVar[bool] = False
    """Whether its address is that of a file."""

    where: str
    """Where it is, for people to read."""
    timezone: str = "UTC"
    tables: Tables

    @classmethod
    @abstractmethod
    def open(
        cls, address: Address, root: Path, *, create: bool = False, loads: bool = False
    ) -> Self:
        """The open database; `create` makes a missing one, `loads` allows bulk loading."""

    @classmethod
    def place(cls, address: Address, root: Path) -> str:
        """Where the database is, for people to read."""
        return address.shown

    @classmethod
    def is_missing(cls, address: Address, root: Path) -> bool:
        """Whether it is known, without opening it, that there is none yet."""
        return False

    @classmethod
    def beside(cls, address: str, folder: Path, name: str) -> str:
        """The address of another database of this kind: on the same server, or in a folder."""
        return renamed(address, name)

    @classmethod
    @abstractmethod
    def make(cls, address: Address) -> None:
        """Makes the database of an address, where opening it does not."""

    @classmethod
    @abstractmethod
    def remove(cls, address: Address) -> None:
        """Takes the database of an address away, with all that it holds."""

    @abstractmethod
    def close(self) -> None: ...

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: object, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
        if isinstance(error, self.errors):
            # What nothing within knew how to take: no command ends in what a driver says.
            raise self.refused(error) from error

    @abstractmethod
    def run(self, statement: str, values: Sequence[object] = ()) -> list[tuple[Any, ...]]:
        """Runs a statement; the rows that it gives.

        With `values` what `name` gives stands for a table or column.
        """

    @abstractmethod
    def each(self, statement: str) -> Iterator[tuple[Any, ...]]:
        """The rows of a query one after another: memory does not grow with them."""

    def name(self, identifier: str) -> str:
        """A table or column in a statement that is run with values."""
        return quote(identifier).replace("%", "%%") if self.mark == "%s" else quote(identifier)

    def outside(self, table: str) -> str:
        """A table in a query that has something else of the same name."""
        return quote(table)

    def prepare(self, tables: Tables, timezone: str) -> None:
        """Readies the database for rules and rows of some tables."""
        self.tables = tables
        self.keep_time(timezone)

    def keep_time(self, timezone: str) -> None:
        """Says by whose clocks days begin."""
        self.timezone = timezone

    def type_of(self, table: str, column: str) -> str:
        """The neutral type of a column; those of keys that are numbers are integers."""
        known = self.tables[table].column(column) if table in self.tables else None
        return known.type if known is not None else "integer"

    def neutral(self, expression: str, type_: str) -> str:
        """An expression as SQL that gives its value in the neutral form."""
        return expression

    def read(self, table: str, column: str) -> str:
        """A column as SQL that gives its value in the neutral form, however it is held."""
        known = self.tables[table].column(column) if table in self.tables else None
        held = how(known)
        found = self.sql.held(held, quote(column)) if held is not None else quote(column)
        return self.neutral(found, self.type_of(table, column))

    def packing(self, table: str, names: Sequence[str]) -> Packing:
        """How rows of a table are made ready for `store`."""
        known = self.tables.get(table)
        columns = tuple(known.column(name) if known else None for name in names)
        types = tuple(self.type_of(table, name) for name in names)
        ways = (self.ddl.exact, self.by_lines, self.ddl.bits_as_letters)
        return Packing(table, tuple(names), columns, types, *ways)

    def number_of(self, table: str) -> str:
        """The column that numbers the rows of a table."""
        return self.tables[table].number if table in self.tables else "id"

    def most(self, table: str) -> int:
        """The highest number of a table's rows; 0 without any."""
        number = quote(self.number_of(table))
        return int(self.run(f"SELECT coalesce(max({number}), 0) FROM {quote(table)}")[0][0])

    # Transactions

    @abstractmethod
    def _begin(self) -> None:
        """Begins a transaction that nobody else's changes come into."""

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """All or nothing; waits a while for another writer. References are checked at the end."""
        with self._committing(self._begin):
            yield

    @contextmanager
    def alongside(self) -> Iterator[None]:
        """A transaction that adds rows while others add theirs."""
        with self._committing(self._begin_alongside):
            yield

    @contextmanager
    def _committing(self, begin: Callable[[], None]) -> Iterator[None]:
        try:
            begin()
        except self.errors as error:
            raise self.in_use(error) from None
        try:
            yield
            self._before_commit()
            self.run("COMMIT")
        except BaseException as error:
            self._roll_back()
            if isinstance(error, self.errors):
                raise self.refused(error) from error
            raise

    def _begin_alongside(self) -> None:
        self._begin()

    def _before_commit(self) -> None:
        """What must still be done, or asked, before a transaction ends."""
        return

    def _roll_back(self) -> None:
        self.run("ROLLBACK")

    def refused(self, error: Exception) -> WelbikError:
        return WelbikError(
            f"the database refused a change: {self.told(error)}", "nothing was changed"
        )

    def told(self, error: Exception) -> str:
        """What an error of the driver says, on one line."""
        return " ".join(str(error).split())

    def lacks_privilege(self, error: Exception, grant: str) -> WelbikError:
        return WelbikError(
            f"the user of {self.where} lacks a privilege: {self.told(error)}",
            f"let the server's keeper give it: {grant}; nothing was changed",
        )

    def in_use(self, error: Exception) -> WelbikError:
        return WelbikError(
            f"the database {self.where} is in use: {self.told(error)}",
            "stop what writes to it, then try again",
        )

    @contextmanager
    def attempt(self) -> Iterator[Callable[[], None]]:
        """Part of a transaction that can be taken back: gives what does so."""

        def take_back() -> None:
            self.run("ROLLBACK TO SAVEPOINT attempt")

        self.run("SAVEPOINT attempt")
        yield take_back
        self.run("RELEASE SAVEPOINT attempt")

    @abstractmethod
    def limit_statements(self, seconds: int) -> None:
        """Cancels every statement from now on that takes longer; it raises the driver's error."""

    @contextmanager
    def asking(self) -> Iterator[Callable[[], None]]:
        """A question that may be refused: gives what has the transaction go on after that."""
        yield lambda: None

    @abstractmethod
    def table_names(self) -> set[str]: ...

    @abstractmethod
    def catalog(self) -> Catalog:
        """All tables and views that are there, by whoever they were made."""

    @abstractmethod
    @contextmanager
    def reading(self) -> Iterator[None]:
        """Reads alone, and all from one moment on, whoever writes meanwhile."""

    @abstractmethod
    def look(self, table: str) -> dict[str, str]:
        """All there is to know of a table, as the database tells it.

        Keys such as `column code`, `check hive_frames_range`, `index …`, `reference …` and `key`;
        two tables are made alike just when these are equal.
        """

    @abstractmethod
    def references(self, table: str) -> list[tuple[str, str, str]]:
        """The columns of a table that refer to others: to which, and what becomes of them when
        what they refer to goes (`CASCADE`, `SET NULL` or `NO ACTION`); sorted."""

    def applied(self) -> list[tuple[str, str, str]]:
        """The migrations that ran here, in order: name, digest, fingerprint."""
        if BOOKS not in self.table_names():
            return []
        names = ", ".join(map(quote, ("name", "digest", "schema")))
        rows = self.run(f"SELECT {names} FROM {quote(BOOKS)} ORDER BY {quote('number')}")
        return [(str(name), str(digest), str(schema)) for name, digest, schema in rows]

    def migrate(
        self, name: str, digest: str, schema: str, work: Callable[[], Statements], number: int = 1
    ) -> bool:
        """Runs one migration and writes it down, or leaves everything as it was.

        `work` gives the statements, once nobody else changes tables. False where it has run
        meanwhile, by somebody who had the lock before.
        """
        with self._migrating():
            self._make(BOOKS, _BOOKS, "number")
            # Only behind the lock it is known what others have run.
            applied = self.applied()
            if len(applied) >= number and applied[number - 1][1] == digest:
                return False
            if len(applied) != number - 1:
                raise WelbikError(
                    f"other migrations have run on the database since {name} was begun",
                    "nothing was changed; get the newest migrations, then try again",
                )
            by_hand = self._by_hand(name)
            self._run_all(name, digest, work())
            self.note_tables(by_hand)
            now = datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S")
            self._add(BOOKS, [(number, name, digest, schema, now)])
            return True

    def undo(self, name: str, work: Callable[[], Statements], number: int) -> None:
        """Takes back the last migration that ran, and what was written down of it."""
        with self._migrating():
            applied = self.applied()
            if len(applied) != number or applied[-1][0] != name:
                raise WelbikError(
                    f"{name} is not the last migration that ran on the database any more",
                    "nothing was changed; see what is: welbik status",
                )
            by_hand = self._by_hand(f"{UNDO}{name}")
            self._run_all(f"{UNDO}{name}", "", work())
            self.note_tables(by_hand)
            at = f"{self.name('number')} = {self.mark}"
            self.run(f"DELETE FROM {self.name(BOOKS)} WHERE {at}", (number,))

    def is_ours(self, table: str) -> bool:
        """Whether a table is one that Welbik, or the database itself, keeps for its own use."""
        return table.startswith(self.reserved) and table != SENT

    @staticmethod
    def was_migrated(tables: Container[str]) -> bool:
        """Whether Welbik itself made the tables of a database, going by their names."""
        return BOOKS in tables

    def looks(self) -> dict[str, dict[str, str]]:
        """How every table looks that is not for our own use."""
        return {
            name: self.look(name) for name in sorted(self.table_names()) if not self.is_ours(name)
        }

    def _by_hand(self, name: str) -> dict[tuple[str, str], tuple[str | None, str | None]]:
        """What is otherwise than it was noted, before a migration runs: as it was, and as it is."""
        noted = None if name in self.begun() else self.noted()
        if noted is None:
            return {}
        now = self.looks()
        return {
            (table, key): (was.get(key), now[table].get(key))
            for table, was in noted.items()
            if table in now
            for key in was.keys() | now[table].keys()
            if was.get(key) != now[table].get(key)
        }

    def note_tables(self, by_hand: Mapping[tuple[str, str], tuple[str | None, str | None]]) -> None:
        """Writes down how every table looks now, for `noted`.

        What was changed by hand, and by the migration not again, is still to be told.
        """
        found = self.looks()
        for (table, key), (was, had) in by_hand.items():
            if table in found and found[table].get(key) == had:
                found[table].pop(key, None)
                found[table] |= {key: was} if was is not None else {}
        self._make(LOOKS, _LOOKS, "table_name")
        self.run(f"DELETE FROM {self.name(LOOKS)}")
        rows = [(name, json.dumps(look, sort_keys=True)) for name, look in found.items()]
        self._add(LOOKS, rows)

    def noted(self) -> dict[str, dict[str, str]] | None:
        """How the tables looked when the last migration had run; None where nobody wrote it down."""
        if LOOKS not in self.table_names():
            return None
        columns = ", ".join(map(quote, _LOOKS))
        return {
            str(n): json.loads(look)
            for n, look in self.run(f"SELECT {columns} FROM {quote(LOOKS)}")
        }

    def keep_copy(self, name: str) -> str:
        """A copy of all there is, where that is a file: where it lies; empty elsewhere."""
        return ""

    def copy_of(self, name: str) -> str:
        """Where the copy that `keep_copy` made lies; empty where there is none any more."""
        return ""

    def begun(self) -> set[str]:
        """Migrations that were broken off half-way, where a database can't take them back."""
        return set()

    @contextmanager
    def _migrating(self) -> Iterator[None]:
        """One migrator at a time, and all of a migration or nothing of it."""
        with self.transaction():
            yield

    def _run_all(self, name: str, digest: str, statements: Statements) -> None:
        for statement in statements:
            self._do(statement)

    def _do(self, statement: str | Callable[[Database], object]) -> None:
        if isinstance(statement, str):
            self.run(statement)
        else:
            statement(self)

    def _make(self, table: str, columns: Mapping[str, str], key: str = "") -> None:
        """A table of our own, where it is not there yet."""
        self.run(self._written(table, columns, key))

    @classmethod
    def _written(cls, table: str, columns: Mapping[str, str], key: str = "") -> str:
        written = [
            f"{quote(n)} {cls.ddl.type_name(type_)} NOT NULL" for n, type_ in columns.items()
        ]
        written += [f"PRIMARY KEY ({quote(key)})"] if key else []
        return f"CREATE TABLE IF NOT EXISTS {quote(table)} ({', '.join(written)})"

    @classmethod
    def booked(cls, number: int, name: str, digest: str, schema: str) -> list[str]:
        """The statements that write down a migration which somebody else runs."""
        given = [name, digest, schema, datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S")]
        types = [*_BOOKS.values()][1:]
        values = [cls.ddl.literal(one, type_) for one, type_ in zip(given, types, strict=True)]
        return [
            cls._written(BOOKS, _BOOKS, "number"),
            f"INSERT INTO {quote(BOOKS)} VALUES ({number}, {', '.join(values)})",
        ]

    def _add(self, table: str, rows: Sequence[tuple[object, ...]]) -> None:
        """Rows of a table of our own."""
        # Many at once: where each statement commits by itself that is what takes the time.
        for begin in range(0, len(rows), _AT_ONCE):
            some = rows[begin : begin + _AT_ONCE]
            marks = f"({', '.join([self.mark] * len(some[0]))})"
            given = [value for row in some for value in row]
            self.run(
                f"INSERT INTO {self.name(table)} VALUES {', '.join([marks] * len(some))}", given
            )

    # Rows

    @abstractmethod
    def learn(self, tables: Sequence[str]) -> None:
        """Lets the database look at what some tables hold, so that it finds rows the best way."""

    def count(self, table: str, *, live: bool = False) -> int:
        """How many rows there are; with `live` without those in the bin."""
        return int(self.run(f"SELECT count(*) FROM {quote(table)}{_LIVE if live else ''}")[0][0])

    def made(self, table: str) -> int:
        """How many rows were ever made, as far as that is known: those that went count too."""
        count = self.count(table)
        known = self.tables.get(table)
        return (
            count
            if known is not None and not known.numbered
            else max(count, self.next_id(table) - 1)
        )

    def breaking_keys(self, table: str, key: str, condition: str, *, live: bool) -> set[object]:
        """The keys of rows for which a condition over them is false."""
        where = f"{_LIVE} AND" if live else " WHERE"
        query = f"SELECT {self.read(table, key)} FROM {quote(table)}{where} NOT ({condition})"
        return {key for (key,) in self.run(query)}

    def breaking(self, table: Table, rule: str) -> int:
        """How many stored rows break a rule; 0 where its columns are not there yet."""
        condition = check_sql(table, rule, self.sql(TableNames(table)))
        try:
            query = f"SELECT count(*) FROM {quote(table.name)} WHERE NOT ({condition})"
            return int(self.run(query)[0][0])
        except self.errors:
            return 0

    def values(self, table: str, column: str, *, live: bool = False) -> list[Any]:
        """A column of all rows in the neutral form, always in one order; see `count`."""
        shown = self.read(table, column)
        where = _LIVE if live else ""
        query = f"SELECT {shown} FROM {quote(table)}{where} ORDER BY {self.order(table)}"
        return [value for (value,) in self.run(query)]

    def order(self, table: str) -> str:
        """What the rows of a table are sorted by: how they were made, as far as that is known."""
        known = self.tables.get(table)
        columns = known.told_by if known else ("id",)
        if known and not columns:
            columns = tuple(c.name for c in known.columns if c.type != "json")
        return ", ".join(f"{quote(table)}.{quote(column)}" for column in columns)

    def computed(self, table: str, formula: str, type_: str) -> list[Any]:
        """What an expression comes to for all rows, in the order of `values`."""
        query = f"SELECT {self.neutral(formula, type_)} FROM {quote(table)} ORDER BY {self.order(table)}"
        return [value for (value,) in self.run(query)]

    def update(self, table: str, key: str, of: object, values: Mapping[str, object]) -> None:
        """Sets values of one row; the caller holds the transaction."""
        sets = ", ".join(f"{self.name(column)} = {self.mark}" for column in values)
        query = f"UPDATE {self.name(table)} SET {sets} WHERE {self.name(key)} = {self.mark}"
        given = [(column, value) for column, value in [*values.items(), (key, of)]]
        names = [column for column, _ in given]
        held, types = self.packing(table, names).held([[value] for _, value in given])
        self.run(query, [self.bound(v[0], t) for v, t in zip(held, types, strict=True)])

    def bound(self, value: object, type_: str) -> object:
        """A value in the neutral form as the driver takes it."""
        word, *numbers = type_.split()
        if word == "decimal" and self.ddl.exact and isinstance(value, int):
            return Decimal(value).scaleb(-int(numbers[1]))
        return value

    def fill_in(
        self, table: str, key: str, column: str, rows: Sequence[tuple[Any, object]]
    ) -> list[Any]:
        """Gives rows, by their keys, a value for a column that is empty in them.

        Returns those that have it now: not those that had one, nor those that may not have it.
        """
        if not rows:
            return []
        keys: list[Any] = [self.bound(of, self.type_of(table, key)) for of, _ in rows]
        span = f"IN ({', '.join([self.mark] * len(keys))})"
        if isinstance(keys[0], int):
            span, keys = f"BETWEEN {self.mark} AND {self.mark}", [min(keys), max(keys)]
        own = self.read(table, key).replace("%", "%%" if self.mark == "%s" else "%")
        where = f"{self.name(column)} IS NULL AND {self.name(key)} {span}"
        empty = {
            of for (of,) in self.run(f"SELECT {own} FROM {self.name(table)} WHERE {where}", keys)
        }
        given = [row for row in rows if row[0] in empty]
        if given and not self._taken(table, key, column, given):
            # One of them is not as it was made any more: each by itself.
            given = [row for row in given if self._taken(table, key, column, [row])]
        return [of for of, _ in given]

    def _taken(self, table: str, key: str, column: str, rows: Sequence[tuple[Any, object]]) -> bool:
        """Sets a column of some rows, or of none where the database refuses one."""
        with self.attempt() as take_back:
            try:
                for of, value in rows:
                    self.update(table, key, of, {column: value})
            except self.errors:
                take_back()
                return False
        return True

    @contextmanager
    def resting(self) -> Iterator[None]:
        """While rows are loaded that are known to refer to rows which are there."""
        yield

    @contextmanager
    def indexes_last(self, table: str) -> Iterator[None]:
        """Part of a transaction that fills an empty table: its indexes are made when all is there.

        Only where making them can be taken back with the rest.
        """
        yield

    def keep_empty(self) -> None:
        """Remembers what an empty database looks like, for `restore`."""

    @abstractmethod
    def restore(self, engine: Any) -> None:
        """Takes the rows of all known tables away; their numbers begin anew.

        `engine` is what else is connected to it.
        """

    def hurry(self, connection: Any) -> None:
        """Readies a driver's connection for rows that may be lost with the power."""

    @abstractmethod
    def next_id(self, table: str) -> int:
        """The first id that was never given."""

    def insert(self, table: str, names: Sequence[str], columns: Sequence[Sequence[Any]]) -> None:
        """Loads rows, given by their columns; the caller holds the transaction."""
        self.store(self.packing(table, names).pack(columns))

    @abstractmethod
    def store(self, packed: Packed) -> None:
        """Loads rows that are ready; the caller holds the transaction."""
