"""SQLite: DDL, bookkeeping, and loading rows in bulk.

Decimals are kept as whole numbers of their smallest place, so that order and sums are
exact; dates and moments as ISO 8601 text.
"""

from __future__ import annotations

import json
import os
import re
import sqlite3
import unicodedata
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any
from uuid import UUID
from zoneinfo import ZoneInfo

from ..problems import WelbikError
from ..rules.sql import Sqlite, quote
from ..rules.sql import text as _text
from ..schema.expressions import REMOVED
from .checks import TableNames, check_sql
from .tables import Column, Index, Table, ends

Keys = Mapping[str, str]
BOOKS = "welbik_migration"
FIXED = "welbik_fixed"
"""Which fixed rows were stored, and what was declared of them then."""

_LIVE = f" WHERE {quote(REMOVED)} IS NULL"
_BUSY_SECONDS = 10


def sql_type(type_: str) -> str:
    word, *numbers = type_.split()
    if word == "text":
        return f"VARCHAR({numbers[0]})" if numbers else "TEXT"
    if word == "decimal":
        # The name holds INT, which is what gives the column whole-number affinity.
        return f"SCALED_INTEGER({numbers[0]}, {numbers[1]})"
    names = {"reference": "INTEGER", "integer": "INTEGER", "bigint": "BIGINT", "double": "DOUBLE"}
    names |= {"uuid": "CHAR(32)", "json": "JSON", "time": "TIME", "seconds": "INTEGER"}
    return names.get(word) or {"boolean": "BOOLEAN", "date": "DATE", "timestamp": "TIMESTAMP"}[word]


def literal(value: str, type_: str) -> str:
    """A neutral value (see `Kind.neutral`) as SQL."""
    word, *numbers = type_.split()
    if word in ("integer", "bigint", "double", "seconds"):
        return value
    if word == "decimal":
        return str(int(Decimal(value).scaleb(int(numbers[1]))))
    if word == "boolean":
        return "1" if value == "yes" else "0"
    if word == "timestamp":
        return _text(value.replace("T", " ")[:19].ljust(19, "0") + ".000000")
    if word == "time":
        return _text(f"{value[:8].ljust(5, '0')}{':00' * (value.count(':') < 2)}.000000")
    if word == "uuid":
        return _text(value.replace("-", ""))
    return _text(value)


def _checks(table: str, column: Column) -> Iterator[str]:
    name = quote(column.name)
    for what, tested, given in (
        ("range", name, column.range),
        ("length", f"length({name})", column.length),
    ):
        if not given:
            continue
        type_ = column.type if what == "range" else "integer"
        low, high = (literal(end, type_) if end else "" for end in ends(given))
        rule = (
            f"{tested} BETWEEN {low} AND {high}"
            if low and high
            else f"{tested} >= {low}"
            if low
            else f"{tested} <= {high}"
        )
        yield f"CONSTRAINT {quote(f'{table}_{column.name}_{what}')} CHECK ({rule})"
    if column.among:
        values = ", ".join(_text(value) for value in column.among)
        yield f"CONSTRAINT {quote(f'{table}_{column.name}_among')} CHECK ({name} IN ({values}))"
    if column.type == "boolean":
        yield f"CONSTRAINT {quote(f'{table}_{column.name}_boolean')} CHECK ({name} IN (0, 1))"


def _column(table: str, column: Column, keys: Keys) -> str:
    parts = [quote(column.name), sql_type(column.type)]
    if column.required:
        parts.append("NOT NULL")
    if column.references:
        action = {"remove": " ON DELETE CASCADE", "clear": " ON DELETE SET NULL"}.get(
            column.removal, ""
        )
        key = quote(keys.get(column.references) or "id")
        parts.append(f"REFERENCES {quote(column.references)} ({key}){action}")
    parts.extend(_checks(table, column))
    return " ".join(parts)


def create_table(table: Table, keys: Keys, name: str = "") -> list[str]:
    """`keys` says which column is the key of a table, where it is not `id`."""
    columns = [] if table.key else ['"id" INTEGER PRIMARY KEY AUTOINCREMENT']
    columns += [_column(table.name, column, keys) for column in table.columns]
    if table.key:
        columns.append(f"PRIMARY KEY ({quote(table.key)})")
    for check in table.checks:
        rule = check_sql(table, check.rule, Sqlite(TableNames(table)))
        columns.append(f"CONSTRAINT {quote(f'{table.name}_{check.name}_rule')} CHECK ({rule})")
    body = ",\n  ".join(columns)
    return [f"CREATE TABLE {quote(name or table.name)} (\n  {body}\n)"]


def create_indexes(table: Table) -> list[str]:
    """Every unique column, reference and declared index, each once."""
    wanted = [
        Index((column.name,), column.unique)
        for column in table.columns
        if column.unique or column.references
    ]
    singles = {index.columns for index in wanted if index.unique}
    wanted += [index for index in table.indexes if index.unique or index.columns not in singles]
    return [create_index(table.name, index) for index in dict.fromkeys(wanted)]


def create_index(table: str, index: Index) -> str:
    kind = "UNIQUE INDEX" if index.unique else "INDEX"
    columns = ", ".join(quote(column) for column in index.columns)
    where = f" WHERE {quote(REMOVED)} IS NULL" if index.live else ""
    return f"CREATE {kind} {quote(index.name(table))} ON {quote(table)} ({columns}){where}"


def drop_index(table: str, index: Index) -> str:
    return f"DROP INDEX {quote(index.name(table))}"


_UUID = (
    "lower(hex(randomblob(6)) || '4' || substr(hex(randomblob(2)), 2) || "
    "substr('89ab', 1 + abs(random() % 4), 1) || substr(hex(randomblob(2)), 2) || hex(randomblob(6)))"
)
"""A version 4 identifier as RFC 9562 lays it out, as it is stored."""


def add_column(
    before: Table, after: Table, column: Column, fill: str, keys: Keys, made: str = ""
) -> list[str]:
    """An optional column is added in place; a required one needs the table made anew.

    `made` as `migrations.steps.AddColumn` has it.
    """
    if made:
        word, _, source = made.partition(" ")
        named = f"{quote(source)}" if source else "NULL"
        # With its number behind it no word meets another.
        slug = f"slug_word({named}, {_text(before.name.replace('_', '-'))}) || '-' || rowid"
        return rebuild(before, after, {column.name: _UUID if word == "uuid" else slug}, keys)
    if column.required:
        fills = {column.name: literal(fill, column.type)} if fill else {}
        return rebuild(before, after, fills, keys)
    table, name = quote(after.name), quote(column.name)
    statements = [f"ALTER TABLE {table} ADD COLUMN {_column(after.name, column, keys)}"]
    if fill:
        statements.append(f"UPDATE {table} SET {name} = {literal(fill, column.type)}")
    return statements + create_indexes(Table(after.name, (column,)))


def rename_column(table: str, old: str, new: str) -> list[str]:
    return [f"ALTER TABLE {quote(table)} RENAME COLUMN {quote(old)} TO {quote(new)}"]


def rename_table(before: Table, after: Table) -> list[str]:
    """Indexes are named after their table, so they are made anew."""
    dropped = [text.split(" ON ")[0] for text in create_indexes(before)]
    return [
        *(f"DROP INDEX {text.partition('INDEX ')[2]}" for text in dropped),
        f"ALTER TABLE {quote(before.name)} RENAME TO {quote(after.name)}",
        *create_indexes(after),
    ]


def drop_table(name: str) -> list[str]:
    return [f"DROP TABLE {quote(name)}"]


def rebuild(before: Table, after: Table, fills: dict[str, str], keys: Keys) -> list[str]:
    """The table made anew with its rows, by the steps SQLite's own manual gives (ALTER TABLE, 7)."""
    kept = [column for column in after.columns if before.column(column.name)]
    own = [] if after.key else ['"id"']
    names = [*own, *(quote(c.name) for c in kept), *(quote(name) for name in fills)]
    values = [*own, *(quote(c.name) for c in kept), *fills.values()]
    new = f"{after.name}__new"
    return [
        *create_table(after, keys, new),
        f"INSERT INTO {quote(new)} ({', '.join(names)})\nSELECT {', '.join(values)} FROM {quote(before.name)}",
        *([] if after.key else [_next_number(before.name, new)]),
        f"DROP TABLE {quote(before.name)}",
        f"ALTER TABLE {quote(new)} RENAME TO {quote(after.name)}",
        *create_indexes(after),
    ]


def _next_number(before: str, new: str) -> str:
    """Numbers go on where they were: none of a removed row is given again."""
    return (
        f"UPDATE sqlite_sequence SET seq = (SELECT max(seq) FROM sqlite_sequence\n"
        f"WHERE name IN ({_text(before)}, {_text(new)})) WHERE name = {_text(new)}"
    )


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


def _iso_days(values: Any) -> list[Any]:
    import numpy

    return list(numpy.datetime_as_string(values, unit="D").tolist())


def _iso_moments(values: Any) -> list[Any]:
    import numpy

    texts = numpy.datetime_as_string(values, unit="s").tolist()
    return [f"{text[:10]} {text[11:]}.000000" for text in texts]


def _iso_times(values: Any) -> list[Any]:
    return [f"{n // 3600:02}:{n // 60 % 60:02}:{n % 60:02}.000000" for n in values.tolist()]


_ENCODERS: dict[str, Callable[[Any], list[Any]]] = {
    "date": _iso_days,
    "timestamp": _iso_moments,
    "time": _iso_times,
    "uuid": lambda values: [value.hex for value in values.tolist()],
    "json": lambda values: [json.dumps(value, ensure_ascii=False) for value in values.tolist()],
}


def encode(type_: str, values: Any, empty: Any | None) -> list[Any]:
    """A drawn column (a NumPy array and a mask of its empty places) as SQLite keeps it."""
    encoder = _ENCODERS.get(type_.split()[0])
    out: list[Any] = encoder(values) if encoder else values.tolist()
    if empty is not None:
        for at in empty.nonzero()[0].tolist():
            out[at] = None
    return out


_READERS: dict[str, Callable[[Any], Any]] = {"uuid": UUID, "json": json.loads}
_NUMBERS = {
    "integer": "int64",
    "bigint": "int64",
    "decimal": "int64",
    "seconds": "int64",
    "double": "float64",
}


def decode(type_: str, stored: Sequence[object]) -> tuple[Any, Any]:
    """A stored column as rules read it (see `rules.arrays`), and where it is empty."""
    import numpy

    word = type_.split()[0]
    empty = numpy.array([value is None for value in stored], dtype=bool)
    if word in ("date", "timestamp"):
        unit = "datetime64[D]" if word == "date" else "datetime64[us]"
        texts = ["1970-01-01" if value is None else str(value) for value in stored]
        return numpy.array(texts, dtype=unit), empty
    if word == "time":
        return numpy.array([_microseconds(value) for value in stored], dtype="int64"), empty
    if word in _NUMBERS or word == "boolean":
        plain = [0 if value is None else value for value in stored]
        return numpy.array(plain, dtype=_NUMBERS.get(word, "bool")), empty
    found = numpy.empty(len(stored), dtype=object)
    read = _READERS.get(word, lambda text: text)
    found[:] = ["" if value is None else read(value) for value in stored]
    return found, empty


def _microseconds(value: object) -> int:
    hour, minute, second = (str(value) if value else "0:0:0").split(":")
    return ((int(hour) * 60 + int(minute)) * 60) * 10**6 + round(float(second) * 10**6)
