"""Tables that Welbik made are adopted back to declarations that mean the same."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Iterator
from decimal import Decimal
from pathlib import Path

import pytest
from conftest import Project
from declared import declarations, understand
from hypothesis import assume, given, settings
from servers import WORDS, opened

from welbik.adoption.adopt import Wish, adopt, heal
from welbik.migrations.plan import statements
from welbik.migrations.steps import CreateTable
from welbik.storage.backend import Database
from welbik.storage.connect import connect
from welbik.storage.ddl import Ddl, indexes_of
from welbik.storage.tables import Table, tables_of

NOW = dt.datetime(2026, 4, 1, 12, tzinfo=dt.UTC)
Make = Callable[[str], Project]
_EXAMPLES = {"sqlite": 40, "postgresql": 15, "mariadb": 15}


@pytest.fixture(scope="module", params=WORDS)
def database(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Database]:
    with opened(request.param, tmp_path_factory.mktemp("back")) as found:
        yield found


def meaning(ddl: Ddl, table: Table) -> dict[str, object]:
    """What a table holds its rows to: columns with their types and ends, its key, its indexes."""
    keyed = {table.key, *table.keys}
    found: dict[str, object] = {
        f"column {c.name}": (ddl.column(table, c, {}), c.references, c.removal or "refuse")
        for c in table.columns
        if c.type != "json"
    }
    for column in table.columns:
        if column.type != "json":
            found |= {name: _plainly(said) for name, said in ddl.checks(table, column)}
    found["key"] = table.told_by
    indexes = [index for index in indexes_of(table) if set(index.columns) != keyed]
    unique = {index.columns for index in indexes if index.unique}
    # What is unique among the rows that live may be indexed besides: that says nothing more.
    found["indexes"] = {
        (index.columns, index.unique, index.live)
        for index in indexes
        if index.unique or index.columns not in unique
    }
    return found


def _plainly(condition: str) -> str:
    """A condition whose numbers have no zeros at their ends."""
    return re.sub(r"\d+\.\d+", lambda m: f"{Decimal(m[0]).normalize():f}", condition)


def _empty(database: Database) -> None:
    if database.in_a_file:
        database.run("PRAGMA foreign_keys = OFF")
    for name in sorted(database.table_names()):
        for statement in database.ddl.drop_table(name):
            if not name.startswith("sqlite_"):
                database.run(statement)


def test_what_welbik_made_is_declared_again(database: Database, tmp_path: Path) -> None:
    ddl = database.ddl

    @settings(max_examples=_EXAMPLES[database.word], deadline=None)
    @given(declarations())
    def same(text: str) -> None:
        schema, problems = understand(text)
        assume(not problems)
        # What holds files or lists alone has nothing that could be declared again.
        assume(
            all(any(c.type != "json" for c in tables_of(schema)[m.table].columns) for m in schema)
        )
        assume(all(m.references or any(not f.kind.as_json for f in m.fields) for m in schema))
        _empty(database)
        before = tables_of(schema)
        for statement in statements(ddl, {}, [CreateTable(t) for t in before.values()], NOW):
            assert isinstance(statement, str)
            database.run(statement)
        for statement in database.booked(1, "0001-made", "digest", "schema"):
            database.run(statement)
        found = adopt(database, Wish())
        heal(found, lambda declared: understand(declared)[1])
        again, problems = understand("\n".join(found.texts().values()))
        assert not problems
        after = tables_of(again)
        assert after.keys() == before.keys()
        for name, table in before.items():
            assert meaning(ddl, after[name]) == meaning(ddl, table), name

    same()


LOST = """\
model Hive
    code    text 7..7, required, unique
    kind    one of long | top_bar, required
    opened  date, required
    visits  <- Visit.hive
    keep bin, history
    sort -opened

model Visit
    hive    -> Hive, required, owned
    found   <-> Finding

model Finding
    name    text 2..60, required, unique

seed
    12 Hive
    30 Visit
    4 Finding
"""


def test_a_project_that_was_lost_begins_anew_from_its_database(make: Make) -> None:
    """Pairs and kept changes are taken over with the tables that they are of, and nothing is made."""
    project = make(LOST)
    for command in ("build", "migrate", "fill"):
        project.run(command)
    address = f"sqlite:///{project.root / 'bees.db'}"
    folder = project.root.parent / f"{project.root.name}-again"
    said = project.run("adopt", address, str(folder)).stdout
    assert "migrations of another project have run here" in said
    again = Project(folder)
    with connect(address, folder) as database:
        before = {name: database.look(name) for name in database.table_names()}
        rows = [database.values("visit_found", name) for name in ("visit_id", "finding_id")]
        assert "not in migrations" in again.run("sync", code=1).stderr
        database.run("DELETE FROM welbik_migration")
    again.run("sync")
    assert "All in step" in again.run("status").stdout
    with connect(address, folder) as database:
        assert {name: database.look(name) for name in before} == before
        assert [database.values("visit_found", n) for n in ("visit_id", "finding_id")] == rows
        assert rows[0]
    assert "passed" in again.python("-m", "pytest", "-q", "-p", "no:cacheprovider").stdout
