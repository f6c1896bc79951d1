"""SQLite: DDL, bookkeeping, and loading rows in bulk.

Decimals are kept as whole numbers of their smallest place, so that order and sums are
exact; dates and moments as ISO 8601 text.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from decimal import Decimal
from pathlib import Path
from typing import Any

from ..problems import WelbikError
from .tables import Column, Table, ends

BOOKS = "welbik_migration"
_BUSY_SECONDS = 10


def quote(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


def sql_type(type_: str) -> str:
    word, *numbers = type_.split()
    if word == "text":
        return f"VARCHAR({numbers[0]})" if numbers else "TEXT"
    if word == "decimal":
        # The name holds INT, which is what gives the column whole-number affinity.
        return f"SCALED_INTEGER({numbers[0]}, {numbers[1]})"
    names = {"reference": "INTEGER", "integer": "INTEGER", "bigint": "BIGINT", "double": "DOUBLE"}
    return names.get(word) or {"boolean": "BOOLEAN", "date": "DATE", "timestamp": "TIMESTAMP"}[word]


def literal(value: str, type_: str) -> str:
    """A neutral value (see `Kind.neutral`) as SQL."""
    word, *numbers = type_.split()
    if word in ("integer", "bigint", "double"):
        return value
    if word == "decimal":
        return str(int(Decimal(value).scaleb(int(numbers[1]))))
    if word == "boolean":
        return "1" if value == "yes" else "0"
    if word == "timestamp":
        return _text(value.replace("T", " ")[:19].ljust(19, "0") + ".000000")
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


def _column(table: str, column: Column) -> str:
    parts = [quote(column.name), sql_type(column.type)]
    if column.required:
        parts.append("NOT NULL")
    if column.references:
        action = {"remove": " ON DELETE CASCADE", "clear": " ON DELETE SET NULL"}.get(
            column.removal, ""
        )
        parts.append(f'REFERENCES {quote(column.references)} ("id"){action}')
    parts.extend(_checks(table, column))
    return " ".join(parts)


def create_table(table: Table, name: str = "") -> list[str]:
    columns = [
        '"id" INTEGER PRIMARY KEY AUTOINCREMENT',
        *(_column(table.name, column) for column in table.columns),
    ]
    body = ",\n  ".join(columns)
    return [f"CREATE TABLE {quote(name or table.name)} (\n  {body}\n)"]


def create_indexes(table: Table) -> list[str]:
    statements = []
    for column in table.columns:
        if column.unique or column.references:
            kind, ending = ("UNIQUE INDEX", "unique") if column.unique else ("INDEX", "index")
            index = quote(f"{table.name}_{column.name}_{ending}")
            statements.append(
                f"CREATE {kind} {index} ON {quote(table.name)} ({quote(column.name)})"
            )
    return statements


def add_column(before: Table, after: Table, column: Column, fill: str) -> list[str]:
    """An optional column is added in place; a required one needs the table made anew."""
    if column.required:
        return rebuild(before, after, {column.name: literal(fill, column.type)})
    table, name = quote(after.name), quote(column.name)
    statements = [f"ALTER TABLE {table} ADD COLUMN {_column(after.name, column)}"]
    if fill:
        statements.append(f"UPDATE {table} SET {name} = {literal(fill, column.type)}")
    return statements + create_indexes(Table(after.name, (column,)))


def rebuild(before: Table, after: Table, fills: dict[str, str]) -> list[str]:
    """The table made anew with its rows, by the steps SQLite's own manual gives (ALTER TABLE, 7)."""
    kept = [column for column in after.columns if before.column(column.name)]
    names = ['"id"', *(quote(c.name) for c in kept), *(quote(name) for name in fills)]
    values = ['"id"', *(quote(c.name) for c in kept), *fills.values()]
    new = f"{after.name}__new"
    return [
        *create_table(after, new),
        f"INSERT INTO {quote(new)} ({', '.join(names)})\nSELECT {', '.join(values)} FROM {quote(before.name)}",
        f"DROP TABLE {quote(before.name)}",
        f"ALTER TABLE {quote(new)} RENAME TO {quote(after.name)}",
        *create_indexes(after),
    ]


def path_of(url: str, root: Path) -> Path:
    """The file of a `sqlite:///path` URL; a relative path starts at the project."""
    rest = url.removeprefix("sqlite:///")
    if rest == url or not rest or rest.startswith("?"):
        raise WelbikError(
            f"the database {url!r} names no file",
            "write it as sqlite:///name.db, a file beside welbik.toml, or sqlite:////path/name.db",
        )
    return root / rest.partition("?")[0]


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
            uri = f"{path.resolve().as_uri()}?mode={mode}"
            self.connection = sqlite3.connect(
                uri, uri=True, isolation_level=None, timeout=_BUSY_SECONDS
            )
            self.connection.execute("PRAGMA foreign_keys = ON")
            self.connection.execute("PRAGMA schema_version").fetchone()
            if create:
                # Readers and the one writer then do not wait for each other.
                self.connection.execute("PRAGMA journal_mode = WAL")
        except sqlite3.Error as error:
            raise self._unopened(str(error), "check the path and its permissions") from None

    def _unopened(self, reason: str, remedy: str) -> WelbikError:
        return WelbikError(
            f"the database {self.path} can't be opened: {reason}",
            f"{remedy}, or change 'database' in welbik.toml",
        )

    def close(self) -> None:
        self.connection.close()

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

    def migrate(self, name: str, digest: str, schema: str, statements: Sequence[str]) -> None:
        """Runs one migration and writes it down, or leaves everything as it was."""
        # Tables are made anew under other tables that refer to them, so references rest meanwhile.
        self.connection.execute("PRAGMA foreign_keys = OFF")
        try:
            with self.transaction():
                self.connection.execute(
                    f"CREATE TABLE IF NOT EXISTS {BOOKS} (number INTEGER PRIMARY KEY, name VARCHAR(200) NOT NULL, "
                    "digest VARCHAR(64) NOT NULL, schema VARCHAR(16) NOT NULL, applied TIMESTAMP NOT NULL)"
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
                    f"INSERT INTO {BOOKS} (name, digest, schema, applied) VALUES (?, ?, ?, datetime('now'))",
                    (name, digest, schema),
                )
        finally:
            self.connection.execute("PRAGMA foreign_keys = ON")

    def count(self, table: str) -> int:
        return int(self.connection.execute(f"SELECT count(*) FROM {quote(table)}").fetchone()[0])

    def values(self, table: str, column: str) -> list[object]:
        """A column of all rows, in the order of their ids."""
        rows = self.connection.execute(f"SELECT {quote(column)} FROM {quote(table)} ORDER BY id")
        return [value for (value,) in rows]

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


_ENCODERS: dict[str, Callable[[Any], list[Any]]] = {
    "date": _iso_days,
    "timestamp": _iso_moments,
}


def encode(type_: str, values: Any, empty: Any | None) -> list[Any]:
    """A drawn column (a NumPy array and a mask of its empty places) as SQLite keeps it."""
    encoder = _ENCODERS.get(type_.split()[0])
    out: list[Any] = encoder(values) if encoder else values.tolist()
    if empty is not None:
        for at in empty.nonzero()[0].tolist():
            out[at] = None
    return out
