"""The served site over HTTP: what it answers to honest and to hostile requests."""

from __future__ import annotations

import html
import re
import sqlite3
import stat
from collections.abc import Iterator

import pytest
from conftest import Project
from served import Visitor, served

from welbik.storage.sqlite import Sqlite

HIVE = {"code": "ZZ-0001", "keeper": "1", "frames": "10", "kind": "long", "opened": "2024-05-06"}


@pytest.fixture
def visitor(built: Project) -> Iterator[Visitor]:
    with served(built) as address:
        yield Visitor(address)


def _one(project: Project, query: str) -> object:
    with sqlite3.connect(project.root / "bees.db") as connection:
        return connection.execute(query).fetchone()[0]


def test_a_row_is_made_changed_and_removed(visitor: Visitor, built: Project) -> None:
    made = visitor.send("/hives/new", HIVE)
    assert made.status == 303
    page = visitor.ask(made.headers["Location"])
    assert "Hive ZZ-0001 is saved." in page.text and "Long hive" in page.text
    assert "is saved" not in visitor.ask(made.headers["Location"]).text
    changed = visitor.send(made.headers["Location"] + "/edit", {**HIVE, "frames": "12"})
    assert changed.status == 303
    assert _one(built, "SELECT frames FROM hive WHERE code = 'ZZ-0001'") == 12
    removed = visitor.send(made.headers["Location"] + "/remove", {})
    assert removed.status == 303
    assert visitor.ask(made.headers["Location"]).status == 404


def test_every_problem_stands_once_beside_its_field_and_what_was_typed_stays(
    visitor: Visitor,
) -> None:
    typed = {
        "code": '"><i>x',
        "keeper": "77",
        "frames": "3",
        "kind": "paper",
        "opened": "2999-01-01",
    }
    answer = visitor.send("/hives/new", typed)
    assert answer.status == 422
    for name in typed:
        assert re.search(rf'id="{name}-problem"[^>]*>[^<]', answer.text)
    assert "5 fields need another look." in answer.text
    assert 'value="3"' in answer.text and "&#34;&gt;&lt;i&gt;x" in answer.text
    assert "<i>x" not in answer.text
    assert "Between 4 and 24, please." in answer.text


def test_related_rows_are_shown_by_name_never_by_number(visitor: Visitor, built: Project) -> None:
    name = html.escape(
        str(
            _one(
                built,
                "SELECT name FROM keeper WHERE id = (SELECT keeper_id FROM hive ORDER BY code LIMIT 1)",
            )
        )
    )
    page = visitor.ask("/hives?_sort=code").text
    assert f">{name}</a>" in page
    assert re.search(r"<td[^>]*>\s*<a[^>]*>\d+</a>", page) is None


def test_lists_are_sorted_and_cut_into_pages(visitor: Visitor, built: Project) -> None:
    def codes(query: str) -> list[str]:
        return re.findall(r">([A-Z]{2}-\d{4})</a>", visitor.ask(f"/hives{query}").text)

    with sqlite3.connect(built.root / "bees.db") as connection:
        stored = [code for (code,) in connection.execute("SELECT code FROM hive ORDER BY code")]
        by_keeper = [c for (c,) in connection.execute(
            "SELECT code FROM hive JOIN keeper ON keeper.id = keeper_id ORDER BY keeper.name DESC, hive.id DESC")]  # fmt: skip

    def both(query: str) -> list[str]:
        further = re.search(r'rel="next" href="([^"]+)"', visitor.ask(f"/hives{query}").text)
        assert further
        return [*codes(query), *codes(html.unescape(further[1]))]

    assert codes("?_sort=code") == stored[:25]
    assert both("?_sort=code") == stored
    assert both("?_sort=-keeper") == by_keeper
    everything = codes("")
    for nonsense in (
        "?_after=99999999999999999999",
        "?_size=-1",
        "?_sort=id;drop",
        "?_sort=opened)",
        "?_before=x&_sort=%00",
    ):
        assert len(codes(nonsense)) in (15, 25)
    assert len(everything) == 25


def test_empty_lists_say_what_to_do(visitor: Visitor, built: Project) -> None:
    with sqlite3.connect(built.root / "bees.db") as connection:
        connection.execute("DELETE FROM hive")
        connection.execute("DELETE FROM keeper")
    assert "There are no hives yet." in visitor.ask("/hives").text
    assert "Nothing to choose from yet" in visitor.ask("/hives/new").text


def test_statuses_mean_what_http_says(visitor: Visitor) -> None:
    assert visitor.ask("/").status == 200
    for path in (
        "/nowhere",
        "/hives/999999",
        "/hives/x",
        "/hives/99999999999999999999999",
        "/hives/0/edit",
    ):
        assert visitor.ask(path).status == 404
    refused = visitor.ask("/hives", {"_token": "x"})
    assert refused.status == 405 and "GET" in refused.headers["Allow"]
    assert visitor.ask("/hives/new", method="DELETE").status == 405
    assert visitor.ask("/keepers/1/remove").status == 200


def test_removing_is_refused_while_others_refer_to_it(visitor: Visitor, built: Project) -> None:
    keeper = _one(built, "SELECT keeper_id FROM hive LIMIT 1")
    asked = visitor.ask(f"/keepers/{keeper}/remove")
    assert "can&#39;t be removed while" in asked.text or "can't be removed while" in asked.text
    assert "<button" not in asked.text
    token = visitor.ask("/keepers/new").text.split('name="_token" value="')[1].split('"')[0]
    assert visitor.ask(f"/keepers/{keeper}/remove", {"_token": token}).status == 409
    assert _one(built, f"SELECT count(*) FROM keeper WHERE id = {keeper}") == 1


def test_text_from_people_is_shown_and_never_run(visitor: Visitor) -> None:
    nasty = "<script>alert(1)</script>{{ 7*7 }}"
    made = visitor.send("/keepers/new", {"name": nasty, "email": "a@example.org"})
    for path in (
        made.headers["Location"],
        "/keepers",
        "/hives/new",
        made.headers["Location"] + "/remove",
    ):
        text = visitor.ask(path).text
        assert html.escape(nasty).replace("&#x27;", "&#39;") in text
        assert "<script>" not in text and "49" not in text.split("alert(1)")[1][:20]


def test_a_form_saved_over_a_newer_change_is_refused_and_shows_both(
    visitor: Visitor, built: Project
) -> None:
    path = "/hives/1/edit"
    page = visitor.ask(path).text
    hidden = dict(re.findall(r'type="hidden" name="(\w+)" value="([^"]*)"', page))
    mine = {**hidden, **HIVE, "frames": "7"}
    assert visitor.send(path, {**HIVE, "frames": "21"}).status == 303
    answer = visitor.ask(path, mine)
    assert answer.status == 409
    assert '<td data-label="Stored meanwhile">21</td>' in answer.text
    assert '<td data-label="Yours">7</td>' in answer.text and 'value="7"' in answer.text
    assert _one(built, "SELECT frames FROM hive WHERE id = 1") == 21
    hidden = dict(re.findall(r'type="hidden" name="(\w+)" value="([^"]*)"', answer.text))
    assert visitor.ask(path, {**mine, **hidden}).status == 303
    assert _one(built, "SELECT frames FROM hive WHERE id = 1") == 7


def test_the_session_key_is_made_once_and_kept_private(visitor: Visitor, built: Project) -> None:
    key = built.root / "instance" / "session.key"
    assert stat.S_IMODE(key.stat().st_mode) == 0o600
    assert key.read_text("ascii") not in "".join(
        text.decode("utf-8", "replace")
        for name, text in built.files().items()
        if not name.startswith("instance")
    )


def test_a_database_behind_the_code_answers_with_the_command(built: Project) -> None:
    built.replace("models/bees.welbik", "    frames ", "    notes text 9\n    frames ")
    built.run("build")
    with served(built) as address:
        visitor = Visitor(address)
        answer = visitor.ask("/hives")
        assert answer.status == 503 and "welbik migrate" in answer.text
        assert visitor.ask("/look/site.css").status == 200
        built.run("migrate")
        assert visitor.ask("/hives").status == 200
    built.replace("models/bees.welbik", "    notes text 9\n", "    more text 9\n    notes text 9\n")
    built.run("migrate")
    with served(built) as address:
        answer = Visitor(address).ask("/hives")
        assert answer.status == 503 and "welbik build" in answer.text


def test_a_database_that_goes_missing_is_no_riddle(built: Project) -> None:
    (built.root / "bees.db").unlink()
    with served(built) as address:
        answer = Visitor(address).ask("/hives")
        assert answer.status == 503 and "welbik migrate" in answer.text
    assert not (built.root / "bees.db").exists()


def test_a_locked_database_is_waited_for(visitor: Visitor, built: Project) -> None:
    database = Sqlite(built.root / "bees.db")
    with database.transaction():
        assert visitor.ask("/hives").status == 200
    assert visitor.send("/hives/new", HIVE).status == 303
    database.close()


def test_moments_are_typed_and_shown_in_the_sites_zone(make: object, tmp_path: object) -> None:
    project: Project = make("model Visit\n    held datetime ..now, required\n")  # type: ignore[operator]
    project.write("welbik.toml", project.read("welbik.toml") + 'timezone = "Europe/Lisbon"\n')
    for command in ("build", "migrate"):
        project.run(command)
    with served(project) as address:
        visitor = Visitor(address)
        made = visitor.send("/visits/new", {"held": "2025-07-01T12:00"})
        assert made.status == 303
        assert _one(project, "SELECT held FROM visit") == "2025-07-01 11:00:00.000000"
        assert "1 Jul 2025, 12:00" in visitor.ask(made.headers["Location"]).text
        assert 'value="2025-07-01T12:00"' in visitor.ask(made.headers["Location"] + "/edit").text
        skipped = visitor.send("/visits/new", {"held": "2025-03-30T01:30"})
        assert skipped.status == 422 and "clocks went forward" in skipped.text
