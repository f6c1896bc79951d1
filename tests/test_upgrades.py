"""A database that grew by migrations is the same as one made at once, and keeps every row."""

from __future__ import annotations

import datetime as dt
import re
import sqlite3
from pathlib import Path
from tempfile import TemporaryDirectory

from declared import declarations, understand
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from welbik.data.drawer import Drawer
from welbik.data.fill import fill
from welbik.migrations.difference import difference
from welbik.migrations.run import statements
from welbik.problems import WelbikError
from welbik.schema.model import Schema
from welbik.storage.sqlite import Sqlite
from welbik.storage.tables import tables_of

_CHECK = re.compile(r'CONSTRAINT ("\w+") CHECK \(((?:[^()]|\([^()]*\))*)\)')
NOW = dt.datetime(2026, 4, 1, 12, tzinfo=dt.UTC)


@st.composite
def _grown(draw: st.DrawFn) -> tuple[str, str]:
    """Declarations, and the same without some fields and without the models that nothing needs."""
    text = draw(declarations())
    lines = text.split("\n")
    fields = [
        n
        for n, line in enumerate(lines)
        if re.match(r"    \w+ (?!->|<-)[a-z]+", line) and not re.match(r"    (list|sort) ", line)
    ]
    gone = set(draw(st.lists(st.sampled_from(fields), max_size=4))) if fields else set()
    kept = [
        line
        for n, line in enumerate(lines)
        if n not in gone and not re.match(r"    (list|sort) ", line)
    ]
    return "\n".join(kept), text


def _shape(database: Sqlite) -> dict[str, list[object]]:
    """Columns in alphabetical order with their types and keys, and the CHECKs, of every table."""
    found: dict[str, list[object]] = {}
    ask = database.connection.execute
    for name, sql in ask(
        "SELECT name, sql FROM sqlite_master WHERE name NOT LIKE 'sqlite_stat%' AND type IN ('table', 'index') ORDER BY name"
    ).fetchall():
        columns = sorted(row[1:4] for row in ask(f'PRAGMA table_info("{name}")'))
        keys = sorted(row[2:] for row in ask(f'PRAGMA foreign_key_list("{name}")'))
        checks = sorted(_CHECK.findall(sql or ""))
        found[name] = [*columns, *keys, *checks]
    return found


def _migrate(database: Sqlite, before: Schema | None, after: Schema) -> None:
    tables = tables_of(before) if before else {}
    change = difference(tables, after)
    # Whatever grows has a way: a refusal is a mistake.
    assert not change.refused, change.refused
    try:
        number = 2 if before else 1
        made = statements(Sqlite.ddl, tables, change.steps, NOW)
        database.migrate("next", f"{number}", "", made, number)
    except WelbikError as error:
        # Rows that were made before a rule, or before a field that is required and has no default,
        # may break it: then nothing is changed.
        assert "_rule" in error.message or "NOT NULL" in error.message
        assume(False)


@given(_grown())
@settings(max_examples=60)
def test_a_grown_database_is_the_same_and_keeps_its_rows(texts: tuple[str, str]) -> None:
    (small, first), (large, second) = (understand(text) for text in texts)
    assume(not first and not second and small.models)
    with TemporaryDirectory() as folder:
        grown, fresh = (
            Sqlite(Path(folder) / "grown.db", create=True),
            Sqlite(Path(folder) / "fresh.db", create=True),
        )
        _migrate(grown, None, small)
        fill(grown, Drawer(small, 1), small.seed)
        before = {m.table: _rows(grown, m.table, [c.column for c in m.members]) for m in small}
        _migrate(grown, small, large)
        _migrate(fresh, None, large)
        assert _shape(grown) == _shape(fresh)
        for model in small:
            assert (
                _rows(grown, model.table, [c.column for c in model.members]) == before[model.table]
            )
        assert grown.connection.execute("PRAGMA foreign_key_check").fetchall() == []
        # And back again, column by column, with the rows that stay.
        _migrate(grown, large, small)
        for model in small:
            assert (
                _rows(grown, model.table, [c.column for c in model.members]) == before[model.table]
            )
        grown.close()
        fresh.close()


def _rows(database: Sqlite, table: str, columns: list[str]) -> list[sqlite3.Row]:
    names = ", ".join(f'"{column}"' for column in ["id", *columns])
    return database.connection.execute(f'SELECT {names} FROM "{table}" ORDER BY id').fetchall()
