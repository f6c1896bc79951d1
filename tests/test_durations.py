"""A length of time: declared with its unit, typed and shown in hours and minutes, added in rules."""

from __future__ import annotations

import datetime as dt
import json
import re
from html import unescape
from pathlib import Path

import pytest
import servers
from declared import understand
from hypothesis import given
from hypothesis import strategies as st
from loaded import Application, application
from servers import WORDS

from welbik.kinds.duration import parsed
from welbik.language.layout import tidy
from welbik.rules.text import as_hours, as_text
from welbik.rules.tree import DURATION, NUMBER, TEXT, Apply, Const
from welbik.schema.form_schema import form_schema
from welbik.storage.checks import TableNames
from welbik.storage.tables import Table

VISIT = """\
model Visit
    name text 20, required
    took duration 0:05..8 hours, required, default 30 minutes
    rest duration, <= took
    whole duration = took + rest
    parts list of Bit
    list name, took, rest, whole
    filter took, rest
    rule took + rest < 10 hours, at rest
    keep history
part Bit
    note text 20, required
    took duration 1..20 minutes, required
seed
    1 Visit
"""


_OF, _TEXT = Const(0, DURATION), Const("", TEXT)
_DOUBLES = {"sqlite": "REAL", "postgresql": "double precision", "mariadb": "DOUBLE"}


def _visit(app: Application, took: str, **more: str) -> int:
    return int(app.post("/visits/new", {"name": took, "took": took, **more}).status_code)


def test_it_is_typed_and_shown_in_hours_and_minutes() -> None:
    with application(VISIT) as app:
        assert 'value="0:30"' in app.client.get("/visits/new").text
        assert _visit(app, "1:30", rest="0:45:10") == 303
        for wrong in ("0:04:59", "8:00:01", "1:60", "90", "an hour", "-1:00"):
            assert _visit(app, wrong) == 422, wrong
        # A rest is no longer than what it interrupts, and both together stay below ten hours.
        assert _visit(app, "1:00", rest="1:01") == 422
        assert _visit(app, "6:00", rest="4:00") == 422
        assert _visit(app, "6:00", rest="3:59:59") == 303
        listed = app.client.get("/visits?_sort=-took").text
        assert listed.index("9:59:59") < listed.index("2:15:10")
        assert "1:30,0:45:10,2:15:10" in app.client.get("/visits?_as=csv&_sort=took").text


def test_lists_are_narrowed_and_paged_by_it() -> None:
    with application(VISIT) as app:
        for minutes in range(10, 70):
            assert _visit(app, f"{minutes // 60}:{minutes % 60:02}") == 303
        found = app.client.get("/visits?_as=csv&took=0:58..1:02&_sort=took").text.splitlines()[1:]
        assert [row.split(",")[1] for row in found] == ["0:58", "0:59", "1:00", "1:01", "1:02"]
        assert "Not understood" in app.client.get("/visits?took=1:75").text
        seen: list[str] = []
        page = "/visits?_sort=took"
        while page:
            text = app.client.get(page).text
            seen += re.findall('data-label="Took">([^<]*)', text)
            after = re.search('rel="next" href="([^"]+)"', text)
            page = f"/visits{unescape(after[1])}" if after else ""
        lengths = [parsed(shown) for shown in seen]
        assert lengths == sorted(lengths, key=lambda one: one or dt.timedelta()) and len(seen) >= 60


def test_history_and_parts_hold_it_as_it_is_typed() -> None:
    with application(VISIT) as app:
        entry = {"parts": json.dumps([{"note": "smoke", "took": "0:15"}])}
        assert _visit(app, "1:30", **entry) == 303
        assert _visit(app, "1:30", parts=json.dumps([{"note": "smoke", "took": "0:21"}])) == 422
        row = app.post("/visits/new", {"name": "b", "took": "2:00", **entry}).location
        assert "0:15" in app.client.get(row).text
        assert app.change(f"{row}/edit", {"name": "b", "took": "2:30", **entry}).status_code == 303
        page = app.client.get(row).text
        assert "2:00" in page and "2:30" in page


@pytest.mark.parametrize(
    ("declared", "code"),
    [
        ("took duration 8 hours", "unexpected-range"),
        ("took duration 0..8", "wrong-value"),
        ("took duration 8 hours..1 hour", "empty-range"),
        ("took duration 0..1.00001 hours", "wrong-value"),
        ("took duration, default 12:75", "wrong-value"),
        ("took duration 0..600000 hours", "wrong-value"),
        (
            "took duration\n    mean number = avg(others.took)\n    others <- M.up\n    up -> M",
            "wrong-types",
        ),
        ("took duration, <= 30", "wrong-types"),
        ("took duration\n    rule took * took > 1 hour", "wrong-types"),
        ("took duration 0..2 hours\n    rule took > 1 days", "contradiction"),
    ],
)
def test_what_makes_no_sense_is_told(declared: str, code: str) -> None:
    problems = understand(f"model M\n    name text 20\n    {declared}\n")[1]
    assert code in [problem.code for problem in problems], problems


def test_units_and_clocks_say_the_same() -> None:
    for one, other in (
        ("1..8 hours", "1:00..8:00"),
        ("..90 minutes", "0:00..1:30"),
        ("1.5 hours..", "1:30.."),
    ):
        kinds = [
            understand(f"model M\n    took duration {text}\n")[0].models["M"].fields[0].kind
            for text in (one, other)
        ]
        assert kinds[0].describe() == kinds[1].describe() and kinds[0].stored() == kinds[1].stored()


def test_the_form_schema_and_the_layout_know_it() -> None:
    schema, problems = understand(VISIT)
    assert not problems
    took = form_schema(schema, schema.models["Visit"])["properties"]["took"]
    assert took["type"] == "string" and took["default"] == "0:30"
    assert took["$comment"] == "at least 0:05, at most 8:00"
    untidy = VISIT.replace("0:05..8 hours", "0:05 .. 8   hours")
    assert "duration 0:05..8 hours," in tidy(untidy)


@given(st.integers(-(10**7), 10**7))
def test_a_length_reads_back_as_it_is_told(seconds: int) -> None:
    length = dt.timedelta(seconds=seconds)
    sign = -1 if seconds < 0 else 1
    assert parsed(as_hours(length).removeprefix("-")) == sign * length
    assert parsed(as_text(Const(length, DURATION))) == length


@pytest.mark.parametrize("word", WORDS)
def test_lengths_and_numbers_are_written_and_read_by_each_database(
    word: str, tmp_path: Path
) -> None:
    lengths = [0, 59, 60, 3599, 3600, 5405, 360_000, 999_999 * 3600, -5, -3661]
    numbers = [0.0, 1.0, -2.5, 0.1, 0.1 + 0.2, 1 / 3, 123456.789, 1e20, -1e-7, 2.0**49 - 1]
    with servers.opened(word, tmp_path) as database:
        sql = database.sql(TableNames(Table("a", ())))
        for seconds in lengths:
            told = as_hours(dt.timedelta(seconds=seconds))
            found = sql.converted("told", f"({seconds})", Apply("told", (_OF,), TEXT))
            back = sql.converted("read", f"'{told}'", Apply("read", (_TEXT,), DURATION))
            assert database.run(f"SELECT {found}, {back}") == [(told, seconds)]
        for number in numbers:
            held = f"CAST('{number!r}' AS {_DOUBLES[word]})"
            found = sql.told(held, NUMBER)
            ((told,),) = database.run(f"SELECT {found}")
            assert float(told) == number and not told.endswith(".0"), told
            assert told == "1e+20" or number != 1e20, told
            back = sql.as_type(f"'{told}'", NUMBER)
            assert database.run(f"SELECT {back}") == [(number,)]
        nothing = sql.told(f"CAST(NULL AS {_DOUBLES[word]})", NUMBER)
        assert database.run(f"SELECT {nothing}") == [(None,)]
