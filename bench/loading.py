"""Filling against the same rows loaded by the driver alone, as fast as the database takes them."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from welbik.data.drawer import Drawer
from welbik.data.fill import fill
from welbik.project.declarations import schema_of
from welbik.project.testing import make_database
from welbik.rules.sql import quote
from welbik.schema.model import Schema
from welbik.storage.backend import Database
from welbik.storage.connect import connect
from welbik.storage.neutral import as_lines
from welbik.storage.tables import tables_of

Ready = list[tuple[str, list[str], list[list[Any]]]]
"""Tables with the names and the values of their columns."""


def filling(
    folder: Path, word: str, addresses: tuple[str, str], counts: dict[str, int]
) -> dict[str, list[float]]:
    """The rate of `fill` to that of the database's own way to load; two empty databases are given."""
    schema = schema_of(folder)
    for address in addresses:
        make_database(folder, address)
    ours, raw = (connect(address, folder, loads=True) for address in addresses)
    with ours, raw:
        start = time.perf_counter()
        fill(ours, Drawer(schema, 1), counts)
        took = time.perf_counter() - start
        ready = _ready(ours, schema)
        raw.prepare(tables_of(schema), "UTC")
        alone = _WAYS[word](raw, ready, folder)
        assert raw.count("inspection") == ours.count("inspection")
    rows = sum(len(columns[0]) for _, _, columns in ready)
    return {f"fill / {_CALLED[word]}, {rows:,} rows": [alone / took]}


def _ready(database: Database, schema: Schema) -> Ready:
    found: Ready = []
    for name, table in tables_of(schema).items():
        names = [*(["id"] if not table.key else []), *(column.name for column in table.columns)]
        columns = [database.values(name, column) for column in names]
        if columns[0]:
            found.append((name, names, columns))
    return found


def _by_sqlite(database: Any, ready: Ready, folder: Path) -> float:
    rows = [(t, names, list(zip(*columns, strict=True))) for t, names, columns in ready]
    start = time.perf_counter()
    database.run("BEGIN IMMEDIATE")
    database.run("PRAGMA defer_foreign_keys = ON")
    for table, names, some in rows:
        marks = ", ".join("?" * len(names))
        listed = ", ".join(map(quote, names))
        database.connection.executemany(
            f"INSERT INTO {quote(table)} ({listed}) VALUES ({marks})", some
        )
    database.run("COMMIT")
    return time.perf_counter() - start


def _by_copy(database: Any, ready: Ready, folder: Path) -> float:
    texts = _texts(database, ready)
    start = time.perf_counter()
    database.run("BEGIN")
    database.run("SET CONSTRAINTS ALL DEFERRED")
    for table, names, text in texts:
        listed = ", ".join(map(quote, names))
        with database.connection.cursor().copy(
            f"COPY {quote(table)} ({listed}) FROM STDIN"
        ) as copy:
            copy.write(text)
    database.run("COMMIT")
    return time.perf_counter() - start


def _by_load_data(database: Any, ready: Ready, folder: Path) -> float:
    files = []
    for table, names, text in _texts(database, ready):
        path = folder / f"{table}.ready"
        path.write_text(text, "utf-8")
        files.append((table, names, path))
    start = time.perf_counter()
    database.run("SET foreign_key_checks = 0")
    database.run("START TRANSACTION")
    for table, names, path in files:
        listed = ", ".join(map(quote, names))
        database.run(
            f"LOAD DATA LOCAL INFILE '{path}' INTO TABLE {quote(table)} CHARACTER SET utf8mb4 "
            f"FIELDS TERMINATED BY X'09' ESCAPED BY X'5C' LINES TERMINATED BY X'0A' ({listed})"
        )
    database.run("COMMIT")
    return time.perf_counter() - start


def _texts(database: Database, ready: Ready) -> list[tuple[str, list[str], str]]:
    return [
        (table, names, as_lines(columns, [database.type_of(table, name) for name in names]))
        for table, names, columns in ready
    ]


_WAYS: dict[str, Callable[[Any, Ready, Path], float]] = {
    "sqlite": _by_sqlite,
    "postgresql": _by_copy,
    "mariadb": _by_load_data,
}
_CALLED = {"sqlite": "driver alone", "postgresql": "COPY alone", "mariadb": "LOAD DATA alone"}
