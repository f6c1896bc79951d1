"""Made-up rows: they obey every declaration, and row i depends on its number alone."""

from __future__ import annotations

import datetime as dt
import re
import sqlite3
from collections.abc import Callable
from contextlib import closing
from decimal import Decimal
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
import pytest
import servers
from conftest import Project
from declared import declarations, understand
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from servers import WORDS

from welbik.data.columns import as_python
from welbik.data.drawer import Drawer
from welbik.data.fill import fill
from welbik.data.people import local
from welbik.data.streams import permuted
from welbik.data.wordlists import options
from welbik.kinds.bounds import FromNow
from welbik.migrations.difference import difference
from welbik.migrations.plan import statements
from welbik.problems import WelbikError
from welbik.schema.model import Field, Schema
from welbik.storage.connect import connect
from welbik.storage.sqlite import Sqlite
from welbik.storage.tables import fingerprint, tables_of

NOW = dt.datetime.now(dt.UTC)


@given(st.integers(1, 10**6), st.integers(0, 2**64), st.data())
def test_a_permutation_takes_no_two_to_one(size: int, key: int, data: st.DataObject) -> None:
    start = data.draw(st.integers(0, size - 1))
    index = np.arange(start, min(size, start + 3000))
    out = permuted(index, size, key)
    assert len(set(out.tolist())) == len(index)
    assert out.min() >= 0 and out.max() < size


@given(
    declarations(), st.integers(0, 2**63), st.lists(st.integers(0, 4000), min_size=3, max_size=3)
)
@settings(max_examples=40)
def test_any_slice_is_the_same_rows(text: str, seed: int, cuts: list[int]) -> None:
    schema = understand(text)[0]
    drawer, (a, b, c) = Drawer(schema, seed), sorted(cuts)
    for model in schema:
        parents = dict.fromkeys(schema.models, 1000)
        whole = drawer.draw(model, a, c, parents)
        parts = [drawer.draw(model, a, b, parents), drawer.draw(model, b, c, parents)]
        for name, column in whole.items():
            joined = np.concatenate([part[name].values for part in parts])
            assert joined.tolist() == column.values.tolist()
            empties = [
                np.zeros(len(p[name].values), bool) if p[name].empty is None else p[name].empty
                for p in parts
            ]
            expected = np.zeros(c - a, bool) if column.empty is None else column.empty
            assert np.concatenate(empties).tolist() == expected.tolist()


def _end(value: Any) -> Any:
    if isinstance(value, FromNow):
        moment = NOW + dt.timedelta(days=value.days)
        return moment.date() if value.word == "today" else moment
    return value.replace(tzinfo=dt.UTC) if isinstance(value, dt.datetime) else value


def _obeys(field: Field, value: Any) -> bool:
    """Whether a value obeys its field, by the field's own declaration."""
    if value is None:
        return not field.required
    if field.pattern is not None and not re.fullmatch(field.pattern.text, value):
        return False
    kind: Any = field.kind
    if kind.word == "text":
        return (
            kind.shortest <= len(value) <= (kind.longest or 10**9) and value == value.strip() != ""
        )
    if kind.word == "one":
        return value in kind.names
    if kind.word == "email":
        return re.fullmatch(r"[a-z.]+\d*@example\.(org|com|net)", value) is not None
    if kind.word == "decimal":
        assert isinstance(value, Decimal) and -value.as_tuple().exponent == kind.places
    bounds = getattr(kind, "bounds", None)
    low, high = (_end(bounds.low), _end(bounds.high)) if bounds else (None, None)
    return (low is None or value >= low) and (high is None or value <= high)


@given(declarations(), st.integers(0, 2**63))
@settings(max_examples=60)
def test_every_value_obeys_its_declaration(text: str, seed: int) -> None:
    schema = understand(text)[0]
    for model in schema:
        drawn = Drawer(schema, seed).draw_fields(model, 0, 200)
        for field in model.fields:
            values = as_python(field.kind, drawn[field.name])
            wrong = [value for value in values if not _obeys(field, value)]
            assert not wrong, (field.name, field.kind, wrong[:3])


def _made(schema: Schema, path: Path) -> Sqlite:
    database = Sqlite(path, create=True)
    steps = difference({}, schema).steps
    database.migrate(
        "0001-all",
        "",
        fingerprint(tables_of(schema)),
        lambda: statements(Sqlite.ddl, {}, steps, NOW),
    )
    return database


@given(declarations())
@settings(max_examples=40)
def test_a_real_database_takes_them_all(text: str) -> None:
    schema, problems = understand(text)
    assume(not problems)
    with TemporaryDirectory() as folder:
        database = _made(schema, Path(folder) / "made.db")
        try:
            fill(database, Drawer(schema, 3), schema.seed)
        except WelbikError as error:
            # One or two rows may all not be among those that a relation may lead to.
            assume("meets the 'where'" not in error.message or max(schema.seed.values()) > 2)
            raise
        assert {model.name: database.count(model.table) for model in schema} == dict(schema.seed)
        assert database.connection.execute("PRAGMA foreign_key_check").fetchall() == []
        assert not fill(database, Drawer(schema, 3), schema.seed).added
        # Every row is its own ancestor's descendant at most once: trees have no loops.
        for reference in (r for model in schema for r in model.references if r.target == r.model):
            table, column = schema.models[reference.model].table, reference.column
            loops = f'SELECT count(*) FROM "{table}" WHERE "{column}" >= id'
            assert database.connection.execute(loops).fetchone()[0] == 0
        database.close()


def test_filling_adds_to_what_is_stored_and_avoids_its_values(built: Project) -> None:
    database = Sqlite(built.root / "bees.db")
    before = database.connection.execute("SELECT * FROM hive ORDER BY id").fetchall()
    taken = before[3]
    database.connection.execute("DELETE FROM hive WHERE id IN (1, 2)")
    database.connection.execute("DELETE FROM hive WHERE id = 30")
    assert "3 rows added" in built.run("fill").stdout
    after = database.connection.execute("SELECT * FROM hive ORDER BY id").fetchall()
    assert len(after) == 40 and taken in after
    assert set(before[2:29]) < set(after)
    assert "Nothing to add" in built.run("fill").stdout
    database.close()


def test_one_to_one_relations_to_own_rows_go_on_beside_stored_ones(
    make: Callable[[str], Project],
) -> None:
    project = make("model Box\n    mark text 9\n    below -> Box, unique\nseed\n    9 Box\n")
    for command in ("build", "migrate", "fill"):
        project.run(command)
    project.replace("models/bees.welbik", "9 Box", "30 Box")
    assert "21 rows added" in project.run("fill").stdout


def test_another_seed_makes_other_rows_and_the_same_seed_the_same(project: Project) -> None:
    first = project.run("sample", "Hive", "--format", "csv").stdout
    assert project.run("sample", "Hive", "--format", "csv").stdout == first
    part = project.run("sample", "Hive", "--format", "csv", "--from", "7", "--rows", "2").stdout
    assert part.splitlines()[1:] == first.splitlines()[8:10]
    project.write("welbik.toml", project.read("welbik.toml") + "seed = 8\n")
    assert project.run("sample", "Hive", "--format", "csv").stdout != first


def test_the_sample_is_what_is_stored(built: Project) -> None:
    database = Sqlite(built.root / "bees.db")
    stored = database.connection.execute(
        "SELECT hive.code, keeper.name, hive.frames FROM hive JOIN keeper ON keeper.id = keeper_id ORDER BY hive.id"
    ).fetchall()
    database.close()
    lines = built.run("sample", "Hive", "--rows", "40", "--format", "csv").stdout.splitlines()[1:]
    assert [tuple(line.split(",")[:3]) for line in lines] == [(a, b, str(c)) for a, b, c in stored]


@pytest.mark.parametrize(
    ("declared", "message", "checks", "fills"),
    [
        ("model A\n    n integer 1..3, required, unique\n", "only 3 different values", 0, 0),
        ("model A\n    b -> B, required\nmodel B\n    n text\n", "needs a B", 1, 1),
        (
            "model A\n    n integer 1..9, required\n    rule n * n = 47\n",
            "keeps: n \\* n = 47",
            0,
            1,
        ),
    ],
)
def test_rows_that_can_not_be_made_are_explained(
    make: Callable[[str], Project], declared: str, message: str, checks: int, fills: int
) -> None:
    project = make(declared + "seed\n    3 A\n")
    checked = project.run("check", code=checks)
    assert ("the seed makes none" in checked.stdout) == bool(checks)
    project.run("build", code=checks)
    project.run("migrate", code=checks)
    project.run("fill", code=fills)
    with pytest.raises(WelbikError, match=message):
        Drawer(understand(declared)[0], 1).draw(understand(declared)[0].models["A"], 0, 4, {})


def test_filling_is_all_or_nothing(make: Callable[[str], Project]) -> None:
    project = make(
        "model A\n    n text 9, required\nmodel B\n    n integer 1..9, required\n    rule n * n = 47\nseed\n    9 A\n    9 B\n"
    )
    project.run("build")
    project.run("migrate")
    assert "no B could be made up" in project.run("fill", code=1).stderr
    database = Sqlite(project.root / "bees.db")
    assert database.count("a") == 0
    database.close()


def test_a_text_that_is_called_so_holds_addresses_of_its_rows_people() -> None:
    schema, _ = understand(
        "model Customer\n    name text 3..40, required\n    contact_email text 120, unique, required\n"
        "    mail text 20\n"
    )
    drawn = Drawer(schema, 1).draw(schema.models["Customer"], 0, 400, {"Customer": 400})
    names, emails, mails = (drawn[n].values for n in ("name", "contact_email", "mail"))
    assert len(set(emails)) == 400
    for name, email in zip(names, emails, strict=True):
        assert email == f"{local(name)}@example.org"
    # What is too short for one holds words.
    assert not any("@" in mail for mail in mails)


@pytest.mark.parametrize("word", ["town", "person", "company", "street", "given_name"])
def test_what_is_said_of_values_holds_for_those_that_differ_too(word: str) -> None:
    text = f"model Spot\n    name text 3..60, required, unique, sample {word}\n"
    schema, _ = understand(text)
    drawn = Drawer(schema, 1).draw(schema.models["Spot"], 0, 150, {})["name"].values
    assert len(set(drawn)) == 150
    words = {part for name in options(word, 1, 60) for part in name.split()}
    assert all(part in words or part.isdigit() for name in drawn for part in name.split())


def test_listed_values_that_must_differ_come_once_each() -> None:
    text = 'model Spot\n    code text 2, required, unique, sample from("b", "a", "b", "c")\nseed\n    {} Spot\n'
    schema, problems = understand(text.format(3))
    assert not problems
    drawn = Drawer(schema, 1).draw(schema.models["Spot"], 0, 3, {"Spot": 3})["code"].values
    assert sorted(drawn) == ["a", "b", "c"]
    _, (problem,) = understand(text.format(4))
    assert "different values of code, which has 3" in problem.message


def test_who_can_be_called_and_was_born_is_somebody() -> None:
    text = "model {}\n    name text 40, required\n    {}\n    phone phone\n"
    for model, born in (("Skater", "size integer"), ("Someone", "born date")):
        schema, _ = understand(text.format(model, born))
        drawn = Drawer(schema, 1).draw(schema.models[model], 0, 99, {})["name"].values
        assert {name.split()[0] for name in drawn} <= set(options("given_name", 1, 40))
    schema, _ = understand("model Terrier\n    name text 40, required\n    born date\n")
    drawn = Drawer(schema, 1).draw(schema.models["Terrier"], 0, 99, {})["name"].values
    assert not {name.split()[0] for name in drawn} & set(options("given_name", 1, 40))


COUNTED = """\
model Person
    name    text 40, required
    limit   integer 1..4, required
    loans   <- Loan.person
    rule count(loans where back is empty) <= limit
model Tool
    bought  date 2005-01-01..2020-01-01, required
    loans   <- Loan.tool
    rule count(loans where back is empty) <= 1
    rule count(loans where state = broken and kg > 2) < 3
    rule count(loans where sound = no) <= 2
model Loan
    tool    -> Tool, required
    person  -> Person, required
    taken   date 2005-01-01..2025-01-01, required
    back    date, > taken, sample 30% empty
    state   one of new | used | broken, required
    kg      integer 1..9, required
    sound   boolean, required
    rule taken >= tool.bought
seed
    60 Person
    120 Tool
    600 Loan
"""


def test_no_more_rows_are_of_a_kind_than_a_rule_of_their_parent_lets_be(
    make: Callable[[str], Project],
) -> None:
    project = make(COUNTED)
    for command in ("build", "migrate", "fill"):
        project.run(command)
    assert "all are as declared" in project.run("check", "--rows").stdout
    with closing(sqlite3.connect(project.root / "bees.db")) as database:
        for kind, most in (
            ("back IS NULL", 1),
            ("state = 'broken' AND kg > 2", 2),
            ("sound = 0", 2),
        ):
            asked = f"SELECT tool_id, count(*) FROM loan WHERE {kind} GROUP BY tool_id"
            counts = [count for _, count in database.execute(asked)]
            # As many as there may be, where there would be more.
            assert max(counts) == most and counts.count(most) > 20, kind
    # Whoever makes a part of them makes the same.
    project.run("fill", "--to", "whole")
    for part in ("1/2", "2/2"):
        project.run("fill", "--to", "parts", "--part", part)
    whole = project.read("whole/loan.csv").splitlines()[1:]
    parts = [project.read(f"parts/loan-{n}-of-2.csv").splitlines()[1:] for n in (1, 2)]
    assert sorted(whole) == sorted([*parts[0], *parts[1]])


@pytest.mark.parametrize("word", WORDS)
@pytest.mark.parametrize("fixed", ["", "rows Hall\n    code | opened\n    M5 | 2004-01-01\n"])
def test_rows_lead_to_those_that_they_were_made_for_whatever_tells_these_apart(
    word: str,
    fixed: str,
    make: Callable[[str], Project],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    project = make(
        'model Hall\n    code text 2..2, required, unique, matches "[A-Z][1-9]"\n'
        "    opened date 2001-01-01..2020-12-31, required, sample uniform\n    key code\n"
        "model Kind\n    name text 30, required, unique\n"
        "model Tool\n    hall -> Hall, required\n    kind -> Kind, required\n"
        "    bought date 2001-01-01..2022-01-01, required, >= hall.opened\n"
        "    shelves <-> Hall, sample 1..3 per tool\n"
        f"rows Kind\n    name\n    Saw\n{fixed}seed\n    30 Hall\n    4 Kind\n    300 Tool\n"
    )
    with servers.database(word, tmp_path) as address:
        monkeypatch.setenv("DATABASE_URL", address)
        for command in ("build", "migrate", "fill"):
            project.run(command)
        assert "all are as declared" in project.run("check", "--rows").stdout
        shown = ["--columns", "hall,bought", "--format", "csv"]
        made = project.run("sample", "Tool", "--rows", "0..99", *shown).stdout
        stored = project.run("peek", "Tool", "--rows", "100", *shown).stdout
        assert made.splitlines() == stored.splitlines()
        # So it is in files, and with what is paired.
        project.run("fill", "--to", "out")
        header, *pairs = project.read("out/tool_shelves.csv").splitlines()
        with connect(address, tmp_path) as opened:
            held = opened.run(f"SELECT {header} FROM tool_shelves")
        assert sorted(pairs) == sorted(f"{tool},{hall}" for tool, hall in held)
