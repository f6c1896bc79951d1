"""Many at once on a server with several processes: each change whole, and none against a rule."""

from __future__ import annotations

import os
import re
import signal
import socket
import subprocess
import sys
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest
import servers
from conftest import Project
from served import Answer, Visitor

from welbik.storage.backend import Database
from welbik.storage.connect import connect

MANY = 8
YARDS = """\
model Yard
    name    text 2..20, required
    room    integer 0..9, required
    crates  <- Crate.yard
    rule room >= count(crates), say "There is no room for more", at room
model Crate
    code    text 2..8, required, unique
    yard    -> Yard, required
    weight  integer 0..1000, default 0
    keep bin, history
seed
    2 Yard
"""


class Site:
    """A project on a server, served by several processes."""

    def __init__(self, project: Project, address: str, database: str) -> None:
        self.project, self.address, self.database = project, address, database

    def visitors(self) -> list[Visitor]:
        return [Visitor(self.address) for _ in range(MANY)]

    def together(self, work: Callable[[int, Visitor], Answer]) -> list[Answer]:
        with ThreadPoolExecutor(MANY) as pool:
            return list(pool.map(work, range(MANY), self.visitors()))

    def ask(self, query: str) -> list[tuple[object, ...]]:
        with connect(self.database, Path()) as database:
            return database.run(query)

    def opened(self) -> Database:
        return connect(self.database, Path())


@contextmanager
def _processes(project: Project, database: str) -> Iterator[str]:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        port = one.getsockname()[1]
    command = ["-m", "gunicorn", "-c", "serving/gunicorn.conf.py", "-b", f"127.0.0.1:{port}"]
    process = subprocess.Popen(
        [sys.executable, *command, "--workers", "3"],
        cwd=project.root,
        stderr=subprocess.PIPE,
        text=True,
        env={**os.environ, "DATABASE_URL": database, "SITE_HOSTS": "*"},
    )
    try:
        assert process.stderr
        booted = 0
        while booted < 3:
            line = process.stderr.readline()
            assert line, "the site did not start"
            booted += "Booting worker" in line
        with ThreadPoolExecutor(1) as pool:
            # What it says is read away, so that it never waits for that.
            said = pool.submit(process.stderr.read)
            yield f"http://127.0.0.1:{port}"
            process.send_signal(signal.SIGTERM)
            process.wait(timeout=30)
            assert "Traceback" not in said.result(), said.result()[-2000:]
    finally:
        with suppress(ProcessLookupError):
            process.kill()
        process.wait(timeout=20)


@pytest.fixture(scope="module", params=["postgresql", "mariadb"])
def site(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Site]:
    project = Project(tmp_path_factory.mktemp("crowd"))
    project.write("welbik.toml", 'package = "yards"\n')
    project.write("models/yards.welbik", YARDS)
    with servers.database(request.param, project.root) as database:
        for command in ("build", "migrate", "fill"):
            project.run(command, DATABASE_URL=database)
        with connect(database, Path()) as opened:
            opened.run("UPDATE yard SET room = 9")
        with _processes(project, database) as address:
            yield Site(project, address, database)


def test_one_value_that_all_want_goes_to_one(site: Site) -> None:
    answers = site.together(lambda n, who: who.send("/crates/new", {"code": "ONE", "yard": "1"}))
    assert Counter(answer.status for answer in answers) == {303: 1, 422: MANY - 1}
    assert all("taken already" in answer.text for answer in answers if answer.status == 422)
    assert site.ask("SELECT count(*) FROM crate WHERE code = 'ONE'") == [(1,)]


def test_a_rule_over_many_rows_holds_however_many_come(site: Site) -> None:
    with site.opened() as database:
        database.run("DELETE FROM crate")
        database.run("UPDATE yard SET room = 3 WHERE id = 2")
    answers = site.together(lambda n, who: who.send("/crates/new", {"code": f"R{n}", "yard": "2"}))
    assert Counter(answer.status for answer in answers) == {303: 3, 422: MANY - 3}
    assert site.ask("SELECT count(*) FROM crate WHERE yard_id = 2") == [(3,)]


def test_a_form_that_is_sent_many_times_makes_one_row(site: Site) -> None:
    who = Visitor(site.address)
    page = who.ask("/crates/new").text
    hidden = dict(re.findall(r'type="hidden" name="(\w+)" value="([^"]*)"', page))
    typed = {**hidden, "code": "TWICE", "yard": "1"}
    with ThreadPoolExecutor(MANY) as pool:
        answers = list(pool.map(lambda _: who.ask("/crates/new", typed), range(MANY)))
    assert {answer.status for answer in answers} == {303}
    assert site.ask("SELECT count(*) FROM crate WHERE code = 'TWICE'") == [(1,)]


def test_no_change_is_lost_under_another(site: Site) -> None:
    """Of all who opened the same form one is taken, the others are shown what came meanwhile."""
    made = Visitor(site.address).send("/crates/new", {"code": "LOST", "yard": "1"})
    assert made.status == 303
    ((key,),) = site.ask("SELECT id FROM crate WHERE code = 'LOST'")
    form = f"/crates/{key}/edit"
    seen = [(who, who.ask(form).text) for who in site.visitors()]

    def change(number: int) -> Answer:
        who, page = seen[number]
        hidden = dict(re.findall(r'type="hidden" name="(\w+)" value="([^"]*)"', page))
        typed = {"code": "LOST", "yard": "1", "weight": str(100 + number)}
        return who.ask(form, {**hidden, **typed})

    with ThreadPoolExecutor(MANY) as pool:
        answers = list(pool.map(change, range(MANY)))
    assert Counter(answer.status for answer in answers) == {303: 1, 409: MANY - 1}
    taken = [n for n, answer in enumerate(answers) if answer.status == 303]
    assert site.ask("SELECT weight FROM crate WHERE code = 'LOST'") == [(100 + taken[0],)]


def test_rows_that_come_and_go_at_once_leave_nothing_half_done(site: Site) -> None:
    """Half of them add crates to a yard that the others remove: each is done or refused."""
    made = Visitor(site.address).send("/yards/new", {"name": "Gone soon", "room": "9"})
    assert made.status == 303
    ((key,),) = site.ask("SELECT id FROM yard WHERE name = 'Gone soon'")

    def work(number: int, who: Visitor) -> Answer:
        if number % 2:
            return who.send(f"/yards/{key}/remove", {})
        return who.send("/crates/new", {"code": f"G{number}", "yard": str(key)})

    answers = site.together(work)
    # Who came when it was gone had no form to send.
    assert {answer.status for answer in answers} <= {303, 403, 404, 409, 422}
    crates = site.ask(f"SELECT count(*) FROM crate WHERE yard_id = {key}")[0][0]
    there = site.ask(f"SELECT count(*) FROM yard WHERE id = {key}")[0][0]
    stored = sum(a.status == 303 for n, a in enumerate(answers) if n % 2 == 0)
    assert crates == stored and (there == 1) == (crates > 0)


def test_a_server_that_drops_all_connections_costs_no_page(site: Site) -> None:
    """As when it is started anew: the site goes on with the next request."""
    who = Visitor(site.address)
    assert who.ask("/crates").status == 200
    with site.opened() as database:
        if database.word == "postgresql":
            database.run(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
                "WHERE datname = current_database() AND pid <> pg_backend_pid()"
            )
        else:
            for (number,) in database.run(
                "SELECT id FROM information_schema.processlist "
                "WHERE db = database() AND id <> connection_id()"
            ):
                with suppress(*database.errors):
                    database.run(f"KILL {number}")
    answers = site.together(lambda n, who: who.ask("/crates"))
    assert {answer.status for answer in answers} == {200}
    sent = site.together(lambda n, who: who.send("/crates/new", {"code": f"A{n}", "yard": "1"}))
    assert {answer.status for answer in sent} <= {303, 422}
