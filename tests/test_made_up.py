"""Filling for a second week: stopped and gone on with, in parts, more of it, anew, to files."""

from __future__ import annotations

import csv
import datetime as dt
import json
import os
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
import servers
from conftest import Project

from welbik.rules.sql import quote
from welbik.storage.connect import connect

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


@pytest.fixture(params=servers.WORDS)
def shop(
    request: pytest.FixtureRequest,
    make: Callable[[str], Project],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> Iterator[Project]:
    """A project with empty tables in each of the databases."""
    with servers.database(request.param, tmp_path) as address:
        monkeypatch.setenv("DATABASE_URL", address)
        project = make(SHOP)
        project.run("migrate")
        yield project


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


def run_sql(project: Project, *statements: str) -> list[tuple[Any, ...]]:
    with connect(os.environ["DATABASE_URL"], project.root) as database:
        found: list[tuple[Any, ...]] = []
        for statement in statements:
            found = database.run(statement)
        return found


STOPPED = """\
import os, signal, sys
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
    if left[0] == 0:
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
        assert run_sql(shop, orphans) == [(0,)]
        if done.returncode == 0:
            break
    assert went == 3
    assert "Nothing to add" in shop.run("fill").stdout
    assert rows_of(shop) == whole


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
    run_sql(shop, f"UPDATE clerk SET joined = '{dt.date.today()}', boss_id = NULL")
    shop.run("fill", "--add", "9", "Clerk")
    shop.run("check", "--rows")
    assert "did you mean Item" in shop.run("fill", "--add", "5", "Itm", code=2).stderr
    assert "exclude" in shop.run("fill", "--add", "5", "Item", "--replace", code=2).stderr


@pytest.mark.parametrize("shop", ["sqlite", "mariadb"], indirect=True)
def test_what_was_made_up_is_made_anew_and_nothing_else(shop: Project) -> None:
    shop.run("fill")
    later = "'2099-01-01 00:00:00'"
    run_sql(
        shop,
        "INSERT INTO shop (name, opened, room, created_at, updated_at) VALUES "
        f"('Mine', '2020-01-01', 50, {later}, {later})",
        "INSERT INTO clerk (name, email, joined, boss_id) VALUES "
        "('Me', 'me@example.org', '2020-02-02', 3)",
        f"UPDATE item SET price = 1.25 * {100 if 'sqlite' in os.environ['DATABASE_URL'] else 1}, "
        f"updated_at = {later} WHERE id = 5",
    )
    mine = run_sql(shop, "SELECT shop_id FROM item WHERE id = 5")[0][0]
    kept = {
        "item": run_sql(shop, "SELECT * FROM item WHERE id = 5"),
        "shop": run_sql(shop, f"SELECT * FROM shop WHERE id = {mine} OR name = 'Mine'"),
        "clerk": run_sql(shop, "SELECT * FROM clerk WHERE email = 'me@example.org' OR id = 3"),
    }
    made = rows_of(shop)
    shop.replace("models/bees.welbik", "0.10..90.00", "0.10..90.00, sample normal(80, 2)")
    asked = shop.run("fill", "--replace", code=1)
    assert "300 Item" in asked.stdout.replace(",", "") and "--yes" in asked.stderr
    assert rows_of(shop) == made
    assert "taken away" in shop.run("fill", "--replace", "--yes").stdout
    for table, rows in kept.items():
        now = run_sql(shop, f"SELECT * FROM {table}")
        assert set(rows) <= set(now), table
    assert run_sql(shop, "SELECT count(*) FROM item") == [(300,)]
    assert run_sql(shop, "SELECT count(*) FROM shop") == [(60,)]
    scale = 100 if "sqlite" in os.environ["DATABASE_URL"] else 1
    cheap = run_sql(shop, f"SELECT count(*) FROM item WHERE price < {60 * scale}")
    assert cheap == [(1,)]
    shop.run("check", "--rows")
    assert "Nothing to add" in shop.run("fill").stdout


@pytest.mark.parametrize("shop", ["postgresql"], indirect=True)
def test_what_is_new_comes_to_made_up_rows_and_never_to_people_s(shop: Project) -> None:
    shop.run("fill")
    run_sql(
        shop,
        "INSERT INTO clerk (name, email, joined) VALUES ('Me', 'me@example.org', '2020-02-02')",
    )
    shop.replace(
        "models/bees.welbik",
        "    joined  date",
        "    shop    -> Shop, sample 20% empty\n    shift   one of early | late, sample 10% empty\n    joined  date",
    )
    shop.run("migrate")
    told = shop.run("fill").stdout
    assert "made-up rows of Clerk got what is new" in told, told
    rows = run_sql(shop, "SELECT email, shop_id, shift FROM clerk")
    mine = [row for row in rows if row[0] == "me@example.org"]
    assert mine == [("me@example.org", None, None)]
    assert 15 <= sum(row[1] is not None for row in rows) <= 30
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
    stored = dict(run_sql(shop, "SELECT id, code FROM item"))
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
from distributed import Client, LocalCluster
from welbik.project import cluster
from welbik.project.declarations import schema_of
from welbik.project.settings import read_settings

def main():
    cluster._SHARE = 40
    settings = read_settings(Path("."))
    with LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None, silence_logs=50) as local:
        with Client(local) as client:
            workers = list(client.run(os.getpid).values())
        told = []
        def tell(table, rows):
            told.append(rows)
            if len(told) == 3:
                os.kill(workers[0], signal.SIGKILL)
        folder = Path(sys.argv[1]) if sys.argv[1:] else None
        made = cluster.fill_cluster(
            settings, schema_of(settings.root), local.scheduler_address, tell, folder=folder
        )
        print(sum(made.values()), len(told))

if __name__ == "__main__":
    main()
"""


@pytest.mark.parametrize("shop", SOME, indirect=True)
def test_workers_make_the_rows_and_one_may_die(shop: Project, tmp_path: Path) -> None:
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
        stored = run_sql(shop, "SELECT id, code, shop_id FROM item")
        assert sorted((int(r["id"]), r["code"], int(r["shop_id"])) for r in whole) == sorted(stored)
        pairs = run_sql(shop, "SELECT count(*) FROM item_tags")[0][0]
        assert pairs == len((shop.root / "whole/item_tags.csv").read_text().splitlines()) - 1
        shop.run("check", "--rows")
    assert (
        "no scheduler answers"
        in shop.run("fill", "--to", "x", "--cluster", "tcp://127.0.0.1:1", code=1).stderr
    )
