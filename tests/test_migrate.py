"""Bringing the database to the declarations: simple changes done, all else refused, nothing half done."""

from __future__ import annotations

import signal
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory
from uuid import UUID

import pytest
import servers
from conftest import WELBIK, Project
from declared import declarations, understand
from hypothesis import assume, given, settings

from welbik.migrations.difference import difference
from welbik.migrations.files import read_migration, tables_after, to_toml
from welbik.storage.tables import fingerprint, tables_of


def _rows(project: Project, query: str) -> list[tuple[object, ...]]:
    with sqlite3.connect(project.root / "bees.db") as connection:
        return connection.execute(query).fetchall()


@given(declarations())
@settings(max_examples=50)
def test_a_migration_file_keeps_all_that_is_declared(text: str) -> None:
    schema, problems = understand(text)
    assume(not problems)
    wanted = tables_of(schema)
    with TemporaryDirectory() as folder:
        path = Path(folder) / "0001-all.toml"
        path.write_text(to_toml(difference({}, schema).steps, fingerprint(wanted)), "utf-8")
        migration = read_migration(path)
    assert tables_after([migration]) == wanted
    assert migration.schema == fingerprint(wanted)
    assert not difference(wanted, schema)


def test_the_first_migration_makes_every_table_and_running_again_does_nothing(
    project: Project,
) -> None:
    project.run("build")
    assert "make the table keeper" in project.run("migrate").stdout
    before = project.files()
    assert "Nothing to do" in project.run("migrate").stdout
    assert project.files() == before
    with pytest.raises(sqlite3.IntegrityError, match="hive_frames_range"):
        _rows(
            project,
            "INSERT INTO hive (code, keeper_id, frames, opened) VALUES ('AB-1234', 1, 3, '2020-01-01')",
        )


def test_new_models_and_fields_are_added_and_rows_kept(built: Project) -> None:
    before = _rows(built, "SELECT * FROM hive ORDER BY id")
    built.replace(
        "models/bees.welbik",
        "    frames ",
        "    notes   text 200\n    checked date, required, default today\n    weight  decimal 0..99.99, required, default 12.50\n    level   one of low | high, default low\n    frames ",
    )
    built.replace(
        "models/bees.welbik",
        "seed\n",
        "model Visit\n    hive -> Hive, required, on removal remove\n    note text 20\n\nseed\n",
    )
    built.run("build")
    said = built.run("migrate").stdout
    for part in (
        "make the table visit",
        "add the column hive.notes",
        "hive.checked",
        "12.50 in the rows",
    ):
        assert part in said
    after = _rows(built, "SELECT id, code, keeper_id, frames, kind, opened FROM hive ORDER BY id")
    assert sorted(map(str, after[0])) == sorted(map(str, before[0])) and len(after) == len(before)
    assert set(_rows(built, "SELECT notes, checked, weight, level FROM hive")) == {
        (None, *_rows(built, "SELECT date('now')")[0], 1250, "low")
    }
    with pytest.raises(sqlite3.IntegrityError):
        _rows(built, "UPDATE hive SET weight = NULL")
    assert _rows(built, "PRAGMA foreign_key_check") == []
    built.python("-m", "pytest", "-q", "-p", "no:cacheprovider", "tests/test_hive.py")


def test_a_field_comes_with_a_rule_over_it(make: Callable[[str], Project]) -> None:
    project = make("model Hive\n    opened date, required\nseed\n    4 Hive\n")
    for command in ("migrate", "fill"):
        project.run(command)
    project.declare("model Hive\n    opened date, required\n    closed date, >= opened\n")
    assert "1 migration run" in project.run("migrate").stdout
    with sqlite3.connect(project.root / "bees.db") as database:
        database.execute("UPDATE hive SET closed = opened")
        with pytest.raises(sqlite3.IntegrityError):
            database.execute("UPDATE hive SET closed = '1990-01-01'")


def test_a_field_goes_only_after_a_question(built: Project) -> None:
    built.replace(
        "models/bees.welbik",
        '    kind    one of national | long "Long hive", default national\n',
        "",
    )
    before = built.files()
    assert "--allow-loss" in built.run("migrate", code=1).stderr
    assert "take away the column hive.kind" in built.run("migrate", "--preview").stdout
    assert built.files() == before
    built.run("build")
    built.run("migrate", "--allow-loss")
    assert "kind" not in [row[1] for row in _rows(built, "PRAGMA table_info(hive)")]
    assert _rows(built, "SELECT count(*) FROM hive") == [(40,)]
    assert "All in step" in built.run("status").stdout


REFUSED = [
    ("4..24, required, default 11", "4..5, required, default 5", "out of range"),
    ("    frames ", "    size integer, required\n    frames ", "give it a default"),
    (
        "    frames ",
        "    first -> Keeper, required\n    frames ",
        "each row can then be given its keeper",
    ),
    ("    frames ", "    size integer, unique, default 3\n    frames ", "Leave the default out"),
    (
        'kind    one of national | long "Long hive"',
        "kind    one of national | top_bar",
        "with none of the choices",
    ),
    ("frames  integer 4..24, required, default 11", "frames  date, required", "was frames"),
    (
        "opened  date 2015-01-01..today, required",
        "opened  integer, was opened + name",
        "has no field 'name'",
    ),
]


@pytest.mark.parametrize(("old", "new", "reason"), REFUSED)
def test_what_rows_or_values_have_against_it_is_told_and_nothing_done(
    built: Project, old: str, new: str, reason: str
) -> None:
    built.replace("models/bees.welbik", old, new)
    before, rows = built.files(), _rows(built, "SELECT * FROM hive")
    said = built.run("migrate", code=1).stderr
    assert reason in said and "nothing was changed" in said
    assert built.files() == before and _rows(built, "SELECT * FROM hive") == rows


def test_a_model_goes_with_its_rows_only_where_that_is_allowed(
    make: Callable[[str], Project],
) -> None:
    project = make(
        "model Hive\n    code text 7\nmodel HiveHistory\n    note text 20\nseed\n    3 HiveHistory\n"
    )
    for command in ("build", "migrate", "fill"):
        project.run(command)
    project.declare("model Hive\n    code text 7\n")
    said = project.run("migrate", code=1).stderr
    assert "hive_history: 3 rows going with the table" in said and "--allow-loss" in said
    assert _rows(project, "SELECT count(*) FROM hive_history") == [(3,)]
    project.run("migrate", "--allow-loss")
    assert ("hive_history",) not in _rows(project, "SELECT name FROM sqlite_master")
    # On another database the loss was allowed once and for all: the migration says so.
    for file in project.root.glob("bees.db*"):
        file.unlink()
    project.run("migrate")


def test_words_on_pages_need_no_migration(built: Project) -> None:
    built.replace(
        "models/bees.welbik", 'hint "Such as AB-1234"', 'hint "Like AB-1234", label "Number"'
    )
    built.run("build")
    assert "Nothing to do" in built.run("migrate").stdout


def test_sql_is_shown_and_not_run(project: Project) -> None:
    said = project.run("migrate", "--sql").stdout
    assert 'CREATE TABLE "hive"' in said and "BETWEEN 4 AND 24" in said
    assert not (project.root / "migrations").exists() and not (project.root / "bees.db").exists()
    sqlite3.connect(":memory:").executescript(said)


def test_a_migration_that_fails_takes_its_file_back(built: Project) -> None:
    _rows(built, "CREATE TABLE visit (id INTEGER)")
    built.replace("models/bees.welbik", "seed\n", "model Visit\n    note text 20\n\nseed\n")
    before = built.files()
    assert "no migration made" in built.run("migrate", code=1).stderr
    assert built.files() == before


def test_changed_missing_and_doubled_migrations_are_told_apart(built: Project) -> None:
    path = next((built.root / "migrations").glob("*.toml"))
    text = path.read_text("utf-8")
    path.write_text(text.replace("4..24", "4..25"), "utf-8")
    built.replace("models/bees.welbik", "4..24", "4..25")
    assert "is not what ran on this database" in built.run("migrate", code=1).stderr
    path.write_text("nonsense", "utf-8")
    assert "can't be read" in built.run("migrate", code=1).stderr
    path.write_text(text, "utf-8")
    path.with_name("0001-other.toml").write_text(text, "utf-8")
    said = built.run("migrate", code=1).stderr
    assert (
        "have one number" in said
        and "mv migrations/0001-other.toml migrations/0002-other.toml" in said
    )
    path.with_name("0001-other.toml").rename(path.with_name("0004-other.toml"))
    assert "should have the number 0002" in built.run("migrate", code=1).stderr


_KILLED = """
import os, signal, sys
from welbik.storage import sqlite
real = sqlite.Database.migrate
def migrate(self, name, digest, schema, work, number):
    def pulled():
        for number, statement in enumerate(work()):
            if number == {at}:
                os.kill(os.getpid(), signal.SIGKILL)
            yield statement
    return real(self, name, digest, schema, pulled, number)
sqlite.Database.migrate = migrate
from welbik.cli.main import main
sys.argv = ["welbik", "migrate", "--allow-loss"]
main()
"""


@pytest.mark.parametrize("at", [0, 1, 2, 3, 4])
def test_a_pulled_plug_loses_nothing_and_the_next_run_goes_on(built: Project, at: int) -> None:
    built.replace(
        "models/bees.welbik", "    frames ", '    notes text, required, default "-"\n    frames '
    )
    built.run("build")
    before = _rows(built, "SELECT * FROM hive ORDER BY id")
    killed = subprocess.run(
        [sys.executable, "-c", _KILLED.format(at=at)], cwd=built.root, check=False
    )
    assert killed.returncode == -signal.SIGKILL
    assert _rows(built, "SELECT * FROM hive ORDER BY id") == before
    assert "ran 0002" in built.run("migrate").stdout
    assert _rows(built, "SELECT DISTINCT notes FROM hive") == [("-",)]
    assert _rows(built, "PRAGMA integrity_check") == [("ok",)]


def test_a_migration_that_ran_keeps_its_file_though_nobody_listens(built: Project) -> None:
    built.replace("models/bees.welbik", "    frames ", "    notes text 9\n    frames ")
    silent = subprocess.Popen(
        [WELBIK, "migrate"], cwd=built.root, stdout=subprocess.PIPE, stderr=subprocess.PIPE
    )
    assert silent.stdout
    silent.stdout.close()
    silent.communicate()
    columns = [row[1] for row in _rows(built, "PRAGMA table_info(hive)")]
    files = len(list((built.root / "migrations").iterdir()))
    assert (
        files
        == len(_rows(built, "SELECT * FROM welbik_migration"))
        == (2 if "notes" in columns else 1)
    )
    built.run("migrate")


def test_a_database_in_use_is_one_clear_message(built: Project) -> None:
    built.replace("models/bees.welbik", "    frames ", "    notes text 9\n    frames ")
    holder = sqlite3.connect(built.root / "bees.db", isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    assert "in use" in built.run("migrate", code=1).stderr
    holder.execute("ROLLBACK")
    built.run("migrate")
    holder.close()


def test_status_leads_from_nothing_to_all_in_step(make: Callable[[str], Project]) -> None:
    project = make("model Hive\n    code text 9\nseed\n    3 Hive\n")
    ran = []
    for _ in range(6):
        said = _status(project)
        if "All in step" in said:
            break
        command = said.rsplit("Next: welbik ", 1)[1].splitlines()[0]
        ran.append(command)
        project.run(*command.split())
    assert ran == ["build", "migrate", "fill"]


def _status(project: Project) -> str:
    done = subprocess.run(
        [WELBIK, "status"], cwd=project.root, capture_output=True, text=True, check=False
    )
    assert done.returncode == (0 if "All in step" in done.stdout else 1)
    return done.stdout


RULED = """\
model Hive
    code    text 7..7, required
    opened  date
    closed  date{rule}
seed
    20 Hive
"""


def test_rules_indexes_and_names_are_migrated(make: Callable[[str], Project]) -> None:
    project = make(RULED.format(rule=""))
    for command in ("build", "migrate", "fill"):
        project.run(command)
    with sqlite3.connect(project.root / "bees.db") as connection:
        connection.execute(
            "UPDATE hive SET opened = '2025-06-01', closed = '2025-01-01' WHERE id < 4"
        )
    project.declare(RULED.format(rule=", >= opened, indexed"))
    said = project.run("migrate", code=1).stderr
    assert "hive: 3 rows breaking the rule: opened <= closed" in said and "mend these rows" in said
    with sqlite3.connect(project.root / "bees.db") as connection:
        connection.execute("UPDATE hive SET closed = NULL WHERE closed < opened")
    assert "hold hive to: opened <= closed" in project.run("migrate", "--preview").stdout
    project.run("migrate")
    with sqlite3.connect(project.root / "bees.db") as connection:
        with pytest.raises(sqlite3.IntegrityError, match="hive_closed_rule"):
            connection.execute(
                "UPDATE hive SET opened = '2025-06-01', closed = '2025-01-01' WHERE id = 1"
            )
        assert "hive_closed_index" in str(
            connection.execute("SELECT name FROM sqlite_master").fetchall()
        )
    project.declare(
        RULED.format(rule=", >= begun, indexed")
        .replace("opened  date", "begun  date, was opened")
        .replace("model Hive", "model Skep\n    was Hive")
        .replace("20 Hive", "20 Skep")
    )
    project.run("migrate")
    with sqlite3.connect(project.root / "bees.db") as connection:
        names = [row[1] for row in connection.execute("PRAGMA table_info(skep)")]
        assert names == ["id", "code", "begun", "closed"]
        assert connection.execute("SELECT count(*), count(begun) > 0 FROM skep").fetchone() == (
            20,
            1,
        )
    project.run("build")
    assert "as declared" in project.run("status").stdout


def test_two_who_migrate_at_once_run_each_migration_once(project: Project) -> None:
    project.run("build")
    for round_ in range(3):
        if round_:
            project.replace(
                "models/bees.welbik", "    frames ", f"    n{round_} text 20\n    frames "
            )
        both = [
            subprocess.Popen(
                [WELBIK, "migrate"],
                cwd=project.root,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                text=True,
            )
            for _ in range(4)
        ]
        said = [process.communicate() for process in both]
        assert [process.returncode for process in both] == [0] * 4, said
        assert sum("1 migration run" in out for out, _ in said) == 1
        names = _rows(project, "SELECT number, name FROM welbik_migration ORDER BY number")
        assert [number for number, _ in names] == list(range(1, round_ + 2))
        assert len(list((project.root / "migrations").iterdir())) == round_ + 1


def test_the_book_of_migrations_refuses_doubles_by_itself(built: Project) -> None:
    (book,) = _rows(built, "SELECT * FROM welbik_migration")
    connection = sqlite3.connect(built.root / "bees.db")
    with pytest.raises(sqlite3.IntegrityError):
        connection.execute("INSERT INTO welbik_migration VALUES (?, ?, ?, ?, ?)", book)
    connection.close()


def test_migrations_that_are_gone_are_missed_and_none_is_written_in_their_place(
    built: Project,
) -> None:
    for path in (built.root / "migrations").iterdir():
        path.unlink()
    refused = built.run("migrate", code=1).stderr
    assert "which is not in migrations/" in refused
    assert list((built.root / "migrations").iterdir()) == []


def test_a_migration_is_told_by_what_it_says_and_not_by_its_bytes(built: Project) -> None:
    (path,) = (built.root / "migrations").iterdir()
    text = path.read_bytes()
    path.write_bytes(text.replace(b"\n", b"\r\n"))
    assert "Nothing to do" in built.run("migrate").stdout
    path.write_bytes(b"# A remark of ours\n" + text)
    assert "Nothing to do" in built.run("migrate").stdout
    # What earlier versions wrote down for it holds as well.
    import hashlib

    path.write_bytes(text)
    with sqlite3.connect(built.root / "bees.db") as connection:
        old = hashlib.sha256(text).hexdigest()
        connection.execute("UPDATE welbik_migration SET digest = ?", [old])
    assert "Nothing to do" in built.run("migrate").stdout
    path.write_bytes(text.replace(b'schema = "', b'schema = "0'))
    assert "is not what ran" in built.run("migrate", code=1).stderr


@pytest.mark.parametrize("left", ["id < 30", "0"])
def test_a_table_made_anew_never_gives_a_number_again(built: Project, left: str) -> None:
    with sqlite3.connect(built.root / "bees.db") as connection:
        connection.execute(f"DELETE FROM hive WHERE NOT ({left})")
    built.replace(
        "models/bees.welbik", "    frames ", '    notes text, required, default "-"\n    frames '
    )
    built.run("build")
    built.run("migrate")
    with sqlite3.connect(built.root / "bees.db") as connection:
        made = connection.execute(
            "INSERT INTO hive (code, keeper_id, frames, opened, notes) VALUES ('ZZ-9999', 1, 9, '2020-01-01', '-')"
        )
        assert made.lastrowid == 41


def test_what_the_site_makes_itself_is_made_for_rows_that_are_there(built: Project) -> None:
    with sqlite3.connect(built.root / "bees.db") as connection:
        connection.execute("UPDATE keeper SET name = 'Ürsula  O-Neil' WHERE id < 3")
        connection.execute("UPDATE keeper SET name = '???' WHERE id = 3")
    built.replace(
        "models/bees.welbik", "    email ", "    word slug from name\n    token uuid\n    email "
    )
    built.run("build")
    assert "one of its own in each row" in built.run("migrate").stdout
    words = dict(_rows(built, "SELECT id, word FROM keeper"))
    assert (
        words[1] == "ursula-o-neil-1" and words[2] == "ursula-o-neil-2" and words[3] == "keeper-3"
    )
    tokens = [token for (token,) in _rows(built, "SELECT token FROM keeper")]
    assert len(set(tokens)) == 5
    assert all(UUID(hex=token).version == 4 for token in tokens)
    built.python("-m", "pytest", "-q", "-p", "no:cacheprovider")


def test_a_new_name_without_was_is_asked_about(built: Project) -> None:
    built.replace("models/bees.welbik", "    frames  integer", "    boxes   integer")
    built.replace("models/bees.welbik", "keeper, frames", "keeper, boxes")
    said = built.run("migrate", code=1).stderr
    assert "boxes …, was frames" in said and "--allow-loss" in said
    assert "was frames" in built.run("migrate", "--preview").stdout
    built.replace("models/bees.welbik", "default 11", "default 11, was frames")
    assert "call the column hive.frames boxes" in built.run("migrate").stdout
    text = built.read("models/bees.welbik").replace("Keeper", "Warden")
    built.declare(text)
    assert "was Keeper" in built.run("migrate", code=1).stderr


LONG = "one of national | long"


@pytest.mark.parametrize("word", servers.WORDS)
def test_a_choice_is_called_otherwise_and_again_as_it_was(
    word: str, make: Callable[[str], Project], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with servers.database(word, tmp_path) as address:
        monkeypatch.setenv("DATABASE_URL", address)
        hives = (
            "model Hive\n    code  text 4..9, required, unique\n    kind  {}\nseed\n    30 Hive\n"
        )
        project = make(hives.format(f"{LONG} | top_bar, required"))
        for command in ("migrate", "fill"):
            project.run(command)
        asked = "SELECT code, kind FROM hive ORDER BY code"
        before = project.sql(asked)
        project.declare(hives.format("one of british | long | bar, required"))
        said = project.run("migrate", code=1).stderr
        assert "with none of the choices" in said and "british was national" in said
        assert project.sql(asked) == before
        anew = 'one of british "British" was national | long | bar was top_bar, required'
        project.declare(hives.format(anew))
        assert '"national" becomes "british"' in project.run("migrate").stdout
        called = {"national": "british", "top_bar": "bar", "long": "long"}
        assert project.sql(asked) == [(code, called[str(kind)]) for code, kind in before]
        assert "Nothing to do" in project.run("migrate").stdout
        project.run("migrate", "--undo")
        assert project.sql(asked) == before
        # Two that become one can't be told apart again.
        project.declare(hives.format("one of british was national | long was top_bar, required"))
        project.run("migrate")
        assert {kind for _, kind in project.sql(asked)} == {"british", "long"}
        assert "leaves values behind" in project.run("migrate", "--undo", code=1).stderr
        project.run("migrate", "--undo", "--allow-loss")
        known = {"national": "national", "top_bar": "long", "long": "long"}
        assert project.sql(asked) == [(code, known[str(kind)]) for code, kind in before]
    # Where there never were others nothing is to be done.
    with servers.database(word, tmp_path) as address:
        monkeypatch.setenv("DATABASE_URL", address)
        fresh = make(f"{anew_and_moved(hives)}")
        fresh.run("migrate")
        assert "Nothing to do" in fresh.run("migrate").stdout


def anew_and_moved(hives: str) -> str:
    """A field that was called otherwise too."""
    return hives.format("one of british was national | long, required").replace(
        "seed", "    mood  one of calm | cross was nervous, was temper\nseed"
    )
