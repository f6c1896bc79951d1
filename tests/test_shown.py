"""The page of a row: all of it, its place in the list as it was left, and what it asks for."""

from __future__ import annotations

import html
import re
from collections.abc import Iterator

import pytest
import sqlalchemy as sa
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from loaded import Application, application
from servers import WORDS

YARDS = """\
model Yard
    name    text 2..20, required, unique
    above   -> Yard, sample 40% empty
    crates  <- Crate.yard
    keep bin

model Crate
    code    text 4..4, required, unique, matches "[A-Z]{2}[0-9]{2}"
    yard    -> Yard, required
    spare   -> Yard, sample 30% empty
    frames  integer 1..9, sample 20% empty
    opened  datetime 2024-01-01T00:00..2025-12-31T23:59, sample 20% empty
    marks   <-> Mark
    loads   <- Load.crate
    loads_kg decimal = sum(loads.kg)
    address code
    list code, frames, opened, loads_kg
    filter frames, marks, yard.name
    search code, yard.name
    sort yard, -frames

model Load
    crate   -> Crate, required
    kg      decimal 0.0..9.0, required
    keep bin

model Mark
    name    text 2..12, required, unique
seed
    7 Yard
    60 Crate
    90 Load
    5 Mark
"""
SORTS = ["code", "-frames", "opened", "yard,-frames", "loads_kg", "-loads_kg,code"]


@pytest.fixture(scope="module", params=WORDS)
def app(request: pytest.FixtureRequest) -> Iterator[Application]:
    with application(YARDS, on=request.param) as app:
        yield app


def _codes(page: str) -> list[str]:
    return re.findall(r'<th scope="row"><a[^>]*>([A-Z]{2}\d\d)</a>', page)


@settings(max_examples=12, deadline=None, phases=[Phase.generate])
@given(
    st.sampled_from(SORTS),
    st.sampled_from(["", "&frames=2..7", "&_find=1", "&frames=..5&_find=A"]),
)
def test_what_stands_beside_a_row_does_so_in_its_list(
    app: Application, sort: str, more: str
) -> None:
    query = f"?_sort={sort}&_size=100{more}"
    there = _codes(app.client.get(f"/crates{query}").text)
    beside: dict[str, dict[str, str]] = {}
    for code in there:
        # The list was left as it is asked for here.
        page = app.client.get(f"/crates/{code}").text
        beside[code] = dict(re.findall(r'<a rel="(prev|next)"[^>]* href="/crates/(\w+)"', page))
    found = [(beside[code].get("prev"), beside[code].get("next")) for code in there]
    assert found == list(zip([None, *there], [*there[1:], None], strict=False))


def test_a_row_that_is_shown_has_what_one_to_change_has(app: Application) -> None:
    rows, model = app.module("kit.rows"), app.row_class(app.schema.models["Crate"])
    names = [*sa.inspect(model).all_orm_descriptors.keys(), "url_part", "OWNER", "__str__"]
    with app.flask.test_request_context(), app.queries() as asked:
        code = app.module("kit.database").session().scalar(sa.select(model.code).limit(1))
        shown = rows.shown(model, code, model.code)
        before = len(asked)
        assert str(shown.yard) and shown.yard.removed_at is None, shown.loads_kg
        assert len(asked) == before, "what a page shows comes along"
        stored = rows.find(model, code, model.code)
        for name in names:
            one, other = getattr(shown, name), getattr(stored, name)
            assert str(one() if name == "__str__" else one) == str(
                other() if name == "__str__" else other
            ), name
        assert shown.yard.crates == stored.yard.crates, "further than to what it leads to"
        assert str(shown.__class__.frames) == str(model.frames)
        with pytest.raises(TypeError, match=r"rows\.find gives one to change"):
            shown.frames = 3
        with pytest.raises(AttributeError, match="no attribute 'weight'"):
            _ = shown.weight


def test_what_is_no_row_or_lies_in_the_bin_is_not_shown(app: Application) -> None:
    (number,) = app.run("SELECT max(id) FROM yard")[0]
    assert app.client.get("/yards/999999999").status_code == 404
    assert app.client.get(f"/yards/{2**63}").status_code == 404
    assert app.client.get("/crates/ZZ__").status_code == 404
    app.run(f"UPDATE yard SET removed_at = '2026-01-01 00:00:00' WHERE id = {number}")
    try:
        assert app.client.get(f"/yards/{number}").status_code == 410
    finally:
        app.run(f"UPDATE yard SET removed_at = NULL WHERE id = {number}")


@pytest.mark.parametrize("word", [word for word in WORDS if word == "postgresql"])
def test_pages_keep_their_prepared_statements_and_outlive_a_changed_table(word: str) -> None:
    with application(YARDS, 12, on=word) as app:
        code = _codes(html.unescape(app.client.get("/crates").text))[0]
        for _ in range(8):
            assert app.client.get(f"/crates/{code}").status_code == 200
        with app.flask.extensions["engine"].connect() as connection:
            kept = connection.execute(sa.text("SELECT count(*) FROM pg_prepared_statements"))
            assert kept.scalar_one() >= 4
        app.run("ALTER TABLE crate ALTER frames TYPE bigint")
        assert app.client.get(f"/crates/{code}").status_code == 200
        # What a page wrote and did not store is gone, though it only reads as a rule.
        with app.flask.test_request_context():
            session = app.module("kit.database").session()
            session.execute(sa.text("UPDATE crate SET frames = 1"))
            app.module("kit.database").close()
        assert app.run("SELECT count(*) FROM crate WHERE frames > 1") != [(0,)]


@pytest.mark.parametrize("way", ["", ", sorted by -name"])
@pytest.mark.parametrize("word", WORDS)
def test_rows_of_pairs_are_named_in_one_order(word: str, way: str) -> None:
    text = YARDS.replace("<-> Mark\n", f"<-> Mark{way}\n")
    with application(text, 12, on=word) as app:
        pairs = ", ".join(f"({crate}, {mark})" for crate in (1, 2) for mark in (5, 2, 9, 1, 12, 7))
        app.run(
            "DELETE FROM crate_marks",
            f"INSERT INTO crate_marks (crate_id, mark_id) VALUES {pairs}",
        )
        model = app.row_class(app.schema.models["Crate"])
        with app.flask.app_context():
            crate = app.module("kit.database").session().get(model, 1)
            names = [str(mark) for mark in crate.marks]
        assert names == sorted(names, reverse=bool(way)) and len(names) == 6
        page = app.client.get(f"/crates/{crate.code}").text
        (listed,) = re.findall(r'<ul class="names">(.*?)</ul>', page)
        assert re.findall(r"<li><a [^>]*>([^<]*)</a></li>", listed) == names
