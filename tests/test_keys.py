"""A table gets another key: what referred to its rows still does, on every database, and back again."""

from __future__ import annotations

from pathlib import Path

import pytest
from conftest import Project
from declared import understand
from hypothesis import given, settings
from hypothesis import strategies as st
from servers import WORDS, opened
from test_changes import NOW, PHASES, _Growing, _run, _values
from test_upgrades import shape

from welbik.data.drawer import Drawer
from welbik.data.fill import fill
from welbik.data.stored import Stored
from welbik.migrations.difference import difference
from welbik.migrations.files import as_migration, to_toml
from welbik.migrations.plan import statements
from welbik.migrations.risks import risks
from welbik.migrations.undo import back
from welbik.schema.model import Schema
from welbik.storage.backend import Database
from welbik.storage.tables import tables_of

DECLARED = """\
model Yard
    name    text 2..20, required, unique
    code    text 4..300, required{unique}, sample words(4..6)
    no      integer 1..9999, required, unique
    keep history{yard}

model Deed
    yard    -> Yard, required, unique
    text    text 2..20, required, unique{deed}
    shown as "{{text}}"

model Visit
    deed    -> Deed, required
    note    text 2..30, required, unique
    shown as "{{note}}"

model Hive
    tag     uuid, required, unique
    name    text 2..30, required, unique
    yard    -> Yard, required
    spare   -> Yard, sample 40% empty
    above   -> Hive
    tools   <-> Tool, sample 1..3 per hive
    keep bin{hive}

model Frame
    place   integer 1..20, required
    hive    -> Hive, required
    unique hive, place{frame}
    shown as "{{place}}"

model Tool
    name    text 2..20, required, unique
seed
    5 Yard
    4 Deed
    7 Visit
    9 Hive
    12 Frame
    3 Tool
"""
KEYS = {
    "yard": ["", "code", "no", "name"],
    "deed": ["", "yard", "text"],
    "hive": ["", "tag", "name"],
    "frame": ["", "hive, place", "none\n    pages list, view"],
}


def declared(keys: dict[str, str]) -> str:
    said = {model: f"\n    key {key}" if key else "" for model, key in keys.items()}
    return DECLARED.format(unique=", unique", **said)


MORE = {
    "wider": ("2..20, required, unique\n    code", "2..40, required, unique\n    code"),
    "more of them": ("1..9999", "1..99999"),
    "leads there too": ("model Tool\n", "model Tool\n    yard    -> Yard\n"),
    "a new one leads there": ("seed\n", "model Note\n    yard    -> Yard, required\nseed\n"),
    "a new key": (
        "    no      ",
        "    mark    text 2..40, required, unique, was name\n    key mark\n    no      ",
    ),
    "the old key goes": ("    code    text 4..300, required, unique, sample words(4..6)\n", ""),
}
"""What else is declared otherwise at once."""


@st.composite
def two(draw: st.DrawFn) -> tuple[str, str]:
    """Declarations with some keys, and the same with others."""
    first, second = (
        {model: draw(st.sampled_from(keys)) for model, keys in KEYS.items()} for _ in range(2)
    )
    more = draw(st.lists(st.sampled_from(list(MORE)), max_size=2, unique=True))
    if "a new key" in more or ("the old key goes" in more and second["yard"] == "code"):
        second["yard"] = ""
    new = declared(second)
    for one in sorted(more, key=list(MORE).index):
        assert MORE[one][0] in new
        new = new.replace(*MORE[one])
    return declared(first), new


Told = dict[str, list[list[str]]]


def told(database: Database, schema: Schema, other: Schema) -> Told:
    """The rows as people read them, what they lead to by its name: as far as another schema has it."""
    database.prepare(tables_of(schema), "UTC")
    found = {}
    for model in (model for model in schema if model.name in other.models):
        names = [m.name for m in model.members if m.name in other.models[model.name].by_name]
        stored = Stored(database, schema, model, "UTC", names)
        found[model.name] = sorted([str(value) for value in row] for row in stored.rows(99))
    hives = dict(_texts(database, "hive", tables_of(schema)["hive"].own))
    tools = dict(_texts(database, "tool", "id"))
    pairs = zip(*(database.values("hive_tools", c) for c in ("hive_id", "tool_id")), strict=True)
    assert found["Hive"]
    found["pairs"] = sorted([hives[str(one)], tools[str(other)]] for one, other in pairs)
    return found


def _texts(database: Database, table: str, key: str) -> list[tuple[str, str]]:
    columns = (database.values(table, column) for column in (key, "name"))
    return [(str(key), str(name)) for key, name in zip(*columns, strict=True)]


MANY = {"sqlite": 60, "postgresql": 12, "mariadb": 6}


@pytest.mark.parametrize("word", WORDS)
def test_another_key_leaves_every_row_where_it_leads(word: str, tmp_path: Path) -> None:
    @given(two())
    @settings(max_examples=MANY[word], phases=PHASES, report_multiple_bugs=False)
    def holds(texts: tuple[str, str]) -> None:
        (old, first), (new, second) = (understand(text) for text in texts)
        assert not first and not second, (first, second)
        if tables_of(old) != tables_of(new):
            with opened(word, tmp_path) as grown, opened(word, tmp_path) as fresh:
                _there_and_back(grown, fresh, old, new)

    holds()


def _there_and_back(grown: Database, fresh: Database, old: Schema, new: Schema) -> None:
    before, after = tables_of(old), tables_of(new)
    _run(grown, {}, list(difference({}, old).steps), 1)
    fill(grown, Drawer(old, 1), old.seed)
    _keep_changes(grown, old)
    rows, changes, made = told(grown, old, new), _changes(grown, old), shape(grown)
    change = difference(before, new)
    assert not change.refused
    assert as_migration("0002-next", to_toml(change.steps, "")).steps == tuple(change.steps)
    found = risks(grown, before, change.steps, NOW, {})
    assert {risk.kind for risk in found} <= {"cost", "loss"}, found
    _Growing(grown, fresh, old, new, change, [])._broken_off(made, _values(grown, before))
    _run(grown, before, change.steps, 2)
    _run(fresh, {}, list(difference({}, new).steps), 1)
    assert shape(grown) == shape(fresh)
    assert told(grown, new, old) == rows and _changes(grown, new) == changes
    way = back(before, change.steps)
    if way.empty:
        return
    assert not way.stays
    assert {r.kind for r in risks(grown, after, way.steps, NOW, {})} <= {"cost", "loss"}
    undone = statements(grown.ddl, after, way.steps, NOW)
    grown.undo("0002", lambda: undone, 2)
    assert shape(grown) == made
    assert told(grown, old, new) == rows and _changes(grown, old) == changes


def _keep_changes(database: Database, schema: Schema) -> None:
    """One change of each yard, and one of a yard that is gone."""
    key = tables_of(schema)["yard"].own
    rows = [str(value) for value in database.values("yard", key)]
    for number, row in enumerate([*rows, "gone"]):
        said = row.replace("'", "''")
        database.run(
            'INSERT INTO yard_history ("row", changed_at, changes) '
            f"VALUES ('{said}', '2026-01-0{number + 1} 00:00:00', '[{number}]')"
        )


def _changes(database: Database, schema: Schema) -> dict[str, str]:
    """Whose change each is that is kept."""
    key = tables_of(schema)["yard"].own
    yards = dict(_texts(database, "yard", key))
    rows = database.values("yard_history", "row")
    changes = [str(one) for one in database.values("yard_history", "changes")]
    return {c: yards.get(str(r), str(r)) for c, r in zip(changes, rows, strict=True)}


@pytest.mark.parametrize("word", WORDS)
@pytest.mark.parametrize("more", ["", "    mark text 2..9\n"])
def test_a_key_that_rows_share_is_refused_before_anything_runs(
    more: str, word: str, tmp_path: Path
) -> None:
    text = "model Yard\n    name text 2..20, required{unique}\n{key}seed\n    1 Yard\n"
    old, _ = understand(text.format(unique="", key=""))
    new, _ = understand(text.format(unique=", unique", key=f"{more}    key name\n"))
    before = tables_of(old)
    with opened(word, tmp_path) as database:
        _run(database, {}, list(difference({}, old).steps), 1)
        rows = ("East", "West", "East", "North")
        database.insert("yard", ["id", "name"], [[*range(1, 5)], [*rows]])
        change = difference(before, new)
        (found,) = risks(database, before, change.steps, NOW, {})
        assert (found.kind, found.where, found.count) == ("refused", "yard.name", 2)
        assert found.first == (("East", "2 rows"),)


@pytest.mark.parametrize("word", WORDS)
@pytest.mark.parametrize("key", ["name", "no"])
def test_a_key_that_stays_may_hold_more(key: str, word: str, tmp_path: Path) -> None:
    text = declared({**dict.fromkeys(KEYS, ""), "yard": key, "deed": "yard"})
    (old, _), (new, _) = (
        understand(one)
        for one in (text, text.replace(*MORE["wider"]).replace(*MORE["more of them"]))
    )
    with opened(word, tmp_path) as grown, opened(word, tmp_path) as fresh:
        _there_and_back(grown, fresh, old, new)


def test_a_project_lives_on_with_another_key(project: Project) -> None:
    """Code, tests and rows follow the key, and come back with it."""
    plain = 'model Yard\n    code text 4..4, required, unique, matches "[A-Z]{2}[0-9]{2}"\n'
    plain += "    note text 40\n    keep history\n"
    hives = "model Hive\n    no integer 1..99, required\n    yard -> Yard, required\n"
    hives += "    unique yard, no\nseed\n    4 Yard\n    9 Hive\n"
    keyed = plain + "    key code\n"
    project.declare(plain + hives)
    project.run("sync")
    told = [project.run("peek", "Hive", "--sort", "no", "--format", "csv").stdout]
    project.declare(keyed + hives)
    assert "tell the rows of yard apart by code" in project.run("migrate", "--preview").stdout
    project.run("sync")
    told.append(project.run("peek", "Hive", "--sort", "no", "--format", "csv").stdout)
    tests = ["-m", "pytest", "-q", "-p", "no:cacheprovider", "tests/test_yard.py"]
    assert "passed" in project.python(*tests).stdout
    assert "2 Yard" in project.run("fill", "--add", "2", "Yard").stdout
    project.run("check", "--rows")
    project.run("migrate", "--undo")
    project.declare(plain + hives)
    project.run("sync")
    told.append(project.run("peek", "Hive", "--sort", "no", "--format", "csv").stdout)
    assert told[0] == told[1] == told[2] and told[0].count("\n") == 10
    # Which rows were made up is not known by keys that are gone: none is taken for one.
    project.run("fill", "--replace", "--yes")
    assert project.run("peek", "Yard", "--format", "csv").stdout.count("\n") == 7


@pytest.mark.parametrize("word", WORDS)
def test_what_refers_to_a_key_follows_its_new_values(word: str, tmp_path: Path) -> None:
    text = declared({**dict.fromkeys(KEYS, ""), "yard": "name", "deed": "yard"})
    text = text.replace("keep history", 'keep history\n    shown as "{name}"')
    other = text.replace("unique\n    code", "unique, was code || name\n    code")
    other = other.replace("2..20, required, unique, was", "2..400, required, unique, was")
    (old, _), (new, _) = understand(text), understand(other)
    before = tables_of(old)
    with opened(word, tmp_path) as database:
        _run(database, {}, list(difference({}, old).steps), 1)
        fill(database, Drawer(old, 1), old.seed)
        _keep_changes(database, old)
        rows, changes = told(database, old, old), _changes(database, old)
        change = difference(before, new)
        found = risks(database, before, change.steps, NOW, {})
        assert not change.refused and not found, (change.refused, found)
        _run(database, before, change.steps, 2)
        now = told(database, new, old)
        # Each yard is called by its new key, and so are its changes.
        assert list(_changes(database, new)) == list(changes)
        assert "gone" in changes.values() and len({*_changes(database, new).values()}) == 6
        assert {*_changes(database, new).values()} - {"gone"} == {row[0] for row in now["Yard"]}
        assert now["Visit"] == rows["Visit"] and now["pairs"] == rows["pairs"]
        codes = {name: f"{code}{name}" for name, code, _ in rows["Yard"]}
        for model, at in (("Deed", 0), ("Hive", 2)):
            changed = [[*row[:at], codes[row[at]], *row[at + 1 :]] for row in rows[model]]
            if model == "Hive":
                changed = [[*row[:3], codes.get(row[3], row[3]), *row[4:]] for row in changed]
            assert sorted(changed) == now[model]


BESIDE = (
    """model Guest
    name    text 20, required
model Yard
    code    text 3..3, required, unique
    key code
seed
    3 Guest
    2 Yard
""",
    """model Guest
    first   text 20, required, was name
    last    text 20, default "west"
model Yard
    code    text 3..3, required, unique
    room    text 9, required, default "east"
seed
    3 Guest
    2 Yard
""",
)


def test_what_an_undo_takes_is_said_beside_a_key_that_changes_back(project: Project) -> None:
    """A key splits the steps in parts, and what comes later is asked of the rows too."""
    for text in BESIDE:
        project.declare(text)
        project.run("sync")
    said = project.run("migrate", "--undo", code=1)
    assert "guest.last: 3 rows losing their value" in said.stdout
    assert "yard.room: 2 rows losing their value" in said.stdout
    assert "--allow-loss" in said.stderr
    assert "took" in project.run("migrate", "--undo", "--allow-loss").stdout
