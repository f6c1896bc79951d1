"""SQLite: a file beside the project.

Decimals are kept as whole numbers of their smallest place, so that order and sums are exact;
days and moments as ISO 8601 text.
"""

from __future__ import annotations

import datetime as dt
import math
import os
import re
import time
import unicodedata
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, Self
from zoneinfo import ZoneInfo

from ..problems import WelbikError
from ..rules.sql import quote, text
from .address import Address
from .backend import BUSY_SECONDS, Database, Statements
from .catalog import Catalog
from .ddl import Ddl, Keys, check, indexes_of
from .packing import Packed
from .references import check_references
from .reshape import BESIDE, Change, Phases
from .sqlite_catalog import read_catalog
from .sqlite_sql import SqliteSql
from .tables import Column, Table

if TYPE_CHECKING:
    import sqlite3


_COPIES = 3
"""How many copies of a file from before its tables changed are kept."""
_CACHE_KB = 48_000
"""What is kept of a file in memory while rows are loaded."""
_UUID = (
    "lower(hex(randomblob(6)) || '4' || substr(hex(randomblob(2)), 2) || "
    "substr('89ab', 1 + abs(random() % 4), 1) || substr(hex(randomblob(2)), 2) || hex(randomblob(6)))"
)
"""A version 4 identifier as RFC 9562 lays it out, as it is stored."""


class SqliteDdl(Ddl):
    """What SQLite can't change in place is a table made anew with its rows."""

    word = "sqlite"
    sql = SqliteSql
    exact = False
    anew_when_called = True
    old_number = "rowid"
    number = "INTEGER PRIMARY KEY AUTOINCREMENT"
    types: ClassVar[Mapping[str, str]] = {**Ddl.types, "double": "DOUBLE", "uuid": "CHAR(32)"}

    def type_name(self, type_: str) -> str:
        word, *numbers = type_.split()
        if word == "decimal":
            # The name holds INT, which is what gives the column whole-number affinity.
            return f"SCALED_INTEGER({numbers[0]}, {numbers[1]})"
        return super().type_name(type_)

    own_forms = ("timestamp", "date", "time", "decimal", "uuid")
    called: ClassVar[Mapping[str, str]] = {
        r"(tiny|small|medium|big)?int(eger)?(\(\d+\))?": "integer",
        r"(n?varchar|n?char|character varying)\((\d+)\)": r"varchar(\2)",
        r"(real|float|double|double precision)": "double",
        r"bool": "boolean",
        r"(text|clob|ntext)": "text",
    }

    def literal(self, value: str, type_: str) -> str:
        word, *numbers = type_.split()
        if word == "decimal":
            return str(int(Decimal(value).scaleb(int(numbers[1]))))
        if word == "boolean":
            return "1" if value == "yes" else "0"
        if word == "uuid":
            return text(value.replace("-", ""))
        return super().literal(value, type_)

    def checks(self, table: Table, column: Column) -> Iterator[tuple[str, str]]:
        yield from super().checks(table, column)
        if column.type == "boolean" and not column.native and not column.yes_no:
            yield f"{table.name}_{column.name}_boolean", f"{quote(column.name)} IN (0, 1)"

    def column(self, table: Table, column: Column, keys: Keys) -> str:
        written = super().column(table, column, keys)
        return f"{written} {self.reference(column, keys)}" if column in table.bound else written

    def add_references(self, table: Table, columns: list[Column], keys: Keys) -> list[str]:
        return []

    def reshape(self, change: Change, keys: Keys) -> Phases:
        """In place where only optional columns or indexes come; else the table is made anew."""
        before, after = change.before, change.after
        if before.as_it_is:
            return self._in_place(change, keys)
        if change.called_anew:
            return self._rebuild(change, keys)
        if change.has_other_key:
            return self._rebuild(change, keys)
        if self._table(before, "", keys) == self._table(after, "", keys) and not change.values:
            return self._indexes_anew(change, Phases())
        come = change.come
        plain = replace(after, columns=tuple(c for c in after.columns if c not in come))
        # A rule that comes with a column can't be written without it.
        same = before.checks == after.checks and (
            self._table(before, "", keys) == self._table(plain, "", keys)
        )
        if not same or change.values or any(c.required for c in come):
            return self._rebuild(change, keys)
        found, table = Phases(), quote(after.name)
        for column in come:
            checks = [check(*one) for one in self.checks(after, column)]
            written = " ".join([self.column(after, column, keys), *checks])
            found.grow.append(f"ALTER TABLE {table} ADD COLUMN {written}")
        sets = [f"{quote(name)} = {value}" for name, value in change.fills.items()]
        found.fill += [f"UPDATE {table} SET {', '.join(sets)}"] if sets else []
        return self._indexes_anew(change, found)

    def _in_place(self, change: Change, keys: Keys) -> Phases:
        """A table that others made, changed as far as that goes without making it anew: it may
        have columns and conditions that nobody declared. What it can't hold, the site holds."""
        after, found = change.after, Phases()
        self.refuse_unnamed(change, keys)
        table = quote(after.name)
        for old, new in change.kept:
            if old.required != new.required and new.required:
                raise WelbikError(
                    f"the table {after.name} was made by others, and this database can't forbid "
                    f"{new.name} to be empty without making it anew",
                    f"leave {new.name} optional, and say so by a rule: {new.name} is given",
                )
        for column in change.come:
            fill = change.fills.get(column.name)
            if column.required and fill is None:
                column = replace(column, required=False)
            written = self.column(after, column, keys)
            fill = f" DEFAULT {fill}" if fill is not None else ""
            found.grow.append(f"ALTER TABLE {table} ADD COLUMN {written}{fill}")
        if change.values:
            sets = [f"{quote(name)} = {value}" for name, value in change.values.items()]
            found.fill.append(f"UPDATE {table} SET {', '.join(sets)}")
        found = self._indexes_anew(change, found)
        found.shrink += [f"ALTER TABLE {table} DROP COLUMN {quote(c.name)}" for c in change.gone]
        return found

    def _indexes_anew(self, change: Change, found: Phases) -> Phases:
        found.shrink += self._let_go(change, (), {})
        found.finish += self._hold(change, (), {})
        return found

    def _conditions(self, table: Table) -> dict[str, str]:
        # They stand within their table, and change with it.
        return {}

    def new_uuid(self) -> str:
        return _UUID

    def slug(self, source: str, otherwise: str, key: str) -> str:
        return f"slug_word({source}, {text(otherwise)}) || '-' || rowid"

    def rename_column(
        self, before: Table, after: Table, old: str, new: str, keys: Keys
    ) -> list[str]:
        """Indexes are named after their columns, so those are made anew."""
        if after.as_it_is:
            return super().rename_column(before, after, old, new, keys)
        named = zip(indexes_of(before), indexes_of(after), strict=True)
        anew = [(gone, come) for gone, come in named if old in gone.columns]
        return [
            *(self.drop_index(before.name, gone.name(before.name)) for gone, _ in anew),
            f"ALTER TABLE {quote(after.name)} RENAME COLUMN {quote(old)} TO {quote(new)}",
            *(self.create_index(after, come) for _, come in anew),
        ]

    def rename_table(self, before: Table, after: Table, keys: Keys) -> list[str]:
        """Indexes are named after their table, so they are made anew."""
        if after.as_it_is:
            return super().rename_table(before, after, keys)
        return [
            *(self.drop_index(before.name, i.name(before.name)) for i in indexes_of(before)),
            f"ALTER TABLE {quote(before.name)} RENAME TO {quote(after.name)}",
            *self.create_indexes(after),
        ]

    def _rebuild(self, change: Change, keys: Keys) -> Phases:
        """The table made anew with its rows, by the steps SQLite's own manual gives (ALTER TABLE, 7)."""
        before, after = change.before, change.after
        given = {c.name: quote(c.name) for _, c in change.kept} | {**change.fills, **change.values}
        number = quote(before.number) if before.numbered else self.old_number
        own = {after.number: number} if after.numbered else {}
        names, values = [*own, *given], [*own.values(), *given.values()]
        new = f"{after.name}{BESIDE}"
        found = Phases(grow=[self._table(after, new, keys)])
        found.fill.append(
            f"INSERT INTO {quote(new)} ({', '.join(map(quote, names))})\n"
            f"SELECT {', '.join(values)} FROM {quote(before.name)}"
        )
        found.fill += [] if not after.numbered else [_next_number(before.name, new)]
        found.shrink.append(f"DROP TABLE {quote(before.name)}")
        found.finish.append(f"ALTER TABLE {quote(new)} RENAME TO {quote(after.name)}")
        found.finish += self.create_indexes(after)
        return found


def _next_number(before: str, new: str) -> str:
    """Numbers go on where they were: none of a removed row is given again."""
    return (
        f"UPDATE sqlite_sequence SET seq = (SELECT max(seq) FROM sqlite_sequence\n"
        f"WHERE name IN ({text(before)}, {text(new)})) WHERE name = {text(new)}"
    )


_CHECK = re.compile(r'CONSTRAINT (?:"((?:[^"]|"")+)"|(\w+)) CHECK \(')


def _conditions(source: str) -> Iterator[tuple[str, str]]:
    """The conditions in the statement that made a table, with their names."""
    for found in _CHECK.finditer(source):
        begin = end = found.end()
        depth, quoted = 1, ""
        while depth:
            character, end = source[end], end + 1
            if quoted or character in "'\"":
                quoted = character if not quoted else "" if character == quoted else quoted
                continue
            depth += (character == "(") - (character == ")")
        name = (found[1] or found[2]).replace('""', '"')
        yield name, source[begin : end - 1]


def _turn_of(day: str, zone: ZoneInfo) -> tuple[str, str, str] | None:
    """When in a day of UTC a zone's day changes, and its days before and after; None where its clocks do too."""
    begin = dt.datetime.fromisoformat(day).replace(tzinfo=dt.UTC)
    try:
        ends = [(begin + dt.timedelta(hours=hours)).astimezone(zone) for hours in range(25)]
    except OverflowError:
        return None
    offset = ends[0].utcoffset() or dt.timedelta()
    if any(end.utcoffset() != offset for end in ends):
        return None
    before, after = ends[0].date().isoformat(), ends[24].date().isoformat()
    if not offset:
        return "", day, day
    turn = (dt.datetime(1, 1, 2) - offset % dt.timedelta(days=1)).time()
    return turn.isoformat(), before, after


def ready(connection: sqlite3.Connection, timezone: str = "UTC") -> None:
    """Gives a connection what rules need and SQLite lacks: patterns, and days of a time zone."""
    zone = ZoneInfo(timezone)
    days: dict[str, tuple[str, str, str] | None] = {}

    def matches(pattern: str, value: str | None) -> bool | None:
        return None if value is None else re.fullmatch(pattern, value) is not None

    def local_date(moment: str | None) -> str | None:
        if moment is None:
            return None
        day = moment[:10]
        if day not in days:
            days[day] = _turn_of(day, zone)
        known = days[day]
        if known is not None:
            turn, before, after = known
            return before if moment[11:] < turn else after
        utc = dt.datetime.fromisoformat(moment).replace(tzinfo=dt.UTC)
        return utc.astimezone(zone).date().isoformat()

    def local_moment(moment: str | None) -> str | None:
        if moment is None:
            return None
        utc = dt.datetime.fromisoformat(moment).replace(tzinfo=dt.UTC)
        return utc.astimezone(zone).replace(tzinfo=None).isoformat(" ", "microseconds")

    def utc_moment(moment: str | None) -> str | None:
        if moment is None:
            return None
        here = dt.datetime.fromisoformat(moment).replace(tzinfo=zone)
        return here.astimezone(dt.UTC).replace(tzinfo=None).isoformat(" ", "microseconds")

    def slug_word(value: str | None, otherwise: str) -> str:
        plain = unicodedata.normalize("NFKD", value or "").encode("ascii", "ignore").decode()
        return re.sub(r"[^a-z0-9]+", "-", plain.lower()).strip("-")[:60].strip("-") or otherwise

    connection.create_function("local_moment", 1, local_moment, deterministic=True)
    connection.create_function("utc_moment", 1, utc_moment, deterministic=True)
    connection.create_function("slug_word", 2, slug_word, deterministic=True)
    connection.create_function("regexp", 2, matches, deterministic=True)
    connection.create_function("local_date", 1, local_date, deterministic=True)


class Sqlite(Database):
    """An open SQLite file."""

    word = "sqlite"
    sql = SqliteSql
    ddl = SqliteDdl()
    reserved = ("welbik_", "sqlite_")
    in_a_file = True
    mark = "?"

    def __init__(self, path: Path, *, create: bool = False) -> None:
        import sqlite3

        self.errors = (sqlite3.Error,)
        self.path, self.where, self.tables = path, str(path), {}
        self._seconds = self._deadline = math.inf
        self._unchecked: set[str] | None = None
        self._numbered: dict[str, bool] = {}
        if not path.parent.is_dir():
            raise self._unopened(f"the folder {path.parent} does not exist", "make the folder")
        if path.is_dir():
            raise self._unopened("it is a folder", "name a file")
        mode = "rwc" if create else "rw"
        try:
            if create and not path.exists():
                # It holds what people entered: nobody else on this machine reads it.
                os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
            uri = f"{path.resolve().as_uri()}?mode={mode}"
            self.connection = sqlite3.connect(
                uri, uri=True, isolation_level=None, timeout=BUSY_SECONDS
            )
            self.connection.execute("PRAGMA foreign_keys = ON")
            self.connection.execute("PRAGMA schema_version").fetchone()
            ready(self.connection)
            if create:  # Readers and the one writer then do not wait for each other.
                self.connection.execute("PRAGMA journal_mode = WAL")
        except (sqlite3.Error, OSError) as error:
            raise self._unopened(str(error), "check the path and its permissions") from None

    @classmethod
    def open(
        cls, address: Address, root: Path, *, create: bool = False, loads: bool = False
    ) -> Self:
        return cls(cls.path_of(address, root), create=create)

    @classmethod
    def beside(cls, address: str, folder: Path, name: str) -> str:
        return f"sqlite:///{folder / name}.db"

    @classmethod
    def make(cls, address: Address) -> None:
        """Whoever opens it makes the file."""

    @classmethod
    def remove(cls, address: Address) -> None:
        for end in ("", "-wal", "-shm"):
            Path(f"{address.name}{end}").unlink(missing_ok=True)

    @classmethod
    def place(cls, address: Address, root: Path) -> str:
        path = cls.path_of(address, root)
        return str(path.relative_to(root) if path.is_relative_to(root) else path)

    @classmethod
    def is_missing(cls, address: Address, root: Path) -> bool:
        path = cls.path_of(address, root)
        return path.parent.is_dir() and not path.exists()

    @staticmethod
    def path_of(address: Address, root: Path) -> Path:
        """The file of an address; a relative one starts at the project."""
        if not address.name or address.host:
            raise WelbikError(
                f"the database {address.shown!r} names no file",
                "write it as sqlite:///name.db, a file beside welbik.toml, or sqlite:////path/name.db",
            )
        address.check_file(address.name, root)
        return root / address.name

    def _unopened(self, reason: str, remedy: str) -> WelbikError:
        return WelbikError(
            f"the database {self.path} can't be opened: {reason}",
            f"{remedy}, or change the address",
        )

    def close(self) -> None:
        self.connection.close()

    def limit_statements(self, seconds: int) -> None:
        self._seconds = seconds
        self.connection.set_progress_handler(lambda: time.monotonic() > self._deadline, 10_000)

    def run(self, statement: str, values: Sequence[object] = ()) -> list[tuple[Any, ...]]:
        self._deadline = time.monotonic() + self._seconds
        return self.connection.execute(statement, values).fetchall()

    def each(self, statement: str) -> Iterator[tuple[Any, ...]]:
        return self.connection.execute(statement)

    def keep_time(self, timezone: str) -> None:
        super().keep_time(timezone)
        ready(self.connection, timezone)

    def _begin(self) -> None:
        self.run("BEGIN IMMEDIATE")
        self.run("PRAGMA defer_foreign_keys = ON")

    def _roll_back(self) -> None:
        if self.connection.in_transaction:
            super()._roll_back()

    def table_names(self) -> set[str]:
        try:
            rows = self.run("SELECT name FROM sqlite_master WHERE type = 'table'")
        except self.errors as error:
            raise self._unopened(str(error), "check that the file is a database") from None
        return {name for (name,) in rows}

    def catalog(self) -> Catalog:
        try:
            return read_catalog(self.run, self.errors)
        except self.errors as error:
            raise self._unopened(str(error), "check that the file is a database") from None

    @contextmanager
    def reading(self) -> Iterator[None]:
        self.run("PRAGMA query_only = ON")
        self.run("BEGIN")
        try:
            yield
        finally:
            self._roll_back()
            self.run("PRAGMA query_only = OFF")

    def look(self, table: str) -> dict[str, str]:
        ((source,),) = self.run(
            "SELECT sql FROM sqlite_master WHERE type = 'table' AND name = ?", (table,)
        )
        found = {f"check {name}": condition for name, condition in _conditions(source)}
        for _, name, type_, required, _, key in self.run(f"PRAGMA table_info({quote(table)})"):
            found[f"column {name}"] = f"{type_}{' not null' * (required or bool(key))}"
            found |= {"key": name} if key else {}
        found["numbers"] = "kept" if "AUTOINCREMENT" in source else "free"
        for _, name, unique, origin, partial in self.run(f"PRAGMA index_list({quote(table)})"):
            if origin == "c":
                columns = [
                    str(row[2] or "an expression")
                    for row in self.run(f"PRAGMA index_info({quote(name)})")
                ]
                said = f"{'unique ' * unique}{', '.join(columns)}{' in part' * partial}"
                found[f"index {name}"] = said
        for name, other, action in self.references(table):
            found[f"reference {name}"] = f"{other} {action}"
        return found

    def references(self, table: str) -> list[tuple[str, str, str]]:
        found = self.run(f"PRAGMA foreign_key_list({quote(table)})")
        return sorted((row[3], row[2], row[6]) for row in found)

    @contextmanager
    def _migrating(self) -> Iterator[None]:
        # Tables are made anew under other tables that refer to them, so references rest meanwhile.
        self.run("PRAGMA foreign_keys = OFF")
        self.connection.set_authorizer(_refuse_other_files)
        try:
            with super()._migrating():
                yield
        finally:
            self.connection.set_authorizer(None)
            self.run("PRAGMA foreign_keys = ON")

    def _run_all(self, name: str, digest: str, statements: Statements) -> None:
        super()._run_all(name, digest, statements)
        # All rows of all tables are looked at: not where no reference can have come apart.
        told = [one if isinstance(one, str) else "INSERT" for one in statements]
        if not any(word in one for one in told for word in ("DROP TABLE", "REFERENCES", "INSERT")):
            return
        broken = self.run("PRAGMA foreign_key_check")
        if broken:
            raise WelbikError(
                f"rows of {broken[0][0]} would refer to rows that are not there",
                "nothing was changed",
            )

    def keep_copy(self, name: str) -> str:
        import sqlite3

        target = self._copy(name)
        draft = target.with_name(f".{target.name}")
        try:
            draft.unlink(missing_ok=True)
            os.close(os.open(draft, os.O_CREAT | os.O_RDWR, 0o600))
            # By connections of its own: what is stored, and nothing of what is under way.
            source, copy = sqlite3.connect(self.path), sqlite3.connect(draft)
            try:
                source.backup(copy)
            finally:
                source.close()
                copy.close()
            draft.replace(target)
        except (sqlite3.Error, OSError) as error:
            draft.unlink(missing_ok=True)
            raise WelbikError(
                f"no copy of {self.path} could be kept: {error}",
                "make room on the disk, or see to the folder's permissions; nothing was changed",
            ) from None
        begin = self._copy("").name
        kept = [one for one in self.path.parent.iterdir() if one.name.startswith(begin)]
        kept.sort(key=lambda one: one.stat().st_mtime)
        for old in kept[:-_COPIES]:
            old.unlink(missing_ok=True)
        return target.name

    def copy_of(self, name: str) -> str:
        found = self._copy(name)
        return found.name if found.exists() else ""

    def _copy(self, name: str) -> Path:
        return self.path.with_name(f"{self.path.name}.before-{name}")

    def outside(self, table: str) -> str:
        return f"main.{quote(table)}"

    def learn(self, tables: Sequence[str]) -> None:
        # A sample is enough, and takes as long in any table.
        self.run("PRAGMA analysis_limit = 1000")
        for table in tables:
            self.run(f"ANALYZE {quote(table)}")

    def order(self, table: str) -> str:
        if table not in self._numbered:
            try:
                self.run(f"SELECT {quote(table)}.rowid FROM {quote(table)} LIMIT 0")
                self._numbered[table] = True
            except self.errors:
                # A view, or a table that others made without.
                self._numbered[table] = False
        return f"{quote(table)}.rowid" if self._numbered[table] else super().order(table)

    def keep_empty(self) -> None:
        """The file without a row; a copy of it is a database again."""
        self.run("PRAGMA wal_checkpoint(TRUNCATE)")
        self._empty = self.path.read_bytes()

    def restore(self, engine: Any) -> None:
        engine.dispose()
        self.close()
        self.remove(Address(self.word, str(self.path)))
        self.path.write_bytes(self._empty)

    def hurry(self, connection: Any) -> None:
        connection.execute("PRAGMA synchronous = OFF")

    def next_id(self, table: str) -> int:
        kept = self.run("SELECT 1 FROM sqlite_master WHERE name = 'sqlite_sequence'")
        asked = "SELECT seq FROM sqlite_sequence WHERE name = ?"
        rows = self.run(asked, (table,)) if kept else []
        if rows:
            return int(rows[0][0]) + 1
        known = self.tables.get(table)
        return self.most(table) + 1 if known is not None and known.as_it_is else 1

    @contextmanager
    def resting(self) -> Iterator[None]:
        kept = self.run("PRAGMA cache_size")[0][0]
        # Looked at when all is there, which takes a tenth of the time.
        self.run("PRAGMA foreign_keys = OFF")
        self._unchecked = set()
        # Where rows go into several indexes, most of these stay in memory.
        self.run(f"PRAGMA cache_size = -{_CACHE_KB}")
        try:
            yield
        finally:
            self.run(f"PRAGMA cache_size = {kept}")
            self.run("PRAGMA foreign_keys = ON")
            self._unchecked = None

    def _before_commit(self) -> None:
        super()._before_commit()
        for table in sorted((self._unchecked or set()) & self.tables.keys()):
            check_references(self, self.tables[table])

    @contextmanager
    def indexes_last(self, table: str) -> Iterator[None]:
        asked = "SELECT name, sql FROM sqlite_master WHERE type = 'index' AND tbl_name = ? AND sql IS NOT NULL"
        indexes = self.run(asked, (table,))
        for name, _ in indexes:
            self.run(f"DROP INDEX {quote(name)}")
        yield
        for _, statement in indexes:
            self.run(statement)

    def store(self, packed: Packed) -> None:
        names = packed.packing.names
        if self._unchecked is not None:
            self._unchecked.add(packed.packing.table)
        listed = ", ".join(map(quote, names))
        marks = ", ".join("?" for _ in names)
        statement = f"INSERT INTO {quote(packed.packing.table)} ({listed}) VALUES ({marks})"
        self.connection.executemany(statement, zip(*packed.columns, strict=True))


def _refuse_other_files(action: int, argument: str | None, *_: object) -> int:
    """Lets a migration's SQL use no file but the database (`ATTACH`, `VACUUM INTO`)."""
    import sqlite3

    return int(bool(action == sqlite3.SQLITE_ATTACH and argument))
