"""What databases are known to do each their own way, the same on all of them."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterator
from decimal import Decimal
from pathlib import Path

import pytest
from declared import declarations, understand
from hypothesis import assume, given, settings
from loaded import Application, application
from servers import WORDS, opened

from welbik.data.drawer import Drawer
from welbik.data.fill import fill
from welbik.migrations.difference import difference
from welbik.migrations.plan import statements
from welbik.problems import WelbikError
from welbik.schema.model import Schema
from welbik.storage.backend import Database
from welbik.storage.tables import tables_of

NOW = dt.datetime(2026, 4, 1, 12, tzinfo=dt.UTC)
LONG = "a_name_that_is_quite_as_long_as_one_can_be"[:40]
DECLARED = f"""\
model Word
    text    text 1..60, required, unique
    {LONG} integer 0..9
    parts   <- Part.word
    total   decimal = sum(parts.weight)
    least   text = min(parts.name)
    shown as "{{text}}"
    search text
    index {LONG}, text
    rule {LONG} < 9, say "Below nine"
    keep bin
model Part
    name    text 1..60, required
    word    -> Word, required, on removal remove
    weight  decimal 0.00..99.99, required
    above   -> Part, on removal clear
    pairs   <-> Word
"""
APART = [
    "e",
    "E",
    "é",
    "É",
    "e\u0301",
    "ss",
    "ß",
    "İ",
    "i",
    "ı",
    "\u00c5",
    "\u212b",
    "😀",
    "😁",
    "ﬁ",
    "fi",
    "a-b",
    "a_b",
]
"""Texts that some database, or some language, takes for one another."""


@pytest.fixture(scope="module", params=WORDS)
def app(request: pytest.FixtureRequest) -> Iterator[Application]:
    with application(DECLARED, on=request.param) as app:
        yield app


def test_texts_that_only_look_alike_are_apart(app: Application) -> None:
    for text in APART:
        assert app.post("/words/new", {"text": text}).status_code == 303, text
    for text in APART:
        assert app.post("/words/new", {"text": text}).status_code == 422, text
    page = app.client.get("/words?_sort=text&_size=100").text
    shown = re.findall(r'<th scope="row"><a[^>]*>([^<]+)</a>', page)
    assert shown == sorted(APART)


def test_capital_letters_are_found_by_small_ones(app: Application) -> None:
    for text in ("straße", "ÉCOLE", "Ωmega", "naïve", "100%"):
        app.post("/words/new", {"text": text})
    for asked, found in (
        ("école", "ÉCOLE"),
        ("STRASSE", ""),
        ("ωMEGA", "Ωmega"),
        ("NAÏVE", "naïve"),
        ("0%", "100%"),
    ):
        page = app.client.get("/words", query_string={"_search": asked}).text
        names = re.findall(r'<th scope="row"><a[^>]*>([^<]+)</a>', page)
        assert names == [found] * bool(found), asked


def test_sums_are_exact_and_the_least_text_is_by_code_point(app: Application) -> None:
    made = app.post("/words/new", {"text": "summed"}).location
    key = made.rpartition("/")[2]
    weights = ["0.10", "0.20", "99.99", "33.33", "33.33", "33.34"]
    for name, weight in zip("zZéaAb", weights, strict=True):
        assert (
            app.post("/parts/new", {"name": name, "word": key, "weight": weight}).status_code == 303
        )
    page = app.client.get(made).text
    assert str(sum(map(Decimal, weights))) in page
    assert re.search(r"<dt>Least</dt>\s*<dd>A</dd>", page)


def test_a_row_takes_along_what_goes_with_it(app: Application) -> None:
    made = app.post("/words/new", {"text": "going"}).location
    key = made.rpartition("/")[2]
    stays = app.post("/words/new", {"text": "staying"}).location.rpartition("/")[2]
    before = app.run("SELECT count(*) FROM part")[0][0]
    part = app.post("/parts/new", {"name": "p", "word": key, "weight": "1"}).location.rpartition(
        "/"
    )[2]
    other = app.post(
        "/parts/new", {"name": "q", "word": stays, "weight": "1", "above": part, "pairs": [key]}
    ).location.rpartition("/")[2]
    assert app.agree(f"{made}/remove").status_code == 303
    with app.database() as database:
        database.run(f"DELETE FROM word WHERE id = {key}")
        assert database.run(f"SELECT above_id FROM part WHERE id = {other}") == [(None,)]
        assert database.run("SELECT count(*) FROM part")[0][0] == before + 1
        assert database.run(f"SELECT count(*) FROM part_pairs WHERE part_id = {other}")[0][0] == 0


def test_a_rule_of_a_long_name_is_held_by_the_table(app: Application) -> None:
    with app.database() as database:
        checks = [name for name in database.look("word") if name.startswith("check")]
        assert any(LONG[:20] in name or "rule" in name for name in checks)
        database.run(f"INSERT INTO word (text, {LONG}) VALUES ('x', 8)")
        database.run("DELETE FROM word WHERE text = 'x'")
        with pytest.raises(database.errors):
            database.run(f"INSERT INTO word (text, {LONG}) VALUES ('x', 9)")


def test_moments_keep_their_microseconds(app: Application) -> None:
    app.post("/words/new", {"text": "in the bin"})
    key = app.run("SELECT id FROM word WHERE text = 'in the bin'")[0][0]
    app.agree(f"/words/{key}/remove")
    with app.database() as database:
        moments = [moment for moment in database.values("word", "removed_at") if moment]
    assert moments and all(
        re.fullmatch(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d\.\d{6}", m) for m in moments
    )
    assert any(not moment.endswith("000") for moment in moments)


@pytest.mark.parametrize("word", WORDS[1:])
def test_the_made_up_rows_are_the_same_rows(word: str, tmp_path: Path) -> None:
    @given(declarations())
    @settings(max_examples=8)
    def holds(text: str) -> None:
        schema, problems = understand(text)
        assume(not problems)
        with opened(word, tmp_path) as ours, opened("sqlite", tmp_path) as theirs:
            rows = [_filled(database, schema) for database in (ours, theirs)]
            assert rows[0] == rows[1]
            seen.append("refused" not in rows[0])

    seen: list[bool] = []
    holds()
    assert sum(seen) > len(seen) / 2


def _filled(database: Database, schema: Schema) -> dict[str, object]:
    """The rows of a fill, and of a second one that adds some."""
    tables = tables_of(schema)
    made = statements(database.ddl, {}, difference({}, schema).steps, NOW)
    database.migrate("0001", "", "", lambda: made, 1)
    more = {name: count + 3 for name, count in schema.seed.items()}
    found: dict[str, object] = {}
    for counts in (schema.seed, more):
        try:
            fill(database, Drawer(schema, 1), counts)
        except WelbikError as error:
            # What can't be had is told alike, whoever keeps the rows.
            found["refused"] = error.message
        for name, table in tables.items():
            columns = [c.name for c in table.columns if c.name not in ("created_at", "updated_at")]
            lists = [[_plain(v) for v in database.values(name, column)] for column in columns]
            found[f"{name} {counts}"] = sorted(map(repr, zip(*lists, strict=True)))
    return found


def _plain(value: object) -> object:
    """A truth is a number where the database has none."""
    return int(value) if isinstance(value, bool) else value
