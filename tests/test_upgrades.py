"""What is called anew, or was broken off, ends as if it had always been so."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import pytest
from declared import understand
from servers import WORDS, opened

from welbik.data.drawer import Drawer
from welbik.data.fill import fill
from welbik.data.memory import MADE, UNDER_WAY
from welbik.migrations.difference import difference
from welbik.migrations.plan import statements
from welbik.problems import WelbikError
from welbik.schema.model import Model, Schema
from welbik.storage.backend import BOOKS, LOOKS, Database
from welbik.storage.books import FIXED
from welbik.storage.tables import tables_of

_OURS = {
    BOOKS,
    FIXED,
    LOOKS,
    MADE,
    UNDER_WAY,
    "welbik_progress",
    "sqlite_sequence",
    "sqlite_stat1",
    "sqlite_stat4",
}
NOW = dt.datetime(2026, 4, 1, 12, tzinfo=dt.UTC)


def shape(database: Database) -> dict[str, dict[str, str]]:
    """All there is to know of every table."""
    return {name: database.look(name) for name in sorted(database.table_names() - _OURS)}


def _migrate(database: Database, before: Schema | None, after: Schema) -> None:
    tables = tables_of(before) if before else {}
    change = difference(tables, after)
    # Whatever grows has a way: a refusal is a mistake.
    assert not change.refused, change.refused
    number = 2 if before else 1
    made = statements(database.ddl, tables, change.steps, NOW)
    database.migrate("next", f"{number}", "", lambda: made, number)


def _rows(database: Database, model: Model) -> list[list[object]]:
    return [database.values(model.table, c) for c in ["id", *(m.column for m in model.members)]]


BEFORE = """\
model Box
    code    text 4..4, required, unique
    mass    decimal 0.5..9.5, required
    full    boolean, required, default no
    yard    -> Yard, required
    above   -> Box, on removal clear
    notes   text 900
    rule mass < 9 when full, say "Too heavy"
    unique mass, yard
    keep bin
model Yard
    name    text 2..20, required
    spare   -> Box
seed
    4 Yard
    9 Box
"""
AFTER = """\
model Crate
    was Box
    mark    text 4..4, required, unique, was code
    weight  decimal 0.5..9.5, required, was mass
    filled  boolean, required, default no, was full
    place   -> Yard, required, was yard
    upper   -> Crate, on removal clear, was above
    remarks text 900, was notes
    rule weight < 9 when filled, say "Too heavy"
    unique weight, place
    keep bin
model Yard
    name    text 2..20, required
    extra   -> Crate, was spare
seed
    4 Yard
    9 Crate
"""


@pytest.mark.parametrize("word", WORDS)
def test_what_is_called_anew_is_as_if_it_had_always_been(word: str, tmp_path: Path) -> None:
    (before, _), (after, problems) = understand(BEFORE), understand(AFTER)
    assert not problems
    with opened(word, tmp_path) as grown, opened(word, tmp_path) as fresh:
        _migrate(grown, None, before)
        fill(grown, Drawer(before, 1), before.seed)
        rows = _rows(grown, before.models["Box"])
        _migrate(grown, before, after)
        _migrate(fresh, None, after)
        assert shape(grown) == shape(fresh)
        grown.prepare(tables_of(after), "UTC")
        assert _rows(grown, after.models["Crate"]) == rows
        fill(grown, Drawer(after, 1), {"Yard": 6, "Crate": 12})
        assert grown.count("crate") == 12


def test_a_migration_that_was_broken_off_goes_on_where_it_was(tmp_path: Path) -> None:
    """MariaDB takes no table back: what is done is written down, and not done again."""
    schema, _ = understand(BEFORE)
    steps = difference({}, schema).steps
    with opened("mariadb", tmp_path) as fresh:
        made = statements(fresh.ddl, {}, steps, NOW)
        _migrate(fresh, None, schema)
        whole = shape(fresh)
    for number in range(1, len(made), 3):
        with opened("mariadb", tmp_path) as database:
            broken = [*made[:number], "SELECT no_such_thing", *made[number:]]
            with pytest.raises(WelbikError, match="no_such_thing") as told:
                database.migrate("next", "1", "", lambda: broken, 1)  # noqa: B023
            assert f"{number} of the {len(broken)} statements" in told.value.remedy
            assert database.begun() == {"next"} and not database.applied()
            # Its own note may be the one thing that is missing: then it is done a second time.
            database.run('UPDATE "welbik_progress" SET "done" = "done" - 1')
            assert database.migrate("next", "1", "", lambda: made, 1)
            assert shape(database) == whole and not database.begun()
