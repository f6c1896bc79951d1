"""Attacks on the generated application, one by one: each is turned away, and the log says so."""

from __future__ import annotations

import gzip
import io
import json
import logging
import re
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from loaded import Application, application, ask
from sqlalchemy.exc import OperationalError

SHED = """\
model Shed
    name    text 2..40, required, unique
    opened  date, fixed
    secret  text 20, internal
    plan    file up to 1 MB of txt, pdf
    photo   image up to 1 MB
    tools   <- Tool.shed

model Tool
    name    text 2..40, required
    shed    -> Shed, required, owned
    cost    decimal 0.00..99.99
seed
    4 Shed
    9 Tool
"""


@pytest.fixture
def app() -> Iterator[Application]:
    with application(SHED) as app:
        yield app


def test_nothing_inline_runs_and_nothing_comes_from_elsewhere(app: Application) -> None:
    for path in ("/", "/sheds", "/sheds?_filter=open", "/sheds/1", "/sheds/new", "/sheds/1/remove"):
        answer = app.client.get(path)
        policy = answer.headers["Content-Security-Policy"]
        assert policy.startswith("default-src 'none'; ") and "unsafe" not in policy
        assert {"script-src 'self'", "style-src 'self'", "form-action 'self'"} <= set(
            policy.split("; ")
        )
        page = answer.text
        assert (
            re.search(r"<script(?! src=\"/look/)|<style|\sstyle=|\son\w+=|javascript:", page)
            is None
        )
        assert re.search(r'(?:href|src|action)="(?:https?:|//)', page) is None


def test_every_answer_says_how_it_may_be_used(app: Application) -> None:
    for path in ("/sheds", "/nowhere", "/look/site.css"):
        headers = app.client.get(path).headers
        assert headers["X-Frame-Options"] == "DENY"
        assert headers["X-Content-Type-Options"] == "nosniff"
        assert headers["Referrer-Policy"] == "same-origin"
        assert headers["Cross-Origin-Opener-Policy"] == "same-origin"
        assert "frame-ancestors 'none'" in headers["Content-Security-Policy"]
    assert app.client.get("/sheds").headers["Cache-Control"] == "private, no-cache"


def test_the_cookie_is_out_of_reach_of_scripts_and_other_sites(app: Application) -> None:
    cookie = app.client.get("/sheds/new").headers["Set-Cookie"]
    assert "HttpOnly" in cookie and "SameSite=Lax" in cookie and "Secure" not in cookie
    other = app.flask.test_client().get("/sheds/new", base_url="https://localhost")
    assert "Secure" in other.headers["Set-Cookie"]


@pytest.mark.parametrize("path", ["new", "1/edit", "1/remove", "chosen", "1/tools/new"])
def test_no_change_without_the_visitors_own_token(app: Application, path: str) -> None:
    app.client.get("/sheds/new")
    stranger = app.flask.test_client()
    token = re.search(r'_token" value="([^"]+)', stranger.get("/sheds/new").text)
    assert token
    for sent in ({}, {"_token": ""}, {"_token": "é"}, {"_token": token[1]}):
        answer = app.client.post(f"/sheds/{path}", data={"name": "Taken over", **sent})
        assert answer.status_code == 403
    assert ask(app, "SELECT count(*) FROM shed WHERE name = 'Taken over'") == 0


@pytest.mark.parametrize(
    "host", ["evil.example", "localhost.evil.example", "localhost@evil", "[::2]"]
)
def test_other_hosts_are_refused(
    app: Application, host: str, caplog: pytest.LogCaptureFixture
) -> None:
    assert app.client.get("/sheds", headers={"Host": host}).status_code == 400
    for good in ("localhost", "LOCALHOST:8180", "127.0.0.1:1", "[::1]:80"):
        assert app.client.get("/sheds", headers={"Host": good}).status_code == 200


def test_too_much_is_refused_before_it_is_read(app: Application) -> None:
    def post(data: dict[str, Any]) -> int:
        with app.client.session_transaction() as kept:
            kept["token"] = "t"
        return int(app.client.post("/sheds/new", data={**data, "_token": "t"}).status_code)

    assert post({"name": "x" * 5_000_000}) == 413
    assert post({"plan": (io.BytesIO(b"x" * 9_000_000), "plan.txt")}) == 413
    assert post({f"name-{n}": "x" for n in range(5_000)} | {"plan": (io.BytesIO(b""), "")}) == 413
    assert post({"plan": (io.BytesIO(b"x" * 1_100_000), "plan.txt"), "name": "Big"}) == 422


REFUSED = ("../../kit/site.py", "x\r\nSet-Cookie: a=b.txt")


@pytest.mark.parametrize(
    "name",
    [
        "../../kit/site.py",
        "..\\..\\evil.txt",
        "/etc/passwd.txt",
        "a\x00b.txt",
        "x\r\nSet-Cookie: a=b.txt",
        "<b>.txt",
    ],
)
def test_the_name_of_an_upload_is_no_path_and_no_header(app: Application, name: str) -> None:
    before = _files(app)
    with app.client.session_transaction() as kept:
        kept["token"] = "t"
    form = {"name": "Uploader", "_token": "t", "plan": (io.BytesIO(b"hello"), name)}
    answer = app.client.post("/sheds/new", data=form)
    # A name that can't be one is told; any other is cut down to what it is called.
    assert answer.status_code == (422 if name in REFUSED else 303)
    assert _files(app) == before
    assert all(
        len(p.name) == 64 or p.name in ("waiting", "swept")
        for p in app.root.glob("instance/files/*")
    )
    if answer.status_code == 303:
        page = app.client.get(answer.location).text
        link = re.search(r'href="(/files/[^"]+)"', page)
        assert link and "<b>.txt" not in page
        got = app.client.get(link[1])
        assert got.status_code == 200 and "Set-Cookie" not in got.headers
        assert "a=b" not in {**got.headers}


def _files(app: Application) -> set[Path]:
    """The files of the project that a request has no business with."""
    passing = {"instance", "__pycache__"}
    return {
        path
        for path in app.root.rglob("*")
        if not passing & {*path.parts} and ".db" not in path.name
    }


def test_an_upload_is_neither_run_nor_shown_as_a_page(app: Application) -> None:
    page = b"<html><script>alert(1)</script>"
    with app.client.session_transaction() as kept:
        kept["token"] = "t"
    form = {"name": "Page", "_token": "t", "plan": (io.BytesIO(page), "page.txt")}
    made = app.client.post("/sheds/new", data=form)
    link = re.search(r'href="(/files/([0-9a-f]{64})/[^"]+)"', app.client.get(made.location).text)
    assert link
    for path in (link[1], f"/files/{link[2]}/html/x.html", f"/files/{link[2]}/png/x.png"):
        got = app.client.get(path)
        assert got.mimetype == "application/octet-stream"
        assert got.headers["Content-Disposition"].startswith("attachment")
        assert "sandbox" in got.headers["Content-Security-Policy"]
    # What calls itself an image and is none is refused.
    fake = {
        **form,
        "name": "Fake",
        "plan": (io.BytesIO(b""), ""),
        "photo": (io.BytesIO(page), "a.png"),
    }
    fake["plan"] = (io.BytesIO(b""), "")
    assert app.client.post("/sheds/new", data=fake).status_code == 422
    for digest in ("..", "../session.key", "0" * 64, "a" * 63 + "."):
        assert app.client.get(f"/files/{digest}/txt/x").status_code == 404


@pytest.mark.parametrize(
    "address",
    [
        *("https://evil.example/", "//evil.example/", "/\\evil.example", "\\\\evil.example"),
        *("javascript:alert(1)", "/sheds\r\nSet-Cookie: a=b", "/\t/evil.example", "evil.example"),
        *("http:evil.example", "///evil.example", "/\x00/evil.example"),
    ],
)
def test_redirects_stay_within_the_site(app: Application, address: str) -> None:
    page = app.client.get("/sheds/new", query_string={"_return": address})
    assert page.status_code == 200 and "evil" not in page.text and "alert" not in page.text
    made = app.post("/sheds/new", {"name": "Returning", "_return": address})
    assert made.status_code == 303 and re.fullmatch(r"/sheds/\d+", made.location)
    assert "a=b" not in str(made.headers)
    kept = app.post("/sheds/new", {"name": "Kept", "_return": "/sheds/1?_tab=tools"})
    assert kept.location == "/sheds/1?_tab=tools"


def test_fields_that_are_not_asked_for_are_ignored_and_logged(
    app: Application, caplog: pytest.LogCaptureFixture
) -> None:
    before = ask(app, "SELECT opened FROM shed WHERE id = 1")
    with caplog.at_level(logging.WARNING):
        sent = {"name": "Tampered", "id": "77", "secret": "x", "opened": "1999-01-01", "admin": "1"}
        assert app.change("/sheds/1/edit", sent).status_code == 303
    assert ask(app, "SELECT opened FROM shed WHERE id = 1") == before
    assert ask(app, "SELECT count(*) FROM shed WHERE id = 77 OR secret = 'x'") == 0
    said = " ".join(record.getMessage() for record in caplog.records)
    assert all(f"'{name}'" in said for name in ("id", "secret", "opened", "admin"))
    # Nor can a part be moved to another row by sending its parent.
    parent, part = (ask(app, f"SELECT {c} FROM tool WHERE id = 1") for c in ("shed_id", "name"))
    typed = {"name": part, "shed": str(parent % 4 + 1)}
    assert app.change("/tools/1/edit", {**typed, "shed": str(parent)}).status_code == 303
    assert app.post(f"/sheds/{parent}/tools/1/edit", typed).status_code == 303
    assert ask(app, "SELECT shed_id FROM tool WHERE id = 1") == parent
    assert app.client.get(f"/sheds/{parent % 4 + 1}/tools/1/edit").status_code == 404


@pytest.mark.parametrize(
    "query",
    [
        *(
            "_sort=id",
            "_sort=-secret",
            "_sort=name;DROP TABLE shed",
            "_sort=name'--",
            "_sort=name,secret",
        ),
        *("_size=100000", "_size=-1", "_after=WzEsIngiXQ", "_after=' OR 1=1"),
        *(
            "_before=%00",
            "_search=' OR 1=1 --",
            "_search=%25",
            "_tab=../..",
            "_filter=" + "x" * 3000,
        ),
        *("opened=2024-01-01' OR '1'='1..", "_as=exe", "_after=W251bGwsbnVsbCxudWxsXQ"),
    ],
)
def test_what_is_asked_of_a_list_comes_from_a_closed_list(app: Application, query: str) -> None:
    with app.queries() as asked:
        answer = app.client.get(f"/sheds?{query}")
    assert answer.status_code == 200
    assert answer.text.count('name="_row"') <= 4
    for statement in asked:
        assert "DROP" not in statement and "OR 1=1" not in statement and "secret" not in statement
    assert ask(app, "SELECT count(*) FROM shed") == 4


def test_notes_and_parts_that_are_made_up_break_nothing(app: Application) -> None:
    once = re.search(r'_once" value="([^"]+)', app.client.get("/sheds/new").text)
    assert once and app.post("/sheds/new", {"name": "Noted", "_once": once[1]}).status_code == 303
    # A note of one kind is none of the other.
    assert app.client.get(f"/sheds/new?_draft={once[1]}").status_code == 200
    for part in ("new:tools", "new:name", "new:nothing", "find:nothing", "check:", "new:"):
        assert app.post("/sheds/new", {"name": "Parted", "_part": part}).status_code < 500
    assert app.client.get("/sheds?other-low=1&x-empty=2").status_code == 302


def test_what_goes_wrong_inside_is_told_to_the_log_alone(
    app: Application, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    app.flask.config["PROPAGATE_EXCEPTIONS"] = False

    def fail(*arguments: object) -> None:
        raise RuntimeError("the safe word is heather")

    monkeypatch.setattr(app.module("kit.listing"), "answer", fail)
    with caplog.at_level(logging.ERROR):
        answer = app.client.get("/sheds")
    assert answer.status_code == 500
    for inside in ("heather", "RuntimeError", "Traceback", ".py", "sqlalchemy"):
        assert inside not in answer.text
    number = answer.headers["X-Request-Id"]
    assert re.fullmatch(r"[0-9a-f]{12}", number) and number in answer.text
    (record,) = [r for r in caplog.records if r.exc_info]
    with app.flask.test_request_context("/sheds\nlevel=fake"):
        line = app.module("kit.logs").Lines(reading=False).format(record)
    told = json.loads(line)
    assert "heather" in told["trace"] and told["level"] == "error" and "\n" not in line


def test_a_busy_database_is_tried_again_and_then_explained(
    app: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    forms = app.module("kit.forms")
    save, failures = forms.Entry.save, [2]

    def sometimes(self: Any, row: Any) -> bool:
        # It fails when all is written and only the end of the transaction is missing.
        if failures[0] and self.store(row):
            failures[0] -= 1
            lost = failures[0] % 2 == 0
            reason = sqlite3.OperationalError("gone away" if lost else "database is locked")
            raise OperationalError("INSERT", {}, reason, connection_invalidated=lost)
        return bool(save(self, row))

    monkeypatch.setattr(forms.Entry, "save", sometimes)
    assert app.post("/sheds/new", {"name": "Patient"}).status_code == 303
    failures[0] = 2
    assert app.post("/sheds/new", {"name": "Reconnected"}).status_code == 303
    failures[0] = 99
    answer = app.post("/sheds/new", {"name": "Never"})
    assert answer.status_code == 503 and answer.headers["Retry-After"]
    assert "The database is busy" in answer.text and "Nothing was stored" in answer.text
    assert (
        ask(app, "SELECT count(*) FROM shed WHERE name IN ('Patient', 'Reconnected', 'Never')") == 2
    )


def test_other_failures_of_the_database_are_not_tried_again(
    app: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    calls = []

    def fail(self: Any, row: Any) -> bool:
        calls.append(row)
        raise OperationalError("INSERT", {}, sqlite3.OperationalError("disk I/O error"))

    monkeypatch.setattr(app.module("kit.forms").Entry, "save", fail)
    assert app.post("/sheds/new", {"name": "Once"}).status_code == 500
    assert len(calls) == 1


def test_files_of_the_site_are_small_and_kept(app: Application) -> None:
    page = app.client.get("/sheds")
    total = len(page.data)
    for path in re.findall(r'(?:src|href)="(/look/[^"]+)"', page.text):
        got = app.client.get(path, headers={"Accept-Encoding": "gzip"})
        assert got.status_code == 200 and "immutable" in got.headers["Cache-Control"]
        assert got.headers["Content-Encoding"] == "gzip"
        plain = app.client.get(path)
        assert "Content-Encoding" not in plain.headers
        assert gzip.decompress(got.data) == plain.data
        total += len(got.data)
    assert total < 40_000
    licence = Path(app.root, app.package, "look", "static", "htmx-licence.txt").read_text("utf-8")
    assert "Zero-Clause BSD" in licence
