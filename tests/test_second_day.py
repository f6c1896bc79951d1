"""The second day: declarations, tables and rows change together, and whoever is ahead is told."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable

import pytest
from conftest import Project
from test_terminal import terminal


def _rows(project: Project, query: str) -> list[tuple[object, ...]]:
    connection = sqlite3.connect(project.root / "bees.db")
    try:
        with connection:
            return connection.execute(query).fetchall()
    finally:
        connection.close()


def test_a_new_model_is_one_line_and_one_command_away(built: Project) -> None:
    built.run("add", "Visit", "hive -> Hive, required", "held date ..today, required")
    built.declare(built.read("models/bees.welbik").replace("40 Hive", "40 Hive\n    7 Visit"))
    said = built.run("sync").stdout
    assert "make the table visit" in said and "7 rows added" in said
    assert (built.root / "bees" / "visit" / "controller.py").exists()
    assert "All in step" in built.run("status").stdout
    assert "Nothing to do" in built.run("sync").stdout
    built.python("-m", "pytest", "-q", "-p", "no:cacheprovider", "tests/test_visit.py")


def test_no_line_of_code_is_ahead_of_what_the_rows_refuse(built: Project) -> None:
    built.replace("models/bees.welbik", "4..24, required, default 11", "4..5, required, default 5")
    before = built.files()
    assert "out of range" in built.run("sync", code=1).stderr
    assert built.files() == before
    # Who builds alone is told at once.
    assert "The code is ahead" in built.run("build").stdout


def test_what_was_changed_by_hand_is_told_and_taken_over_once_it_is_declared(
    built: Project,
) -> None:
    _rows(built, "ALTER TABLE hive ADD COLUMN weight INTEGER")
    _rows(built, "UPDATE hive SET weight = id")
    _rows(built, "DROP INDEX hive_frames_index")
    said = built.run("status", code=1).stdout
    assert "hive: the column weight (INTEGER) came by hand" in said
    assert 'ALTER TABLE "hive" DROP COLUMN "weight"' in said
    assert "hive: the index hive_frames_index (frames) went by hand" in said
    # Another migration blesses none of it.
    built.replace("models/bees.welbik", "    email ", "    notes   text 20\n    email ")
    built.run("sync")
    assert "2 differences" in built.run("status", code=1).stdout
    built.replace(
        "models/bees.welbik", "    frames ", "    weight  integer 0..99, required\n    frames "
    )
    built.run("sync")
    assert _rows(built, "SELECT count(*) FROM hive WHERE weight = id") == [(40,)]
    assert "All in step" in built.run("status").stdout


def test_the_last_migration_is_taken_back_with_what_can_come_back(built: Project) -> None:
    rows = _rows(built, "SELECT * FROM hive")
    built.replace(
        "models/bees.welbik",
        "frames  integer 4..24, required, default 11",
        "frames  decimal 4.0..24.0, required",
    )
    built.run("migrate")
    assert _rows(built, "SELECT min(frames) > 39 FROM hive") == [(1,)]
    assert "change the column hive.frames" in built.run("migrate", "--undo").stdout
    assert _rows(built, "SELECT * FROM hive") == rows
    assert len(list((built.root / "migrations").iterdir())) == 1
    with pytest.raises(sqlite3.IntegrityError, match="hive_frames_range"):
        _rows(built, "UPDATE hive SET frames = 25")


def test_what_cannot_come_back_is_said_first(built: Project) -> None:
    built.replace("models/bees.welbik", "    opened  date 2015-01-01..today, required\n", "")
    built.run("migrate", "--allow-loss")
    said = built.run("migrate", "--undo", code=1)
    assert "hive.opened: what it held before is in bees.db.before-0002" in said.stdout
    assert "--undo --allow-loss" in said.stderr
    assert "opened" not in [row[1] for row in _rows(built, "PRAGMA table_info(hive)")]
    built.run("migrate", "--undo", "--allow-loss")
    assert _rows(built, "SELECT DISTINCT opened FROM hive") == [("2015-01-01",)]


def test_three_copies_from_before_stay(built: Project) -> None:
    for most in range(25, 30):
        built.replace("models/bees.welbik", f"4..{most - 1}", f"4..{most}")
        built.run("migrate")
    copies = sorted(path.name for path in built.root.glob("bees.db.before-*"))
    assert [name[:19] for name in copies] == [f"bees.db.before-000{n}" for n in (4, 5, 6)]
    newest = sqlite3.connect(built.root / copies[-1])
    ((source,),) = newest.execute("SELECT sql FROM sqlite_master WHERE name = 'hive'").fetchall()
    newest.close()
    assert "BETWEEN 4 AND 28" in source


def test_steps_written_by_hand_run_in_their_place(built: Project) -> None:
    built.replace("models/bees.welbik", "    email ", "    notes   text 20\n    email ")
    built.run("migrate")
    name = max(path.name for path in (built.root / "migrations").iterdir())
    text = built.read(f"migrations/{name}")
    built.run("migrate", "--undo")
    built.write(
        f"migrations/{name}",
        text
        + '\n[[step]]\nsql = { sqlite = ["UPDATE keeper SET notes = \'one\'"], postgresql = "" }\n'
        + '\n[[step]]\npython = "tools:more"\n',
    )
    built.write(
        "tools.py",
        "def more(database):\n    database.run(\"UPDATE keeper SET notes = notes || ' and two'\")\n",
    )
    assert "for mariadb" not in built.run("migrate", "--sql", "postgresql", code=1).stderr
    built.run("migrate")
    assert _rows(built, "SELECT DISTINCT notes FROM keeper") == [("one and two",)]
    # What was written by hand stays, as migrating would not write it again.
    built.run("migrate", "--undo", "--allow-loss")
    assert (built.root / "migrations" / name).exists()
    assert "tools:less, which is not there" in _without_function(built, name)


def _without_function(project: Project, name: str) -> str:
    project.replace(f"migrations/{name}", "tools:more", "tools:less")
    before = _rows(project, "SELECT * FROM keeper")
    said = project.run("migrate", code=1).stderr
    assert _rows(project, "SELECT * FROM keeper") == before
    return said


LISTED = """\
part Frame
    place  integer 1..{most}, required
    state  one of full | bare
    rule place < 9 when state = full, say "Too far"

model Hive
    code    text 4..4, required, unique, matches "{form}"
    opened  date ..today, required
    mother  -> Hive, on removal clear
    frames  list of Frame
    hives   <- Hive.mother
    rule count(hives) <= {children}

seed
    30 Hive
"""


@pytest.fixture
def listed(make: Callable[[str], Project]) -> Project:
    project = make(LISTED.format(most=24, form="[A-Z]{2}[0-9]{2}", children=30))
    project.run("sync")
    return project


def test_every_row_is_asked_for_everything_that_is_declared(listed: Project) -> None:
    assert "all are as declared" in listed.run("check", "--rows").stdout
    _rows(listed, "UPDATE hive SET mother_id = NULL")
    _rows(listed, "UPDATE hive SET mother_id = 3 - id WHERE id < 3")
    _rows(listed, "UPDATE hive SET code = 'ab12' WHERE id = 3")
    _rows(listed, "UPDATE hive SET opened = '2999-01-01' WHERE id IN (4, 5)")
    _rows(listed, """UPDATE hive SET frames = '[{"place": 9, "state": "full"}]' WHERE id = 6""")
    _rows(listed, """UPDATE hive SET frames = '[{"state": "bare"}]' WHERE id = 7""")
    said = listed.run("check", "--rows", code=1).stdout
    for part in (
        "Hive.mother: 2 rows standing in a circle",
        "Hive.code: 1 row not matching",
        "Hive.opened: 2 rows after today",
        "Hive.frames: 2 rows with an entry",
        "breaks the rule: place < 9",
        "entry 1: place is missing",
    ):
        assert part in said
    told = json.loads(listed.run("check", "--rows", "--format", "json", code=1).stdout)
    assert {(one["at"], one["count"]) for one in told} == {
        ("mother", 2),
        ("code", 1),
        ("opened", 2),
        ("frames", 2),
    }
    for one in told:
        if one["at"] != "frames":
            assert len(_rows(listed, one["sql"].replace("REGEXP", "GLOB"))) >= one["count"] - 1


@pytest.mark.parametrize(
    ("told", "most", "form", "children"),
    [
        ("hive.code: 30 rows not matching", 24, "[0-9]{4}", 30),
        ("with an entry that is not as declared", 1, "[A-Z]{2}[0-9]{2}", 30),
        ("breaking the rule: count(hives) <= 0", 24, "[A-Z]{2}[0-9]{2}", 0),
    ],
)
def test_what_no_table_can_hold_is_asked_of_stored_rows_before_it_is_taken_on(
    listed: Project, told: str, most: int, form: str, children: int
) -> None:
    _rows(listed, "UPDATE hive SET mother_id = 1 WHERE id > 1")
    before = listed.files()
    listed.declare(LISTED.format(most=most, form=form, children=children))
    after = listed.files()
    assert told in listed.run("migrate", code=1).stderr
    assert listed.files() == after != before
    # Beside other changes it is asked at the end of them, and nothing of those is left.
    listed.replace("models/bees.welbik", "    opened ", "    notes text 9\n    opened ")
    before = listed.files()
    assert told in listed.run("sync", code=1).stderr
    assert listed.files() == before
    assert "notes" not in [row[1] for row in _rows(listed, "PRAGMA table_info(hive)")]
    assert len(list((listed.root / "migrations").iterdir())) == 1


def test_a_yes_at_a_terminal_declares_what_a_field_was_called(built: Project) -> None:
    built.replace("models/bees.welbik", "    frames  integer", "    boxes   integer")
    built.replace("models/bees.welbik", "keeper, frames", "keeper, boxes")
    said = terminal(built, "migrate", waits_for="[y/N]", answer="y\n")
    assert said.code == 0 and "Was boxes called frames?" in said.text
    assert "default 11, was frames" in built.read("models/bees.welbik")
    assert _rows(built, "SELECT count(*) FROM hive WHERE boxes BETWEEN 4 AND 24") == [(40,)]
    # It has done its work, and goes when asked to.
    assert "remark: 'was frames'" in built.run("check").stdout
    built.run("check", "--fix")
    assert "was frames" not in built.read("models/bees.welbik")
    assert "Nothing to do" in built.run("migrate").stdout


def test_an_expression_is_applied_once(built: Project) -> None:
    line = "frames  integer 4..24, required, default 11"
    built.replace("models/bees.welbik", line, "frames  integer 4..99, required, was frames * 2")
    built.run("migrate")
    most = _rows(built, "SELECT max(frames) FROM hive")
    built.replace("models/bees.welbik", "4..99", "4..98")
    built.run("migrate")
    assert _rows(built, "SELECT max(frames) FROM hive") == most


def test_fields_of_a_part_are_called_anew_in_every_stored_list(listed: Project) -> None:
    _rows(listed, """UPDATE hive SET frames = '[{"place": 3, "state": "bare"}]' WHERE id < 9""")
    text = listed.read("models/bees.welbik")
    text = text.replace(
        "    place  integer 1..24, required", "    spot   integer 1..24, required, was place"
    )
    text = text.replace("rule place < 9", "rule spot < 9")
    listed.declare(
        text.replace("full | bare", "full | bare\n    wired  boolean, required, default yes")
    )
    said = listed.run("sync").stdout
    assert "call place spot, give wired true where there is none" in said
    assert _rows(listed, "SELECT DISTINCT frames FROM hive WHERE id < 9") == [
        ('[{"spot": 3, "state": "bare", "wired": true}]',)
    ]
    assert "all are as declared" in listed.run("check", "--rows").stdout
    listed.python("-m", "pytest", "-q", "-p", "no:cacheprovider", "-k", "entries or stored")
    assert "old name, and no expression" in _refused(
        listed, text.replace("was place", "was place + 1")
    )


def _refused(project: Project, text: str) -> str:
    project.declare(text)
    return project.run("check", code=1).stdout


def test_rows_that_would_be_made_are_asked_about_too(make: Callable[[str], Project]) -> None:
    project = make(
        "model Hive\n    code text 4..4, required, unique\n    brand text 40\nseed\n    4 Hive\n"
    )
    project.run("sync")
    _rows(project, "UPDATE hive SET brand = 'Maisie'")
    _rows(project, "UPDATE hive SET brand = NULL WHERE id = 1")
    _rows(project, "UPDATE hive SET brand = 'Oakley and daughters' WHERE id = 2")
    maker = 'model Maker\n    name text 1..{most}, required, unique\n    shown as "{{name}}"\n'
    hive = "model Hive\n    code text 4..4, required, unique\n    maker -> Maker{required}, was brand\n"
    seed = "seed\n    2 Maker\n    4 Hive\n"
    project.declare(maker.format(most=40) + hive.format(required=", required") + seed)
    said = project.run("migrate", code=1).stderr
    assert "hive.maker_id: 1 row without a value, and it is required" in said
    project.declare(maker.format(most=9) + hive.format(required="") + seed)
    said = project.run("migrate", code=1).stderr
    assert "hive: 1 row of which maker.name can't be made" in said and "Oakley" in said
    project.declare(maker.format(most=40) + hive.format(required="") + seed)
    project.run("migrate")
    assert _rows(project, "SELECT count(*), count(maker_id) FROM hive") == [(4, 3)]
    assert _rows(project, "SELECT count(*) FROM maker") == [(2,)]
