"""The generated projects' own tests, types and commands, from the first command on."""

from __future__ import annotations

from pathlib import Path

import pytest
import servers
from conftest import HERE, Project
from servers import WORDS

from welbik.storage.connect import connect


def _complete(project: Project, package: str, *, typed: bool = True) -> str:
    """Builds, migrates and fills a project, and runs its own tests and a strict type check."""
    for command in ("check", "build", "migrate", "fill", "status"):
        project.run(command)
    if typed:
        strict = ("-m", "mypy", "--strict", "--cache-dir", str(HERE.parent / ".mypy_cache"))
        project.python(*strict, package)
        project.python(*strict, *map(str, sorted(project.root.glob("tests/*.py"))), MYPYPATH=".")
    return project.python("-m", "pytest", "-q", "-p", "no:cacheprovider").stdout


def test_a_project_begun_with_init_runs_through_every_step(empty: Project) -> None:
    said = empty.run("init", "my-bees").stdout
    assert "welbik build" in said
    project = Project(empty.root / "my-bees")
    assert "passed" in _complete(project, "my_bees")
    assert (
        "passed"
        in project.python("-m", "pytest", "-q", "tests/test_hive.py", "-k", "unique").stdout
    )


def test_awkward_names_and_texts_are_carried_through(empty: Project) -> None:
    empty.run("init", "awkward", "--title", 'The "odd" {{ site }} & <co>')
    project = Project(empty.root / "awkward")
    project.write(
        "models/awkward.welbik", (HERE / "projects" / "awkward.welbik").read_text("utf-8")
    )
    assert "passed" in _complete(project, "awkward")


@pytest.mark.parametrize("word", WORDS[1:])
def test_a_project_on_a_server(empty: Project, word: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """All that SQLite has, on a server: every type, its pages and its tests."""
    empty.run("init", "texts")
    project = Project(empty.root / "texts")
    project.write("models/texts.welbik", (HERE / "projects" / "texts.welbik").read_text("utf-8"))
    with servers.database(word, empty.root) as address:
        monkeypatch.setenv("DATABASE_URL", address)
        # Its code is the same as elsewhere, and needs no second look.
        said = _complete(project, "texts", typed=False)
        assert "passed" in said
        # What the tests made for themselves is gone.
        with connect(address, empty.root) as database:
            # Others' tests may be at work beside these: theirs are in use.
            left = "schema_name FROM information_schema.schemata"
            used = "SELECT db FROM information_schema.processlist WHERE db IS NOT NULL"
            if word == "postgresql":
                left, used = "datname FROM pg_database", "SELECT datname FROM pg_stat_activity"
                used += " WHERE datname IS NOT NULL"
            name = left.partition(" ")[0]
            names = database.run(f"SELECT {left} WHERE {name} NOT IN ({used})")
        assert not [name for (name,) in names if name.startswith("welbik_test")]


def test_edges_that_cannot_be_had_are_not_tried(empty: Project) -> None:
    empty.run("init", "edges")
    project = Project(empty.root / "edges")
    project.write("models/edges.welbik", (HERE / "projects" / "edges.welbik").read_text("utf-8"))
    # What it is typed like, others have.
    said = _complete(project, "edges", typed=False)
    assert "passed" in said and "skipped" not in said


def test_relations_may_say_which_rows_they_lead_to(empty: Project) -> None:
    empty.run("init", "farm")
    project = Project(empty.root / "farm")
    project.write("models/farm.welbik", (HERE / "projects" / "where.welbik").read_text("utf-8"))
    assert "passed" in _complete(project, "farm")


def test_the_demo_does_everything_and_says_what_there_is(empty: Project) -> None:
    said = empty.run("demo", "--once").stdout
    assert "passed" in said and "failed" not in said
    assert "5,135 rows" in said
    # Some of its tests once more, to see that it can be.
    again = empty.run("demo", "--once", PYTEST_ADDOPTS="-k tables").stdout
    assert "Found the project" in again and "Nothing to add" in again
    assert "5,135 rows" in again


def test_the_demo_loses_nothing_unasked(empty: Project) -> None:
    empty.run("init", "register", "--package", "beekeepers")
    project = Project(empty.root / "register")
    for command in ("build", "migrate", "fill"):
        project.run(command)
    project.replace(
        "models/beekeepers.welbik", "    frames      integer 4..24, required, default 11\n", ""
    )
    project.replace("models/beekeepers.welbik", "kind, frames", "kind")
    assert "--allow-loss" in empty.run("demo", "register", "--once", code=1).stderr
    assert len(list((project.root / "migrations").iterdir())) == 1


def test_a_broken_rule_is_caught_by_the_generated_tests(built: Project) -> None:
    """The generated tests can fail: a form that forgets a bound does not get past them."""
    built.replace("bees/hive/form.py", "high=24", "high=25")
    with pytest.raises(AssertionError, match="test_checks.*frames"):
        built.python("-m", "pytest", "-q", "tests/test_hive.py", "-p", "no:cacheprovider")


def test_generated_tests_say_what_to_run_when_a_migration_is_missing(built: Project) -> None:
    built.replace("models/bees.welbik", "    frames ", "    notes   text 200\n    frames ")
    built.run("build")
    with pytest.raises(AssertionError, match="run welbik migrate"):
        built.python("-m", "pytest", "-q", "-p", "no:cacheprovider")


def test_declarations_may_be_spread_over_files(project: Project) -> None:
    keeper, hive = project.read("models/bees.welbik").split("\nmodel Hive")
    project.declare("model Hive" + hive)
    project.write("models/people/keepers.welbik", keeper)
    assert "2 models in 2 files" in project.run("check").stdout
    assert Path(project.root / "models" / "people" / "keepers.welbik").exists()
