"""What was once lost, changed or left out without a word."""

from __future__ import annotations

import json
import random
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Project
from declared import understand
from servers import WORDS, database

from welbik.language.layout import tidy
from welbik.storage.connect import connect
from welbik.storage.tables import tables_of

COMPARISONS = ["!= low", ">= low", "<= 80", "between 2 and 70", "in (4, 5)", "> 1"]


def test_tidying_changes_no_table() -> None:
    """Comparisons keep their order: it is what their constraints are called by."""
    chosen = random.Random(3)
    for _ in range(200):
        parts = [*chosen.sample(COMPARISONS, 3), "required", 'label "L"', "unique"]
        chosen.shuffle(parts)
        said = [
            f'{part}, say "{n}"' if n % 2 else part
            for n, part in enumerate(parts)
            if part != 'label "L"'
        ]
        text = f"model Hive\n    low integer\n    kg integer 1..90, {', '.join(said)}\n"
        before, problems = understand(text)
        assert not problems, problems
        after, problems = understand(tidy(text))
        assert not problems and tables_of(after) == tables_of(before), text


MENDED = [
    ("kg decimal(10,2)", "kg decimal(10,2)"),
    ("born Date", "born date"),
    ("keeper Keepr", "keeper -> Keeper"),
    ("keeper Nobody", "keeper Nobody"),
    ("keeper Keeper", "keeper -> Keeper"),
    ("kg integr", "kg integer"),
]


@pytest.mark.parametrize(("line", "mended"), MENDED)
def test_a_mend_leaves_nothing_that_can_t_be_mended(
    project: Project, line: str, mended: str
) -> None:
    text = "model Keeper\n    name text 40\n\nmodel Hive\n    {}\n    code text 7\n"
    project.declare(text.format(line))
    assert project.run("check", code=1).stdout
    project.run("check", "--fix", code=0 if line != mended else 1)
    assert project.read("models/bees.welbik") == text.format(mended)


def test_what_leads_to_many_is_told_so(project: Project) -> None:
    project.declare(
        "model Keeper\n    name text 40\n    skills <-> Skill\n    hives <- Hive.keeper\n"
        "    list name, skills.name\n    sort hives\n\n"
        "model Skill\n    name text 40\n\nmodel Hive\n    keeper -> Keeper\n    code text 7\n"
    )
    told = project.run("check", code=1).stdout
    assert told.count("leads to many rows") == 2 and "has no field" not in told


def test_what_is_internal_is_on_no_page(make: Callable[[str], Project]) -> None:
    project = make(
        "model Hive\n    code text 7, required, unique\n    secret text 30, internal\n    list code\nseed\n    3 Hive\n"
    )
    project.run("sync")
    with connect("sqlite:///bees.db", project.root) as stored:
        stored.run("UPDATE hive SET secret = 'hunter' || id")
    page = (
        "import bees; client = bees.create_app().test_client(); "
        "print([client.get(p).text for p in ('/hives/1', '/hives?_columns=*', '/hives/1/edit', '/hives?_as=csv&_columns=*')])"
    )
    shown = project.python("-c", page).stdout
    assert "hunter" not in shown and "ecret" not in shown


def test_rows_for_a_program_are_all_of_them(make: Callable[[str], Project]) -> None:
    project = make("model Hive\n    code text 7, required, unique\nseed\n    33 Hive\n")
    project.run("sync")
    assert len(project.run("peek", "Hive", "--format", "csv").stdout.splitlines()) == 34
    assert len(json.loads(project.run("peek", "Hive", "--format", "json").stdout)) == 33
    assert (
        len(project.run("peek", "Hive", "--format", "csv", "--rows", "5").stdout.splitlines()) == 6
    )
    assert "13 more are there" in project.run("peek", "Hive").stdout


def test_a_step_file_of_sql_alone_is_run(make: Callable[[str], Project]) -> None:
    project = make("model Hive\n    code text 7, required, unique\nseed\n    3 Hive\n")
    project.run("sync")
    project.write(
        "migrations/0002-upper.toml", "[[step]]\nsql = \"UPDATE hive SET code = 'x' || id\"\n"
    )
    assert "ran 0002-upper" in project.run("migrate").stdout
    assert "All in step" in project.run("status").stdout
    rows = connect("sqlite:///bees.db", project.root).run("SELECT code FROM hive")
    assert sorted(rows) == [("x1",), ("x2",), ("x3",)]


def test_pairs_that_never_were_are_refused(make: Callable[[str], Project]) -> None:
    text = "model Tag\n    name text 20\n\nmodel Hive\n    code text 7, required, unique\n    {}\n"
    project = make(text.format("tag -> Tag"))
    project.run("migrate")
    project.declare(text.format("tags <-> Tag, was tag"))
    said = project.run("migrate", "--allow-loss", code=1)
    assert "no relation to many was called so" in said.stdout + said.stderr


HISTORY = """\
model Keeper
    name    text 40, required

model Hive
    code    text 7, required, unique
    {}    text 40
    {}   -> Keeper
    keep history
"""


@pytest.mark.parametrize("word", WORDS)
def test_history_follows_a_renamed_column(
    word: str, tmp_path: Path, make: Callable[[str], Project], monkeypatch: pytest.MonkeyPatch
) -> None:
    with database(word, tmp_path) as address:
        monkeypatch.setenv("DATABASE_URL", address)
        project = make(HISTORY.format("colour", "keeper"))
        project.run("sync")
        kept = {"colour": ["", "red", "", "red"], "keeper": ["", "Ann", "", "1"]}
        text = json.dumps(kept).replace("'", "''")
        project.sql(
            'INSERT INTO hive_history ("row", changed_at, changes) '
            f"VALUES ('1', '2026-01-01 10:00:00', '{text}')"
        )
        project.declare(
            HISTORY.format(["tone", " was colour"][0], "owner")
            .replace("tone    text 40", "tone    text 40, was colour")
            .replace("owner   -> Keeper", "owner   -> Keeper, was keeper")
        )
        project.run("migrate")
        (((found,),)) = project.sql("SELECT changes FROM hive_history")
        found = found if isinstance(found, dict) else json.loads(found)
        assert found == {"tone": kept["colour"], "owner": kept["keeper"]}
        project.run("migrate", "--undo", "--allow-loss")
        (((found,),)) = project.sql("SELECT changes FROM hive_history")
        assert (found if isinstance(found, dict) else json.loads(found)) == kept


FILLED = """\
model Keeper
    name    text 40, required

model Finding
    name    text 40, required, unique

rows Finding
    name
    Mites

seed
    {} Keeper
"""


def test_made_up_rows_never_join_rows_of_people(make: Callable[[str], Project]) -> None:
    project = make(FILLED.format(3))
    project.run("sync")
    project.declare(FILLED.format(5))
    # As long as all rows are made up, or fixed, more of them are added.
    assert "2 rows added" in project.run("sync").stdout
    with connect("sqlite:///bees.db", project.root) as stored:
        stored.run("INSERT INTO keeper (name) VALUES ('Ann')")
    project.declare(FILLED.format(9))
    assert "people's rows of Keeper are stored" in project.run("status").stdout
    assert "people's rows of Keeper" in project.run("sync").stdout
    with connect("sqlite:///bees.db", project.root) as stored:
        assert stored.count("keeper") == 6
    # Whoever wants them all the same says so.
    assert "3 rows added" in project.run("fill").stdout


def test_in_production_nothing_is_made_up(make: Callable[[str], Project]) -> None:
    project = make(FILLED.format(3))
    project.replace("welbik.toml", 'package = "bees"', 'package = "bees"\nproduction = true')
    assert "production = true" in project.run("sync").stdout
    for asked in (
        ["fill"],
        ["fill", "--add", "1", "Keeper"],
        ["fill", "--replace"],
        ["fill", "--part", "1/2"],
    ):
        assert "production = true" in project.run(*asked, code=1).stderr
    with connect("sqlite:///bees.db", project.root) as stored:
        assert stored.count("keeper") == 0 and stored.count("finding") == 1
    project.run("status")
    project.replace("welbik.toml", "production = true", 'production = "no"')
    assert "true or false" in project.run("status", code=1).stderr


def test_products_beyond_64_bits_stop_at_their_end() -> None:
    import numpy as np

    from welbik.rules.arrays import _OPERATIONS, _saturated

    chosen = random.Random(5)
    numbers = [chosen.randint(-(2**62), 2**62) >> chosen.randint(0, 60) for _ in range(400)]
    first, second = np.array(numbers[:200], np.int64), np.array(numbers[200:], np.int64)
    for operation in _OPERATIONS.values():
        found = _saturated(operation, first, second).tolist()
        for a, b, result in zip(first.tolist(), second.tolist(), found, strict=True):
            exact = operation(a, b)
            assert result == exact or (abs(exact) >= 2**62 and (result > 0) == (exact > 0)), (a, b)
