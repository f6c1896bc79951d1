"""One request, one name, one file: none brings the site down, and none is stored that shouldn't be."""

from __future__ import annotations

import base64
import json
import logging
import resource
import socket
import sqlite3
import stat
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from io import BytesIO
from typing import Any
from urllib.parse import parse_qs, quote, urlsplit
from urllib.request import urlopen

import pytest
from conftest import Project
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from loaded import Application, application, ask
from served import served
from sqlalchemy import make_url

SHOP = """\
model Item
    name    text 1..40, required
    price   decimal 0.00..99999.99
    count   integer 0..1000000
    share   number
    called "łóżko a" | "łóżka a"
    tags    <-> Tag
    list name, price, count, share

model Tag
    name    text 1..20, required
    keep bin

seed
    9 Item
    20 Tag
"""
QUICK = [Phase.explicit, Phase.reuse, Phase.generate]


@pytest.fixture(scope="module")
def app() -> Iterator[Application]:
    with application(SHOP) as app:
        yield app


def _cost(app: Application, path: str) -> tuple[int, int, float]:
    """The status of an answer, its bytes, and the seconds of processor time that it took."""
    before = resource.getrusage(resource.RUSAGE_SELF)
    answer = app.client.get(path)
    data = answer.get_data()
    after = resource.getrusage(resource.RUSAGE_SELF)
    return answer.status_code, len(data), after.ru_utime - before.ru_utime


HUGE = st.one_of(
    st.builds(
        "{}{}E{}{}".format,
        st.sampled_from(["", "-", "+"]),
        st.sampled_from(["1", "9.99", "0", "0.000"]),
        st.sampled_from(["", "+", "-"]),
        st.sampled_from([0, 1, 30, 400, 400_000, 999_999_999, 10**17]),
    ),
    st.integers(-(2**70), 2**70).map(str),
    st.sampled_from(["NaN", "sNaN", "Infinity", "-inf", "9223372036854775807", "-9223372036854775808",
                     "9223372036854775808", "92233720368547758.07", "1_0", "٣", "0x10", "1" * 400]),
)  # fmt: skip


@given(HUGE, st.sampled_from(["price", "count", "share"]), st.sampled_from(["{}", "..{}", "{}..", "{0}..{0}"]))  # fmt: skip
@settings(max_examples=150, phases=QUICK)
def test_a_number_is_measured_before_anything_is_done_with_it(
    app: Application, number: str, name: str, form: str
) -> None:
    url = app.schema.models["Item"].url
    asked = form.format(number).replace("+", "%2B")
    place = json.dumps([2, number, 1]).encode()
    token = base64.urlsafe_b64encode(place).decode().rstrip("=")
    for path in (f"/{url}?{name}={asked}", f"/{url}?_sort={name}&_after={token}"):
        status, size, seconds = _cost(app, path)
        assert status == 200 and size < 60_000 and seconds < 1, path
    typed = {"name": "x", name: number}
    assert app.post(f"/{url}/new", typed).status_code in (303, 422)


def test_what_a_spreadsheet_would_run_is_quoted_and_numbers_are_not(app: Application) -> None:
    url = app.schema.models["Item"].url
    risky = ["=2+5+cmd|'/C calc'!A0", "+1+cmd", "-1+2", "@1x", "=1", "-"]
    for text in risky:
        assert app.post(f"/{url}/new", {"name": text, "share": "-0.5"}).status_code == 303
    answer = app.client.get(f"/{url}?_as=csv")
    text = answer.text
    for one in risky:
        assert f"'{one}" in text
    assert ",-0.5" in text and "'-0.5" not in text
    assert answer.status_code == 200
    assert "filename*=UTF-8''%C5%82%C3%B3%C5%BCka-a" in answer.headers["Content-Disposition"]


def test_many_choices_are_one_query_and_have_a_bound(app: Application) -> None:
    url = app.schema.models["Item"].url
    assert app.client.get(f"/{url}").status_code == 200  # The first request asks a little more.
    with app.queries() as few:
        assert app.post(f"/{url}/new", {"name": "x", "tags": ["1", "2"]}).status_code == 303
    with app.queries() as many:
        tags = [str(n) for n in range(1, 19)]
        assert app.post(f"/{url}/new", {"name": "x", "tags": tags}).status_code == 303
    assert len(many) == len(few)
    thousands = [str(n) for n in range(1, 1990)]
    refused = app.post(f"/{url}/new", {"name": "x", "tags": thousands})
    assert refused.status_code == 422 and "At most 1,000" in refused.text


def test_what_lies_in_the_bin_is_kept_but_not_newly_chosen(app: Application) -> None:
    url = app.schema.models["Item"].url
    made = app.post(f"/{url}/new", {"name": "x", "tags": ["3", "4"]}).location
    assert app.post("/tags/3/remove", {}).status_code == 303
    assert app.post(f"/{url}/new", {"name": "y", "tags": ["3"]}).status_code == 422
    assert app.change(f"{made}/edit", {"name": "z", "tags": ["3", "5"]}).status_code == 303
    row = made.rpartition("/")[2]
    with sqlite3.connect(app.root / "bees.db") as connection:
        pairs = connection.execute("SELECT tag_id FROM item_tags WHERE item_id = ?", [row])
        assert sorted(pairs.fetchall()) == [(3,), (5,)]


def test_a_busy_database_is_told_and_nothing_is_stored(
    app: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    kit = app.module("kit.sqlite")
    monkeypatch.setattr(kit, "_BUSY_SECONDS", 0.02)
    engine = kit.Sqlite().engine(make_url(app.address))
    monkeypatch.setitem(app.flask.extensions, "engine", engine)
    url, before = app.schema.models["Item"].url, ask(app, "SELECT count(*) FROM item")
    other = sqlite3.connect(app.root / "bees.db", isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    answer = app.post(f"/{url}/new", {"name": "while it is busy"})
    assert answer.status_code == 503 and answer.headers["Retry-After"]
    assert "while it is busy" in answer.text
    assert app.client.get(f"/{url}").status_code == 200
    other.execute("ROLLBACK")
    other.close()
    assert ask(app, "SELECT count(*) FROM item") == before
    assert app.post(f"/{url}/new", {"name": "later"}).status_code == 303
    engine.dispose()


def test_a_part_of_a_form_without_a_name_is_no_error_of_the_site(app: Application) -> None:
    url = app.schema.models["Item"].url
    body = b"--x\r\nContent-Disposition: form-data\r\n\r\nno name\r\n--x--\r\n"
    answer = app.client.post(
        f"/{url}/new", input_stream=BytesIO(body), content_length=len(body),
        content_type="multipart/form-data; boundary=x",
    )  # fmt: skip
    assert answer.status_code == 403
    assert "default-src 'none'" in answer.headers["Content-Security-Policy"]


def test_a_form_of_too_many_names_is_refused_and_told_in_one_line(
    app: Application, caplog: pytest.LogCaptureFixture
) -> None:
    url = app.schema.models["Item"].url
    many = {f"n{n}": "" for n in range(5_000)}
    for kind in ("application/x-www-form-urlencoded", "multipart/form-data"):
        data = {**many, "_token": "test"}
        assert app.client.post(f"/{url}/new", data=data, content_type=kind).status_code == 413
    assert app.client.get(f"/{url}?" + "&a=" * 5_000).status_code == 413
    caplog.clear()
    some = {f"{n}\u202e\u2028\x9b\x1b[2J\n": "x" for n in range(900)}
    assert app.post(f"/{url}/new", {"name": "fewer", **some}).status_code == 303
    (record,) = [r for r in caplog.records if "does not ask for" in r.getMessage()]
    assert len(record.getMessage()) < 1_000 and "895 more" in record.getMessage()
    assert record.getMessage().isprintable()


def test_a_form_without_uploads_has_no_room_for_them() -> None:
    text = "model Film\n    name text 9\n    reel file up to 40 MB\n"
    with application(text) as app:
        body = b"name=" + b"x" * 3_000_000
        kind = "application/x-www-form-urlencoded"
        assert app.client.post("/films/new", data=body, content_type=kind).status_code == 413


def test_without_the_secret_nothing_is_stored_whatever_the_code_does(
    app: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A page that somebody changed by hand may store something of its own."""
    url, session = app.schema.models["Tag"].url, app.module("kit.database").session
    tag, before = app.row_class(app.schema.models["Tag"]), ask(app, "SELECT count(*) FROM tag")

    def save(entry: Any, row: Any) -> bool:
        session().add(tag(name="by hand"))
        session().commit()
        return False

    monkeypatch.setattr(app.module("kit.forms").Entry, "save", save)
    forged = app.client.post(f"/{url}/new", data={"name": "x", "_token": "forged"})
    assert forged.status_code == 403
    assert ask(app, "SELECT count(*) FROM tag") == before


def test_nothing_of_a_visitor_reaches_a_terminal_raw(app: Application) -> None:
    odd = "\x1b[2J\x9b2J\u202e\u2028\u2029\r\n\0"
    logs = app.module("kit.logs")
    try:
        raise ValueError(odd)
    except ValueError as error:
        record = logging.LogRecord("x", 40, "x", 1, "%s", (odd,), (type(error), error, None))
    with app.flask.test_request_context(f"/{quote(odd)}"):
        for reading in (True, False):
            assert logs.Lines(reading).format(record).replace("\n", "").isprintable()


PARTS = ["render_template", "database.close", "database.behind", "app.logger.error", "_typed"]


@pytest.mark.parametrize("broken", [*PARTS, "after", "everything"])
def test_the_page_for_what_went_wrong_can_not_fail(
    monkeypatch: pytest.MonkeyPatch, broken: str
) -> None:
    """Each part of it fails in turn, and all of them at once."""

    def fail(*arguments: Any, **named: Any) -> Any:
        raise RuntimeError("this part fails too")

    with application("model Item\n    name text 20\nseed\n    2 Item\n") as app:
        app.flask.config["PROPAGATE_EXCEPTIONS"] = False
        site = app.module("kit.site")
        monkeypatch.setattr(app.module("kit.listing"), "Listing", fail)
        for name in PARTS if broken == "everything" else [broken]:
            if name == "after":
                app.flask.after_request(fail)
            elif name.startswith("app."):
                monkeypatch.setattr(app.flask.logger, "error", fail)
            elif "." in name:
                monkeypatch.setattr(site.database, name.partition(".")[2], fail)
            else:
                monkeypatch.setattr(site, name, fail)
        answer = app.client.get("/items")
        assert answer.status_code == 500 and "went wrong" in answer.text
        assert "this part" not in answer.text
        for name in ("Content-Security-Policy", "X-Frame-Options", "X-Content-Type-Options"):
            assert answer.headers[name], name


class _Drip:
    """A body that comes byte by byte, each taking a while on the clock that is looked at."""

    def __init__(self, clock: list[float]) -> None:
        self.clock = clock

    def seek(self, *place: int) -> None:
        """There is nothing to go back to."""

    def tell(self) -> int:
        return 0

    def read1(self, size: int) -> bytes:
        self.clock[0] += 3
        return b"x"

    read = read1


def test_a_body_that_comes_slowly_is_cut_off(
    app: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = [0.0]
    monkeypatch.setattr(app.module("kit.shield").time, "monotonic", lambda: now[0])
    url = app.schema.models["Item"].url
    answer = app.client.post(
        f"/{url}/new", input_stream=_Drip(now), environ_overrides={"CONTENT_LENGTH": "100000"},
        content_type="application/x-www-form-urlencoded",
    )  # fmt: skip
    assert answer.status_code == 408 and now[0] < 100


@pytest.mark.parametrize("kind", ["gunicorn", "welbik serve"])
def test_half_sent_forms_hold_nobody_up_and_are_cut_off(built: Project, kind: str) -> None:
    built.run("migrate")
    shield = "bees/kit/shield.py"
    text = built.read(shield).replace("_FIRST_SECONDS = 30", "_FIRST_SECONDS = 2")
    built.write(shield, text)
    with _served(built, kind) as port:
        half = [socket.create_connection(("127.0.0.1", port)) for _ in range(6)]
        for number, one in enumerate(half):
            head = "POST /hives/new HTTP/1.1\r\nHost: localhost\r\nContent-Length: 5000\r\n"
            kind = "Content-Type: application/x-www-form-urlencoded\r\n\r\n"
            one.sendall(f"{head}{kind}{'x' * number * 100}".encode())
        with urlopen(f"http://127.0.0.1:{port}/", timeout=20) as answer:
            assert answer.status == 200
        for one in half:
            one.settimeout(30)
            said = b""
            with suppress(ConnectionError):
                while piece := one.recv(4096):
                    said += piece
            assert not said or said.split()[1] in (b"408", b"400", b"500"), said
            one.close()


@contextmanager
def _served(project: Project, kind: str) -> Iterator[int]:
    if kind == "welbik serve":
        with served(project) as address:
            yield int(address.rpartition(":")[2])
        return
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = int(free.getsockname()[1])
    command = ["-m", "gunicorn", "-c", "serving/gunicorn.conf.py", "-b", f"127.0.0.1:{port}"]
    with subprocess.Popen(
        [sys.executable, *command], cwd=project.root, stderr=subprocess.PIPE, text=True
    ) as process:
        assert process.stderr
        assert any("Booting worker" in line for line in process.stderr)
        yield port
        process.terminate()
        process.communicate(timeout=30)


WORDS = ["do", "field", "row", "sure", "draft", "tab", "part", "once", "token", "seen",
         "take", "filters", "main", "tabs", "listing", "typed", "size", "after", "before", "asked",
         "text", "record", "entry", "parent", "owner", "find", "model", "columns", "doing", "g",
         "request", "session", "page", "name", "label", "value", "url", "path", "kind"]  # fmt: skip


@given(st.lists(st.sampled_from(WORDS), min_size=4, max_size=8, unique=True))
@settings(max_examples=8, phases=QUICK)
def test_fields_may_be_called_like_anything_of_the_pages(names: list[str]) -> None:
    """Typed, shown, filtered, set on several rows and brought back: each field is itself."""
    text = "".join(f"    {name} text 1..9\n" for name in names)
    all_names = ", ".join(names)
    text = f"model Item\n    code text 9, required\n{text}    list code, {all_names}\n"
    text += f"    search code\n    filter {all_names}\n    keep bin\n"
    with application(text) as app:
        typed = {"code": "c", **{name: f"v{n}" for n, name in enumerate(names)}}
        for _ in range(2):
            assert app.post("/items/new", typed).status_code == 303
        for n, name in enumerate(names):
            assert "1–2 of 2" in app.client.get(f"/items?{name}=v{n}&_search=c&_sort=-{name}").text
            assert "No items" in app.client.get(f"/items?{name}=other").text
            sent = {"_row": ["1", "2"], "_do": "set", "_field": name, name: "all"}
            assert "all" in app.post("/items/chosen", sent).text
            assert ask(app, f"SELECT count(*) FROM item WHERE \"{name}\" = 'all'") == 0
            assert app.post("/items/chosen", {**sent, "_sure": "yes"}).status_code == 303
            assert ask(app, f"SELECT count(*) FROM item WHERE \"{name}\" = 'all'") == 2
        assert app.post("/items/1/remove", {}).status_code == 303
        sent = {"_do": "restore", "_row": "1", **dict.fromkeys(names, "2")}
        assert app.post("/items/bin", sent).status_code == 303
        assert "1–2 of 2" in app.client.get("/items").text


TEXTS = """\
part Step
    what    text 1..40, required
    often   integer 0..9

model Note
    title   text 1..40, required
    body    text, as area
    words   list of text 20
    steps   list of Step
    mail    email
    site    url
    held    datetime
    word    slug from title
    address word
    maker   -> Note
"""
CONTROLS = st.sampled_from(
    ["\0", "\x1b[2J", "\x9b", "\u2028", "\r\nX: y", "\x7f", "\ud800", "\udfff"]
)


@given(CONTROLS, st.sampled_from(["title", "body", "words", "mail", "site", "word", "maker"]))
@settings(max_examples=40, phases=QUICK)
def test_what_no_page_can_show_is_not_stored(odd: str, name: str) -> None:
    app = _notes()
    raw = json.dumps(odd)[1:-1]
    value = f"a{odd}b".encode("utf-8", "surrogatepass").decode("utf-8", "replace")
    answer = app.post("/notes/new", {"title": "a", name: value})
    steps = f'[{{"what": "a{raw}b", "often": 1}}]'
    assert app.post("/notes/new", {"title": "a", "steps": steps}).status_code == 422
    value = value.replace("\ufffd\ufffd\ufffd", "\ufffd")
    if answer.status_code == 303:
        assert name in ("body", "words") or "\ufffd" in value
    for page in ("/notes", "/notes?_as=csv", *([answer.location] if answer.location else [])):
        assert app.client.get(page).status_code == 200


@pytest.mark.parametrize(
    "sent",
    [
        {"steps": "[" * 100_000}, {"steps": '[{"what": [[[]]], "often": {"a": 1}}]'},
        {"steps": '[{"what": "x", "often": 1e999}]'}, {"steps": "5"}, {"steps": "[5]"},
        {"held": "9999-12-31T23:59"}, {"held": "0001-01-01T00:00"}, {"held": "99999-01-01T00:00"},
        {"maker": "-1"}, {"maker": "1 OR 1=1"}, {"maker": str(2**70)}, {"words": "x\n" * 300},
    ],
)  # fmt: skip
def test_odd_values_are_refused_or_stored_to_be_shown(sent: dict[str, str]) -> None:
    app = _notes()
    answer = app.post("/notes/new", {"title": "odd", **sent})
    assert answer.status_code in (303, 422)
    for page in ("/notes", "/notes?_as=csv", *([answer.location] if answer.location else [])):
        assert app.client.get(page).status_code == 200
    ((name, value),) = sent.items()
    assert app.client.get("/notes/new", query_string={name: value[:2_000]}).status_code == 200
    assert app.client.get("/notes", query_string={name: value[:2_000]}).status_code == 200


def test_a_word_made_for_an_address_is_no_page_and_costs_one_query() -> None:
    app = _notes()
    for title, word in (("New", "new-2"), ("Bin", "bin-2"), ("CHOSEN!", "chosen-2")):
        assert app.post("/notes/new", {"title": title}).location == f"/notes/{word}"
    counts = []
    for _ in range(2):
        for _ in range(30):
            assert app.post("/notes/new", {"title": "Like"}).status_code == 303
        with app.queries() as asked:
            assert app.post("/notes/new", {"title": "Like"}).status_code == 303
        counts.append(len(asked))
    assert counts[0] == counts[1]


_opened: list[Any] = []


def _notes() -> Application:
    if not _opened:
        _opened.append(application(TEXTS))
        _opened.append(_opened[0].__enter__())
    found: Application = _opened[1]
    return found


def test_what_a_visitor_left_is_its_own(app: Application) -> None:
    url = app.schema.models["Item"].url
    left = app.post(f"/{url}/new", {"name": "mine", "_part": "new:tags"})
    assert left.status_code == 303
    here = parse_qs(urlsplit(left.location).query)["_return"][0]
    assert 'value="mine"' in app.client.get(here).text
    stranger = app.flask.test_client()
    with stranger.session_transaction() as kept:
        kept["token"] = "another"
    assert 'value="mine"' not in stranger.get(here).text
    draft = parse_qs(urlsplit(here).query)["_draft"][0]
    sent = {"name": "", "_token": "another", "_once": draft}
    assert stranger.post(f"/{url}/new", data=sent).status_code == 422
    assert 'value="mine"' in app.client.get(here).text
    for _ in range(30):
        app.post(f"/{url}/new", {"name": "x" * 40, "_part": "new:tags"})
    assert len(list((app.root / "instance" / "notes").glob("*/*"))) <= 20


EVIL = [
    'en-GB.x\\nimport os; os.system(\\"touch /tmp/owned\\") #',
    "en-GB.UTF-8",
    "../../etc",
    'en"GB',
]


@pytest.mark.parametrize("locale", EVIL)
def test_a_setting_is_no_code(project: Project, locale: str) -> None:
    text = project.read("welbik.toml")
    project.write("welbik.toml", f'{text}locale = "{locale}"\n'.replace('en"GB', 'en\\"GB'))
    said = project.run("build", code=1).stderr
    assert "in welbik.toml is no locale" in said or "does not show" in said


def test_the_database_is_read_by_nobody_else(built: Project) -> None:
    for path in built.root.glob("bees.db*"):
        assert stat.S_IMODE(path.stat().st_mode) & 0o077 == 0, path


@pytest.mark.parametrize("name", ["%s; b`{}[x]", "{% raw %}'", "a\\\\n b", "--"])
def test_a_table_of_any_name_is_a_name(make: Callable[[str], Project], name: str) -> None:
    fields = f'    name text 20, stored as "{name}", required\n    stored as "{name}"\n'
    project = make(f"model Hive\n{fields}seed\n    3 Hive\n")
    for command in ("build", "migrate", "fill", "status"):
        project.run(command)
    code = (
        "from bees import create_app; c = create_app().test_client();"
        "print([c.get(u).status_code for u in ('/hives', '/hives/1', '/hives?q=a', '/hives/new')])"
    )
    assert project.python("-c", code).stdout.strip() == "[200, 200, 200, 200]"


def test_a_quote_names_no_table(make: Callable[[str], Project]) -> None:
    project = make('model Hive\n    name text 20\n    stored as "a\\"b"\n')
    assert "can't name a table" in project.run("check", code=1).stdout
