"""An SQLite database: its connection, its transactions, and the books of what was done to it."""

from __future__ import annotations

import json
import os
import re
import sqlite3
import unicodedata
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from zoneinfo import ZoneInfo

from ..problems import WelbikError
from ..rules.sql import Sqlite, quote
from ..schema.entries import REMOVED
from .checks import TableNames, check_sql
from .tables import Table

BOOKS = "welbik_migration"
FIXED = "welbik_fixed"
"""Which fixed rows were stored, and what was declared of them then."""

_LIVE = f" WHERE {quote(REMOVED)} IS NULL"
_BUSY_SECONDS = 10


def path_of(url: str, root: Path) -> Path:
    """The file of a `sqlite:///path` URL; a relative path starts at the project."""
    rest = url.removeprefix("sqlite:///")
    if rest == url or not rest or rest.startswith("?"):
        raise WelbikError(
            f"the database {url!r} names no file",
            "write it as sqlite:///name.db, a file beside welbik.toml, or sqlite:////path/name.db",
        )
    return root / rest.partition("?")[0]


def prepare(connection: sqlite3.Connection, timezone: str = "UTC") -> None:
    """Gives a connection what rules need and SQLite lacks: patterns, and days of a time zone."""
    zone = ZoneInfo(timezone)

    def matches(pattern: str, value: str | None) -> bool | None:
        return None if value is None else re.fullmatch(pattern, value) is not None

    def local_date(moment: str | None) -> str | None:
        if moment is None:
            return None
        utc = datetime.fromisoformat(moment).replace(tzinfo=UTC)
        return utc.astimezone(zone).date().isoformat()

    def slug_word(value: str | None, otherwise: str) -> str:
        plain = unicodedata.normalize("NFKD", value or "").encode("ascii", "ignore").decode()
        return re.sub(r"[^a-z0-9]+", "-", plain.lower()).strip("-")[:60].strip("-") or otherwise

    connection.create_function("slug_word", 2, slug_word, deterministic=True)
    connection.create_function("regexp", 2, matches, deterministic=True)
    connection.create_function("local_date", 1, local_date, deterministic=True)


class Database:
    """An open SQLite file. Every method raises WelbikError where the file can't serve."""

    def __init__(self, path: Path, *, create: bool = False) -> None:
        self.path = path
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
                uri, uri=True, isolation_level=None, timeout=_BUSY_SECONDS
            )
            self.connection.execute("PRAGMA foreign_keys = ON")
            self.connection.execute("PRAGMA schema_version").fetchone()
            if create:
                # Readers and the one writer then do not wait for each other.
                self.connection.execute("PRAGMA journal_mode = WAL")
        except (sqlite3.Error, OSError) as error:
            raise self._unopened(str(error), "check the path and its permissions") from None

    def _unopened(self, reason: str, remedy: str) -> WelbikError:
        return WelbikError(
            f"the database {self.path} can't be opened: {reason}",
            f"{remedy}, or change 'database' in welbik.toml",
        )

    def close(self) -> None:
        self.connection.close()

    def prepare(self, timezone: str) -> None:
        """Readies the connection for rules; see the function of that name."""
        prepare(self.connection, timezone)

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """All or nothing; waits a while for another writer. References are checked at the end."""
        try:
            self.connection.execute("BEGIN IMMEDIATE")
        except sqlite3.OperationalError as error:
            raise WelbikError(
                f"the database {self.path} is in use: {error}",
                "stop what writes to it, then try again",
            ) from None
        try:
            self.connection.execute("PRAGMA defer_foreign_keys = ON")
            yield
            self.connection.execute("COMMIT")
        except BaseException as error:
            if self.connection.in_transaction:
                self.connection.execute("ROLLBACK")
            if isinstance(error, sqlite3.Error):
                raise WelbikError(
                    f"the database refused a change: {error}", "nothing was changed"
                ) from error
            raise

    def applied(self) -> list[tuple[str, str, str]]:
        """The migrations that ran here, in order: name, digest, fingerprint."""
        if BOOKS not in self.table_names():
            return []
        rows = self.connection.execute(f"SELECT name, digest, schema FROM {BOOKS} ORDER BY number")
        return [(str(name), str(digest), str(schema)) for name, digest, schema in rows]

    def table_names(self) -> set[str]:
        try:
            rows = self.connection.execute(
                "SELECT name FROM sqlite_master WHERE type = 'table'"
            ).fetchall()
        except sqlite3.Error as error:
            raise self._unopened(str(error), "check that the file is a database") from None
        return {name for (name,) in rows}

    def migrate(
        self, name: str, digest: str, schema: str, statements: Sequence[str], number: int = 1
    ) -> bool:
        """Runs one migration and writes it down, or leaves everything as it was.

        False where it has run meanwhile, by somebody who had the lock before.
        """
        # Tables are made anew under other tables that refer to them, so references rest meanwhile.
        self.connection.execute("PRAGMA foreign_keys = OFF")
        prepare(self.connection)
        try:
            with self.transaction():
                self.connection.execute(
                    f"CREATE TABLE IF NOT EXISTS {BOOKS} (number INTEGER PRIMARY KEY, name VARCHAR(200) NOT NULL, "
                    "digest VARCHAR(64) NOT NULL, schema VARCHAR(16) NOT NULL, applied TIMESTAMP NOT NULL)"
                )
                # Only behind the lock it is known what others have run.
                applied = self.applied()
                if len(applied) >= number and applied[number - 1][1] == digest:
                    return False
                if len(applied) != number - 1:
                    raise WelbikError(
                        f"other migrations have run on the database since {name} was begun",
                        "nothing was changed; get the newest migrations, then try again",
                    )
                for statement in statements:
                    self.connection.execute(statement)
                broken = self.connection.execute("PRAGMA foreign_key_check").fetchone()
                if broken:
                    raise WelbikError(
                        f"rows of {broken[0]} would refer to rows that are not there",
                        "nothing was changed",
                    )
                self.connection.execute(
                    f"INSERT INTO {BOOKS} VALUES (?, ?, ?, ?, datetime('now'))",
                    (number, name, digest, schema),
                )
                return True
        finally:
            self.connection.execute("PRAGMA foreign_keys = ON")

    def learn(self) -> None:
        """Lets the database look at what its tables hold, so that it finds rows the best way."""
        # A sample is enough, and takes as long in any table.
        self.connection.execute("PRAGMA analysis_limit = 1000")
        self.connection.execute("ANALYZE")

    def count(self, table: str, *, live: bool = False) -> int:
        """How many rows there are; with `live` without those in the bin."""
        query = f"SELECT count(*) FROM {quote(table)}{_LIVE if live else ''}"
        return int(self.connection.execute(query).fetchone()[0])

    def made(self, table: str) -> int:
        """How many rows were ever made, as far as that is known: those that went count too."""
        return max(self.count(table), self.next_id(table) - 1)

    def breaking_keys(self, table: str, key: str, condition: str, *, live: bool) -> set[object]:
        """The keys of rows for which a condition over them is false."""
        where = f"{_LIVE} AND" if live else " WHERE"
        query = f"SELECT {quote(key)} FROM {quote(table)}{where} NOT ({condition})"
        return {key for (key,) in self.connection.execute(query)}

    @contextmanager
    def attempt(self) -> Iterator[Callable[[], None]]:
        """Part of a transaction that can be taken back: gives what does so."""

        def take_back() -> None:
            self.connection.execute("ROLLBACK TO attempt")

        self.connection.execute("SAVEPOINT attempt")
        yield take_back
        self.connection.execute("RELEASE attempt")

    def breaking(self, table: Table, rule: str) -> int:
        """How many stored rows break a rule; 0 where its columns are not there yet."""
        condition = check_sql(table, rule, Sqlite(TableNames(table)))
        try:
            query = f"SELECT count(*) FROM {quote(table.name)} WHERE NOT ({condition})"
            return int(self.connection.execute(query).fetchone()[0])
        except sqlite3.Error:
            return 0

    def values(self, table: str, column: str, *, live: bool = False) -> list[object]:
        """A column of all rows, in the order in which they were made; see `count`."""
        where = _LIVE if live else ""
        query = f"SELECT {quote(column)} FROM {quote(table)}{where} ORDER BY rowid"
        return [value for (value,) in self.connection.execute(query)]

    def computed(self, table: str, formula: str) -> list[object]:
        """What an expression comes to for all rows, in the order of `values`."""
        query = f"SELECT {formula} FROM {quote(table)} ORDER BY {quote(table)}.rowid"
        return [value for (value,) in self.connection.execute(query)]

    def update(self, table: str, key: str, of: object, values: Mapping[str, object]) -> None:
        """Sets encoded values of one row; the caller holds the transaction."""
        sets = ", ".join(f"{quote(name)} = ?" for name in values)
        query = f"UPDATE {quote(table)} SET {sets} WHERE {quote(key)} = ?"
        self.connection.execute(query, [*values.values(), of])

    def remembered(self) -> dict[tuple[str, str], tuple[object, dict[str, object]]]:
        """The fixed rows that were stored: by table and text their key, and what was declared."""
        if FIXED not in self.table_names():
            return {}
        rows = self.connection.execute(f"SELECT of, text, key, declared FROM {FIXED}")
        return {(of, text): (json.loads(key), json.loads(said)) for of, text, key, said in rows}

    def remember(self, table: str, rows: Mapping[str, tuple[object, Mapping[str, object]]]) -> None:
        """Writes down the fixed rows of a table, in place of what was known of them."""
        self.connection.execute(
            f"CREATE TABLE IF NOT EXISTS {FIXED} (of VARCHAR(200), text TEXT, key TEXT NOT NULL, "
            "declared TEXT NOT NULL, PRIMARY KEY (of, text))"
        )
        self.connection.execute(f"DELETE FROM {FIXED} WHERE of = ?", [table])
        self.connection.executemany(
            f"INSERT INTO {FIXED} VALUES (?, ?, ?, ?)",
            [
                (table, text, json.dumps(key), json.dumps(said))
                for text, (key, said) in rows.items()
            ],
        )

    def next_id(self, table: str) -> int:
        """The first id that was never given."""
        row = self.connection.execute(
            "SELECT seq FROM sqlite_sequence WHERE name = ?", (table,)
        ).fetchone()
        return int(row[0]) + 1 if row else 1

    def insert(
        self, table: str, columns: Sequence[str], rows: Sequence[tuple[object, ...]]
    ) -> None:
        """Loads encoded rows; the caller holds the transaction."""
        names = ", ".join(quote(column) for column in columns)
        marks = ", ".join("?" for _ in columns)
        self.connection.executemany(f"INSERT INTO {quote(table)} ({names}) VALUES ({marks})", rows)
