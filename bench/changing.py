"""Changes of tables: what they cost beside a table of few rows, or beside plain SQL."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Callable
from pathlib import Path

from welbik.kinds import kinds
from welbik.language.diagnostics import Report
from welbik.language.parser import parse
from welbik.language.source import Source
from welbik.migrations.difference import difference
from welbik.migrations.plan import statements
from welbik.rules.sql import quote
from welbik.schema.model import Schema
from welbik.schema.resolve import resolve
from welbik.storage.backend import Database
from welbik.storage.connect import connect
from welbik.storage.tables import tables_of

_BEFORE = """model Visit
    code   text 12..12, required, unique
    held   date, required, indexed
    mites  integer 0..{most}, indexed
    notes  text 200
"""


def understood(text: str) -> Schema:
    """The schema of one file's text."""
    report = Report()
    return resolve([parse(Source("m", text), report, tuple(kinds()))], report)


def _change(database: Database, before: Schema | None, after: Schema, number: int) -> float:
    tables = tables_of(before) if before else {}
    steps = difference(tables, after).steps
    made = statements(database.ddl, tables, steps, dt.datetime.now(dt.UTC))
    start = time.perf_counter()
    database.migrate(f"{number:04}", f"{number}", "", lambda: made, number)
    return time.perf_counter() - start


def _lengthen(database: Database, schema: Schema, rows: int) -> None:
    database.prepare(tables_of(schema), "UTC")
    with database.transaction():
        for begin in range(0, rows, 50_000):
            ids = range(begin + 1, min(begin + 50_000, rows) + 1)
            columns = [
                ids,
                [f"V{n:011}" for n in ids],
                [f"20{n % 25:02}-0{n % 9 + 1}-1{n % 10}" for n in ids],
                [n * 7919 % 40 for n in ids],
                ["Nothing that would be worth telling." for _ in ids],
            ]
            database.insert("visit", ["id", "code", "held", "mites", "notes"], columns)


def growing(word: str, address: str, folder: Path, rows: int, times: int) -> dict[str, list[float]]:
    """The time that an optional column takes to that of writing every row once."""
    text, ratios = _BEFORE.format(most=40), []
    with connect(address, folder, create=True) as database:
        _change(database, None, understood(text), 1)
        _lengthen(database, understood(text), rows)
        for turn in range(times):
            old = understood(text)
            text += f"    more_{turn} text 9\n"
            ours = _change(database, old, understood(text), turn + 2)
            ratios.append(
                ours / _seconds(lambda: database.run("UPDATE visit SET mites = mites + 0"))
            )
    return {f"a new column, {rows:,} rows / each written once, {word}": ratios}


def rebuilding(address: str, folder: Path, rows: int, times: int) -> dict[str, list[float]]:
    """The rate of a table made anew by a migration to that of copying it into the same one by SQL."""
    database = connect(address, folder, create=True)
    schemas = [understood(_BEFORE.format(most=most)) for most in (40, 41)]
    _change(database, None, schemas[0], 1)
    _lengthen(database, schemas[0], rows)
    ratios = []
    for turn in range(times):
        ours = _change(database, schemas[turn % 2], schemas[(turn + 1) % 2], turn + 2)
        ratios.append(_copied(database) / ours)
    database.close()
    return {f"table made anew, {rows:,} rows / copied by SQL": ratios}


def _copied(database: Database) -> float:
    """The seconds that SQL takes for the same rows in the same table with the same indexes."""
    sources = [
        sql.replace("visit", "copied")
        for (sql,) in database.run(
            "SELECT sql FROM sqlite_master WHERE tbl_name = 'visit' AND sql IS NOT NULL"
        )
    ]
    start = time.perf_counter()
    with database.transaction():
        for sql in sources:
            database.run(sql)
        database.run(f"INSERT INTO {quote('copied')} SELECT * FROM {quote('visit')}")
    took = time.perf_counter() - start
    database.run("DROP TABLE copied")
    return took


def differing(models: int, times: int) -> dict[str, list[float]]:
    """The time that the difference of many models takes to the time of reading them."""
    fields = "".join(f"    field_{n} {kind}\n" for n, kind in enumerate(["text 80", "date"] * 5))
    text = "".join(
        f"model Model{n}\n{fields}" + (f"    parent -> Model{n - 1}\n" if n else "")
        for n in range(models)
    )
    changed = text.replace("text 80", "text 90", models // 2)
    ratios = []
    for _ in range(times):
        start = time.perf_counter()
        schema, tables = understood(changed), tables_of(understood(text))
        read = (time.perf_counter() - start) / 2
        ratios.append(_seconds(lambda s=schema, t=tables: difference(t, s)) / read)  # type: ignore[misc]
    return {f"the difference of {models} models / reading them": ratios}


def _seconds(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start
