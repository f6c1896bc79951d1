"""Filling for a second week: stopped and gone on with, in parts, more of it, anew, to files."""

from __future__ import annotations

import csv
import datetime as dt
import json
import os
import signal
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from secrets import token_hex
from typing import Any
from urllib.parse import urlsplit

import pytest
import servers
from conftest import Project
from hypothesis import given
from hypothesis import strategies as st
from pyarrow import parquet

from welbik.rules.sql import quote
from welbik.storage.connect import connect
from welbik.storage.neutral import as_lines, from_lines

SHOP = """\
model Shop
    name    text 2..40, required, unique
    opened  date 2015-01-01..today, required
    owner   -> Clerk, on removal clear
    stock   <- Item.shop
    room    integer 0..400, required
    rule count(stock) <= room, at room
    keep times
model Clerk
    name    text 2..60, required, sample person
    email   email, required, unique
    boss    -> Clerk, on removal clear, sample 30% empty
    joined  date 2010-01-01..today, required
    rule boss.joined < joined, at boss
model Item
    shop    -> Shop, required, sample 2..9 per shop
    code    text 8..8, required, unique, matches "[A-Z]{3}-[0-9]{4}"
    bought  date, required, >= shop.opened
    sold    date, >= bought, sample 60% empty
    price   decimal 0.10..90.00, required
    notes   text 400
    tags    <-> Tag, sample 0..3 per item
    unique shop, bought
    keep times
model Tag
    name    text 20, required, unique
rows Tag
    name
    "new"
    "rare"
    "cheap"
    "broken"
seed
    60 Shop
    30 Clerk
    300 Item
"""


# What a test asks of the tool alone is asked beside one or two databases: each takes its time.
SOME = ["sqlite", "postgresql"]
FEW = ["sqlite"]


def rows_of(project: Project, address: str = "") -> dict[str, list[tuple[Any, ...]]]:
    """All rows of all tables that are not Welbik's own."""
    with connect(address or os.environ["DATABASE_URL"], project.root) as database:
        found = {}
        for table in sorted(database.table_names()):
            if not database.is_ours(table) and table != "welbik_sent":
                columns = sorted(
                    key.split(" ", 1)[1]
                    for key in database.look(table)
                    if key.startswith("column ")
                )
                if table == "item_tags":
                    # Pairs are numbered as they come.
                    columns.remove("id")
                listed = ", ".join(map(quote, columns))
                rows = database.run(f"SELECT {listed} FROM {quote(table)}")
                found[table] = sorted(rows, key=repr)
        return found


@pytest.mark.parametrize("shop", ["mariadb"], indirect=True)
def test_a_server_that_takes_no_files_gets_the_same_rows(
    shop: Project, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    shop.run("fill")
    whole = rows_of(shop)
    with servers.database("mariadb", tmp_path) as address:
        monkeypatch.setenv("DATABASE_URL", address)
        shop.run("migrate")
        shop.sql("SET GLOBAL local_infile = 0")
        try:
            shop.run("fill")
        finally:
            shop.sql("SET GLOBAL local_infile = 1")
        assert rows_of(shop) == whole


TEXTS = st.text(st.characters(codec="utf-8"))


@given(st.lists(st.tuples(st.none() | TEXTS, st.none() | st.integers(-99, 99), TEXTS)))
def test_lines_that_servers_load_say_what_went_in(rows: list[tuple[Any, ...]]) -> None:
    columns = list(zip(*rows, strict=True)) or [(), (), ()]
    told = [[None if v is None else str(v) for v in row] for row in rows]
    assert from_lines(as_lines(columns, ["text", "integer", "text"])) == told


STOPPED = """\
import multiprocessing, os, signal, sys
from pathlib import Path
import welbik.data.making, welbik.data.fill
from welbik.project.declarations import schema_of
from welbik.project.filling import fill_project
from welbik.project.settings import read_settings
# Small batches and transactions: there is more to be stopped at.
welbik.data.making.BATCH = welbik.data.fill.BATCH = 40
welbik.data.fill._AT_ONCE = 100
left = [int(sys.argv[1])]
def tell(model, rows):
    left[0] -= 1
    if left[0] == 0 and sys.argv[2] == "helpers":
        killed = [os.kill(child.pid, 9) for child in multiprocessing.active_children()]
        print(len(killed), "killed")
    elif left[0] == 0:
        os.kill(os.getpid(), int(sys.argv[2]))
if __name__ == "__main__":
    settings = read_settings(Path("."))
    fill_project(settings, schema_of(settings.root), tell)
"""


def test_a_fill_that_was_stopped_goes_on_and_ends_in_the_same_rows(
    shop: Project, tmp_path: Path
) -> None:
    """Killed, and by Ctrl-C, at one batch after another."""
    word = os.environ["DATABASE_URL"].partition(":")[0]
    (tmp_path / "other").mkdir()
    with servers.database(word, tmp_path / "other") as address:
        shop.run("migrate", DATABASE_URL=address)
        shop.run("fill", DATABASE_URL=address)
        whole = rows_of(shop, address)
    shop.write("stopped.py", STOPPED)
    went = 0
    for batches, how in ((1, signal.SIGKILL), (3, signal.SIGINT), (4, signal.SIGKILL), (99, None)):
        done = subprocess.run(
            [sys.executable, "stopped.py", str(batches), str(int(how or 9))],
            cwd=shop.root,
            capture_output=True,
            text=True,
            check=False,
        )
        went += done.returncode != 0
        assert done.returncode in (0, 1, -int(how or 0)) and "Error" not in done.stderr, done.stderr
        # At every moment: nobody without those that they lead to.
        orphans = "SELECT count(*) FROM item WHERE shop_id NOT IN (SELECT id FROM shop)"
        assert shop.sql(orphans) == [(0,)]
        if done.returncode == 0:
            break
    assert went == 3
    assert "Nothing to add" in shop.run("fill").stdout
    assert rows_of(shop) == whole


RIGHTS = {
    "postgresql": (
        "CREATE ROLE {user} LOGIN PASSWORD 'x'",
        "GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO {user}",
        "GRANT ALL ON ALL SEQUENCES IN SCHEMA public TO {user}",
        "GRANT CREATE ON SCHEMA public TO {user}",
        "DROP OWNED BY {user}",
        "DROP ROLE {user}",
    ),
    "mariadb": (
        "CREATE USER {user} IDENTIFIED BY 'x'",
        "GRANT SELECT, INSERT, UPDATE, DELETE ON {base}.* TO {user}",
        "SELECT 1",
        "GRANT CREATE ON {base}.* TO {user}",
        "SELECT 1",
        "DROP USER {user}",
    ),
}


@pytest.mark.parametrize("shop", ["postgresql", "mariadb"], indirect=True)
def test_who_may_not_change_tables_fills_them(shop: Project) -> None:
    """Who lacks more is told what."""
    at = urlsplit(os.environ["DATABASE_URL"])
    user = f"clerk_{token_hex(4)}"
    address = f"{at.scheme}://{user}:x@{at.hostname}:{at.port}{at.path}"
    *first, then, left, gone = (
        one.format(user=user, base=at.path[1:]) for one in RIGHTS[at.scheme]
    )
    shop.sql(*first)
    try:
        said = shop.run("fill", DATABASE_URL=address, code=1).stderr
        assert "lacks a privilege" in said and user in said, said
        shop.sql(then)
        shop.run("fill", DATABASE_URL=address)
        shop.run("check", "--rows")
    finally:
        shop.sql(left, gone)


TAKEN = """\
from pathlib import Path
from welbik.data.fill import Filling
from welbik.problems import WelbikError
from welbik.project.declarations import schema_of
from welbik.project.filling import fill_project
from welbik.project.settings import read_settings
from welbik.storage.connect import connect
whole = Filling.model
def model(self, of, batches):
    if of.name == "Item":
        with connect(settings.address, Path(".")) as other:
            other.run("DELETE FROM shop WHERE id = 3")
    whole(self, of, batches)
if __name__ == "__main__":
    settings = read_settings(Path("."))
    Filling.model = model
    try:
        fill_project(settings, schema_of(settings.root), lambda *_: None)
    except WelbikError as error:
        print("refused", error.message)
"""


def test_what_was_taken_away_meanwhile_is_led_to_by_nobody(shop: Project) -> None:
    shop.write("taken.py", TAKEN)
    assert "refused" in shop.python("taken.py").stdout
    assert shop.sql("SELECT count(*) FROM item") == [(0,)]
    # The next one sees what is there.
    assert "every model has its declared count" in shop.run("fill").stdout
    assert shop.sql("SELECT count(*) FROM item WHERE shop_id NOT IN (SELECT id FROM shop)") == [
        (0,)
    ]
    assert "all are as declared" in shop.run("check", "--rows").stdout


@pytest.mark.parametrize("shop", FEW, indirect=True)
def test_a_helper_that_is_killed_is_done_without(shop: Project, tmp_path: Path) -> None:
    other = f"sqlite:///{tmp_path / 'other.db'}"
    shop.run("migrate", DATABASE_URL=other)
    shop.run("fill", DATABASE_URL=other)
    shop.write("stopped.py", STOPPED)
    done = subprocess.run(
        [sys.executable, "stopped.py", "2", "helpers"],
        cwd=shop.root,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    # With one core there are none.
    assert int(done.stdout.split()[0]) >= min(1, (os.cpu_count() or 1) - 1)
    assert rows_of(shop) == rows_of(shop, other)


OTHERS = """\
model Item
    code   text 4..9, required, unique
    live   boolean, required, stored as "is_live" of "varchar(1)" with "Y" | "N"
    note   text 20, empty stored as ""
    made   datetime, required, stored as "made" of "integer"
    price  decimal 0..99.99, stored as "price" of "real"
    stored as "items", as it is
seed
    60 Item
"""
THEIRS = (
    "CREATE TABLE items (id integer primary key, code varchar(9) NOT NULL UNIQUE, is_live varchar(1) NOT NULL, "
    "note varchar(20) NOT NULL, made integer NOT NULL, price real)"
)


def test_files_hold_values_as_others_have_them(
    make: Callable[[str], Project], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("DATABASE_URL", f"sqlite:///{tmp_path / 'theirs.db'}")
    project = make(OTHERS)
    with sqlite3.connect(tmp_path / "theirs.db") as theirs:
        theirs.execute(THEIRS)
    project.run("migrate")
    project.run("fill")
    stored = project.sql("SELECT * FROM items ORDER BY id")
    assert any(note == "" for *_, note, _, _ in stored)
    for form in ("csv", "sql", "parquet"):
        project.run("fill", "--to", "out", "--format", form)
    lines = (project.root / "out/items.csv").read_text("utf-8").splitlines()[1:]
    assert lines == [",".join("" if v is None else str(v) or '""' for v in row) for row in stored]
    arrow = parquet.read_table(project.root / "out/items.parquet").to_pylist()
    assert [tuple(row.values()) for row in arrow] == stored
    with sqlite3.connect(":memory:") as copy:
        copy.execute(THEIRS)
        copy.executescript(project.read("out/01-items.sql"))
        assert copy.execute("SELECT * FROM items ORDER BY id").fetchall() == stored


COUNTED = """\
model Note
    name    text 2..40, required, unique
    visits  <-> Visit
    rule count(visits) <= 60
model Visit
    code    text 4..9, required, unique
    notes   <-> Note
    rule count(notes) >= 1
    rule count(notes) <= 2
seed
    40 Note
    300 Visit
"""


@pytest.mark.parametrize("word", servers.WORDS)
def test_rules_that_count_pairs_are_asked_when_those_are_there(
    word: str, make: Callable[[str], Project], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    with servers.database(word, tmp_path) as address:
        monkeypatch.setenv("DATABASE_URL", address)
        project = make(COUNTED)
        project.run("migrate")
        project.run("fill")
        project.run("fill", "--add", "5", "Visit", "--add", "3", "Note")
        assert "all are as declared" in project.run("check", "--rows").stdout
        # Whatever was put off while rows were loaded is there again.
        project.run("build")
        assert "All in step" in project.run("status").stdout


@pytest.mark.parametrize("shop", SOME, indirect=True)
def test_parts_are_the_whole_row_for_row(shop: Project, tmp_path: Path) -> None:
    shop.run("fill", "--day", "2026-05-04")
    whole = rows_of(shop)
    word = os.environ["DATABASE_URL"].partition(":")[0]
    (tmp_path / "other").mkdir()
    with servers.database(word, tmp_path / "other") as address:
        other = {"DATABASE_URL": address}
        shop.run("migrate", **other)
        said = shop.run("fill", "--part", "2/3", "--day", "2026-05-04", code=1, **other)
        assert "not there yet" in said.stderr and "part 1" in said.stderr
        # What was waiting is served as soon as the others are there, whoever stores them.
        waiting = [
            subprocess.Popen(
                [Path(sys.executable).parent / "welbik", "fill", "--wait"]
                + ["--part", f"{number}/3", "--day", "2026-05-04"],
                cwd=shop.root,
                env={**os.environ, **other},
                stdout=subprocess.DEVNULL,
            )
            for number in (3, 2, 1)
        ]
        assert [process.wait(60) for process in waiting] == [0] * len(waiting)
        for number in (1, 2, 3):
            again = shop.run("fill", "--part", f"{number}/3", "--day", "2026-05-04", **other)
            assert "Nothing to add" in again.stdout
        assert rows_of(shop, address) == whole


@pytest.mark.parametrize("shop", FEW, indirect=True)
def test_rows_are_added_beside_what_is_there(shop: Project) -> None:
    shop.run("fill")
    before = rows_of(shop)
    assert "7 rows added" in shop.run("fill", "--add", "5", "Item", "--add", "2", "Clerk").stdout
    after = rows_of(shop)
    assert len(after["item"]) == 305 and len(after["clerk"]) == 32 and len(after["shop"]) == 60
    assert set(before["item"]) < set(after["item"]) and before["shop"] == after["shop"]
    shop.run("check", "--rows")
    # Whoever joined today is nobody's boss yet: those that are added have none.
    shop.sql(f"UPDATE clerk SET joined = '{dt.date.today()}', boss_id = NULL")
    shop.run("fill", "--add", "9", "Clerk")
    shop.run("check", "--rows")
    assert "did you mean Item" in shop.run("fill", "--add", "5", "Itm", code=2).stderr
    assert "exclude" in shop.run("fill", "--add", "5", "Item", "--replace", code=2).stderr


@pytest.mark.parametrize("shop", ["sqlite", "mariadb"], indirect=True)
def test_what_was_made_up_is_made_anew_and_nothing_else(shop: Project) -> None:
    shop.run("fill")
    later = "'2099-01-01 00:00:00'"
    shop.sql(
        "INSERT INTO shop (name, opened, room, created_at, updated_at) VALUES "
        f"('Mine', '2020-01-01', 50, {later}, {later})",
        "INSERT INTO clerk (name, email, joined, boss_id) VALUES "
        "('Me', 'me@example.org', '2020-02-02', 3)",
        f"UPDATE item SET price = 1.25 * {100 if 'sqlite' in os.environ['DATABASE_URL'] else 1}, "
        f"updated_at = {later} WHERE id = 5",
    )
    mine = shop.sql("SELECT shop_id FROM item WHERE id = 5")[0][0]
    kept = {
        "item": shop.sql("SELECT * FROM item WHERE id = 5"),
        "shop": shop.sql(f"SELECT * FROM shop WHERE id = {mine} OR name = 'Mine'"),
        "clerk": shop.sql("SELECT * FROM clerk WHERE email = 'me@example.org' OR id = 3"),
    }
    made = rows_of(shop)
    shop.replace("models/bees.welbik", "0.10..90.00", "0.10..90.00, sample normal(80, 2)")
    asked = shop.run("fill", "--replace", code=1)
    assert "300 Item" in asked.stdout.replace(",", "") and "--yes" in asked.stderr
    assert rows_of(shop) == made
    assert "taken away" in shop.run("fill", "--replace", "--yes").stdout
    for table, rows in kept.items():
        now = shop.sql(f"SELECT * FROM {table}")
        assert set(rows) <= set(now), table
    assert shop.sql("SELECT count(*) FROM item") == [(300,)]
    assert shop.sql("SELECT count(*) FROM shop") == [(60,)]
    scale = 100 if "sqlite" in os.environ["DATABASE_URL"] else 1
    cheap = shop.sql(f"SELECT count(*) FROM item WHERE price < {60 * scale}")
    assert cheap == [(1,)]
    shop.run("check", "--rows")
    assert "Nothing to add" in shop.run("fill").stdout


@pytest.mark.parametrize("shop", ["postgresql"], indirect=True)
def test_what_is_new_comes_to_made_up_rows_and_never_to_people_s(shop: Project) -> None:
    shop.run("fill")
    shop.sql(
        "UPDATE clerk SET joined = '2021-01-01', boss_id = NULL WHERE id = 7",
        "INSERT INTO clerk (name, email, joined) VALUES ('Me', 'me@example.org', '2020-02-02')",
    )
    shop.replace(
        "models/bees.welbik",
        "    joined  date",
        "    checked date 2010-01-01..2020-12-31, >= joined, sample 0% empty\n    shop    -> Shop, sample 20% empty\n    shift   one of early | late, sample 10% empty\n    joined  date",
    )
    shop.run("migrate")
    told = shop.run("fill").stdout
    assert "made-up rows of Clerk got what is new" in told, told
    # What one of these is now leaves no way for it: the others have theirs.
    early = "SELECT count(*) FROM clerk WHERE joined < '2020-12-31' AND email <> 'me@example.org'"
    assert shop.sql(f"{early} AND checked IS NULL") == [(0,)] != shop.sql(early)
    assert shop.sql("SELECT checked FROM clerk WHERE id = 7") == [(None,)]
    rows = shop.sql("SELECT email, shop_id, shift FROM clerk")
    mine = [row for row in rows if row[0] == "me@example.org"]
    assert mine == [("me@example.org", None, None)]
    assert 15 <= sum(row[1] is not None for row in rows) <= 30
    assert len({row[1] for row in rows}) > 8
    assert {row[2] for row in rows} == {"early", "late", None}
    assert "Nothing to add" in shop.run("fill").stdout
    shop.run("check", "--rows")


@pytest.mark.parametrize("shop", ["mariadb"], indirect=True)
def test_rows_go_to_files_as_they_would_be_stored(shop: Project) -> None:
    import pyarrow.parquet as parquet

    shop.run("fill", "--to", "sql", "--format", "sql")
    shop.run("fill", "--to", "plain")
    shop.run("fill", "--to", "typed", "--format", "parquet", "--part", "1/2")
    with connect(os.environ["DATABASE_URL"], shop.root) as database, database.transaction():
        for path in sorted((shop.root / "sql").glob("*.sql")):
            for statement in path.read_text("utf-8").split(";\n"):
                if statement.strip():
                    database.run(statement)
    by_file = rows_of(shop)
    shop.run("check", "--rows")
    with (shop.root / "plain/item.csv").open(newline="") as file:
        items = list(csv.DictReader(file))
    assert len(items) == 300 == len(by_file["item"])
    stored = dict(shop.sql("SELECT id, code FROM item"))
    assert {int(row["id"]): row["code"] for row in items} == stored
    half = parquet.read_table(shop.root / "typed/item-1-of-2.parquet").to_pylist()
    assert len(half) == 150
    for row, line in zip(half, items, strict=False):
        assert str(row["price"]) == line["price"] and row["bought"].isoformat() == line["bought"]
        assert row["created_at"].strftime("%Y-%m-%d %H:%M:%S") == line["created_at"]
    shop.write("full", "")
    assert "can't be written" in shop.run("fill", "--to", "full/x", code=1).stderr


def test_samples_are_any_rows_as_they_would_be_stored(make: Callable[[str], Project]) -> None:
    project = make(SHOP)

    def sampled(*options: str) -> list[dict[str, Any]]:
        lines = project.run("sample", "Item", "--format", "lines", *options).stdout.splitlines()
        return [json.loads(line) for line in lines]

    whole = sampled("--rows", "300")
    assert sampled("--rows", "290..294") == whole[290:295]
    assert sampled("--rows", "20", "--columns", "code, price") == [
        {name: row[name] for name in ("code", "price")} for row in whole[:20]
    ]
    dear = [row for row in whole if float(row["price"]) > 50]
    assert sampled("--rows", "0..299", "--where", "price > 50") == dear
    assert sampled("--rows", "5", "--where", "price > 50") == dear[:5]
    assert sampled("--seed", "9") != whole[:10]
    for wrong in (
        ["--rows", "0"],
        ["--rows", "7..3"],
        ["--columns", "cod"],
        ["--where", "price >"],
    ):
        assert project.run("sample", "Item", *wrong, code=2).stderr.startswith("welbik: ")


KILLED = """\
import os, signal, sys
from pathlib import Path
import dask
from distributed import Client, LocalCluster
from welbik.project import cluster
from welbik.project.declarations import schema_of
from welbik.project.settings import read_settings

def main():
    cluster._SHARE = 40
    settings = read_settings(Path("."))
    # What several workers hold is soon held by one, as in any long run.
    dask.config.set({"distributed.scheduler.active-memory-manager.interval": "50ms"})
    with LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None, silence_logs=50) as local:
        with Client(local) as client:
            workers = list(client.run(os.getpid).values())
        told = []
        def tell(table, rows):
            told.append(rows)
            if len(told) in (2, 5):
                os.kill(workers.pop(), signal.SIGKILL)
        folder = Path(sys.argv[1]) if sys.argv[1:] else None
        made = cluster.fill_cluster(
            settings, schema_of(settings.root), local.scheduler_address, tell, folder=folder
        )
        print(sum(made.values()), len(told))

if __name__ == "__main__":
    main()
"""


@pytest.mark.parametrize("shop", SOME, indirect=True)
def test_workers_make_the_rows_and_may_die(shop: Project, tmp_path: Path) -> None:
    """Into a server each worker stores its shares, beside a file it writes them."""
    word = os.environ["DATABASE_URL"].partition(":")[0]
    shop.write("killed.py", KILLED)
    given = ["shares"] if word == "sqlite" else []
    done = subprocess.run(
        [sys.executable, "killed.py", *given],
        cwd=shop.root,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    shop.run("fill", "--to", "whole")
    if word == "sqlite":
        assert "takes rows of one process" in shop.run("fill", "--cluster", "local", code=2).stderr
        lines: list[str] = []
        for path in sorted((shop.root / "shares").glob("item-*.csv")):
            lines += path.read_text("utf-8").splitlines()[1:]
        assert len(list((shop.root / "shares").glob("item-*.csv"))) == 8
        assert lines == (shop.root / "whole/item.csv").read_text("utf-8").splitlines()[1:]
    else:
        whole = list(csv.DictReader((shop.root / "whole/item.csv").open(newline="")))
        stored = shop.sql("SELECT id, code, shop_id FROM item")
        assert sorted((int(r["id"]), r["code"], int(r["shop_id"])) for r in whole) == sorted(stored)
        pairs = shop.sql("SELECT count(*) FROM item_tags")[0][0]
        assert pairs == len((shop.root / "whole/item_tags.csv").read_text().splitlines()) - 1
        shop.run("check", "--rows")
    assert (
        "no scheduler answers"
        in shop.run("fill", "--to", "x", "--cluster", "tcp://127.0.0.1:1", code=1).stderr
    )


def test_rows_are_entered_by_day_after_what_they_tell_of(make: Callable[[str], Project]) -> None:
    project = make(
        "model Visit\n    held datetime 2026-01-01T00:00..now, required\n    keep times\nseed\n    3000 Visit\n"
    )
    project.run("build")
    project.run("migrate")
    project.run("fill")
    with sqlite3.connect(project.root / "bees.db") as connection:
        rows = connection.execute("SELECT held, created_at, updated_at FROM visit").fetchall()
    assert all(held < created <= updated for held, created, updated in rows)
    hours = {int(moment[11:13]) for row in rows for moment in row[1:]}
    assert min(hours) == 7 and max(hours) <= 20
    assert len({row[1][11:16] for row in rows}) > 300
