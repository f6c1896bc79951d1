"""One request, one name, one file: none brings the site down, and none is stored that shouldn't be."""

from __future__ import annotations

import base64
import json
import resource
import sqlite3
import stat
from collections.abc import Callable, Iterator
from io import BytesIO

import pytest
from conftest import Project
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from loaded import Application, application, ask

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
    database = app.module("kit.database")
    monkeypatch.setattr(database, "_BUSY_SECONDS", 0.02)
    engine = database._engine(f"sqlite:///{app.root / 'bees.db'}")
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
    assert "is no locale" in project.run("build", code=1).stderr


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
