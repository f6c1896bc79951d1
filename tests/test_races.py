"""Two visitors at once: one of them wins, the other gets a form that says why, nobody an error page."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import pytest
from conftest import HIVES, Project
from loaded import Application, application
from served import Visitor, served

HIVE = {"code": "ZZ-0001", "keeper": "1", "frames": "10", "kind": "long", "opened": "2024-05-06"}


def test_many_visitors_who_want_one_code(built: Project) -> None:
    with served(built) as address:
        visitors = [Visitor(address) for _ in range(8)]
        with ThreadPoolExecutor(8) as pool:
            answers = list(pool.map(lambda visitor: visitor.send("/hives/new", HIVE), visitors))
        assert sorted(answer.status for answer in answers) == [303] + [422] * 7
        refused = next(answer for answer in answers if answer.status == 422)
        assert "taken already" in refused.text


def test_many_visitors_who_change_one_row(built: Project) -> None:
    with served(built) as address:
        visitors = [Visitor(address) for _ in range(6)]
        forms = [visitor.ask("/hives/1/edit").text for visitor in visitors]
        hidden = [
            {
                name: form.split(f'name="{name}" value="')[1].split('"')[0]
                for name in ("_token", "_seen")
            }
            for form in forms
        ]
        with ThreadPoolExecutor(6) as pool:
            changes = [{**HIVE, **own, "frames": str(5 + n)} for n, own in enumerate(hidden)]
            answers = list(
                pool.map(lambda v, data: v.ask("/hives/1/edit", data), visitors, changes)
            )
        assert sorted(answer.status for answer in answers) == [303] + [409] * 5


ROOMS = """\
model Yard
    name    text 2..20, required
    room    integer 0..9, required
    crates  <- Crate.yard
    rule room >= count(crates), say "There is no room for more", at room
model Crate
    code    text 2..8, required, unique
    yard    -> Yard, required
seed
    1 Yard
"""


def test_a_rule_over_many_rows_is_not_broken_by_many_at_once(
    make: Callable[[str], Project],
) -> None:
    """Each of eight crates fits alone; only three fit together."""
    project = make(ROOMS)
    for command in ("build", "migrate", "fill"):
        project.run(command)
    with sqlite3.connect(project.root / "bees.db") as connection:
        connection.execute("UPDATE yard SET room = 3")
    with served(project) as address:

        def send(number: int) -> int:
            return Visitor(address).send("/crates/new", {"code": f"C{number}", "yard": "1"}).status

        with ThreadPoolExecutor(8) as pool:
            statuses = list(pool.map(send, range(8)))
    assert sorted(statuses) == [303] * 3 + [422] * 5
    with sqlite3.connect(project.root / "bees.db") as connection:
        assert connection.execute("SELECT count(*) FROM crate").fetchone() == (3,)


@pytest.fixture
def app() -> object:
    with application(HIVES) as app:
        yield app


def test_a_value_taken_between_check_and_saving_is_a_form_message(
    app: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert app.post("/hives/new", HIVE).status_code == 303
    entry = app.module("kit.forms").Entry
    check, calls = entry._check_free, []

    def late(self: object, *arguments: object) -> None:
        calls.append(arguments)
        if len(calls) > 1:  # The first check came before the other visitor had saved.
            check(self, *arguments)

    monkeypatch.setattr(entry, "_check_free", late)
    answer = app.post("/hives/new", HIVE)
    assert answer.status_code == 422 and "taken already" in answer.text


def test_a_row_that_comes_to_refer_before_removal_is_a_refusal(
    app: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    removal = app.module("kit.removal")
    with app.flask.app_context():
        session = app.module("kit.database").session()
        keeper = session.query(app.row_class(app.schema.models["Hive"])).first().keeper_id
    monkeypatch.setattr(removal, "effects", lambda *rows: removal.Effects())
    assert app.post(f"/keepers/{keeper}/remove", {}).status_code == 409
    assert app.client.get(f"/keepers/{keeper}").status_code == 200


def test_a_parent_that_goes_before_saving_is_a_form_message(
    app: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    reference = app.module("kit.relations").Reference
    parse, calls = reference.parse, []

    def early(self: object, text: str) -> int:
        calls.append(text)
        return int(text) if len(calls) == 1 else int(parse(self, text))

    monkeypatch.setattr(reference, "parse", early)
    answer = app.post("/hives/new", {**HIVE, "keeper": "999"})
    assert answer.status_code == 422 and "this one is gone" in answer.text
