"""Lists of the generated application: whatever is asked in the address is what comes back."""

from __future__ import annotations

import csv
import datetime as dt
import html
import io
import re
import sqlite3
from collections.abc import Iterator
from typing import Any
from urllib.parse import quote, urlencode

import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from loaded import Application, application
from servers import WORDS

YARDS = """\
model Yard
    name    text 2..20, required, unique
    shown as "{name}"

model Crate
    code    text 4..4, required, unique, matches "[A-Z]{2}[0-9]{2}"
    yard    -> Yard, required
    spare   -> Yard, sample 30% empty
    kind    one of national | long | warre "Warré", sample 20% empty
    frames  integer 1..24, sample 20% empty
    weight  decimal 0.0..90.0, sample 20% empty
    opened  date 2024-01-01..2025-12-31, sample 20% empty
    seen    datetime 2025-01-01T00:00..2025-12-31T23:59, sample 20% empty
    sound   boolean, sample 20% empty
    note    text 40, sample words(1..3)
    marks   <-> Mark
    list code, yard, spare, kind, frames, weight, opened, seen, sound
    filter yard, spare, kind, frames, weight, opened, seen, sound, note, marks, yard.name
    search code, yard.name
    sort yard, -frames

model Mark
    name    text 2..12, required, unique
seed
    7 Yard
    90 Crate
    5 Mark
"""
KINDS = ["national", "long", "warre"]
COLUMNS = ("code", "yard", "spare", "kind", "frames", "weight", "opened", "seen", "sound")


@pytest.fixture(scope="module", params=WORDS)
def app(request: pytest.FixtureRequest) -> Iterator[Application]:
    with application(YARDS, on=request.param) as app:
        # What sorts beside what is empty, and what only looks alike.
        app.run(
            "DELETE FROM crate_marks",
            *(f"INSERT INTO crate_marks VALUES ({n}, {n}, {n % 5 + 1})" for n in range(1, 60)),
            "UPDATE crate SET note = '50%_off' WHERE id = 3",
        )
        yield app


@pytest.fixture(scope="module")
def crates(app: Application) -> list[dict[str, Any]]:
    """All rows as they are stored, with the names of what they relate to."""
    stored = (*COLUMNS, "note")
    names = {n: f"{n}_id" if n in ("yard", "spare") else n for n in stored}
    with app.database() as database:
        columns = {n: database.values("crate", c) for n, c in {"id": "id", **names}.items()}
        yards = dict(enumerate(database.values("yard", "name"), 1))
        pairs = [database.values("crate_marks", c) for c in ("crate_id", "mark_id")]
    found = [dict(zip(columns, row, strict=True)) for row in zip(*columns.values(), strict=True)]
    for row in found:
        row["marks"] = {mark for crate, mark in zip(*pairs, strict=True) if crate == row["id"]}
        row |= {"yard_id": row["yard"], "spare_id": row["spare"]}
        row |= {"yard": yards[row["yard"]], "spare": yards.get(row["spare"])}
    return found


def codes(app: Application, query: str) -> list[str]:
    """The codes that a page of the list shows, in order."""
    answer = app.client.get(f"/crates{query}")
    assert answer.status_code == 200, (query, answer.text[:500])
    return re.findall(r'<th scope="row"><a[^>]*>([A-Z]{2}\d\d)</a>', answer.text)


def link(page: str, rel: str) -> str:
    found = re.search(rf'rel="{rel}" href="([^"]+)"', page)
    return html.unescape(found.group(1)) if found else ""


def walk(app: Application, query: str, rel: str = "next") -> list[list[str]]:
    """The codes of every page from here on, by following its own link."""
    pages = []
    while query:
        pages.append(codes(app, query))
        query = link(app.client.get(f"/crates{query}").text, rel)
        assert len(pages) < 60
    return pages


def _range(value: Any, low: Any, high: Any) -> bool:
    return value is not None and (low is None or value >= low) and (high is None or value <= high)


_ends = st.tuples(st.none() | st.integers(0, 25), st.none() | st.integers(0, 25)).filter(
    lambda ends: ends != (None, None)
)
_days = st.dates(dt.date(2023, 12, 1), dt.date(2026, 1, 31))


def _written(ends: tuple[Any, Any]) -> str:
    return "..".join("" if end is None else str(end) for end in ends)


@st.composite
def questions(draw: st.DrawFn) -> tuple[dict[str, str], list[Any]]:
    """Some filters as they stand in an address, and what each says of a stored row."""
    asked: dict[str, str] = {}
    says: list[Any] = []

    def add(name: str, text: str, holds: Any) -> None:
        if name not in asked:
            asked[name] = text
            says.append(holds)

    for name in draw(st.lists(st.sampled_from(sorted(_MAKERS)), max_size=3, unique=True)):
        text, holds = draw(_MAKERS[name])
        add(name, text, holds)
    return asked, says


def _choice(name: str, known: list[str]) -> st.SearchStrategy[tuple[str, Any]]:
    chosen = st.lists(st.sampled_from([*known, "-"]), min_size=1, max_size=3, unique=True)
    return chosen.map(
        lambda names: (
            ",".join(names),
            lambda row: (row[name] if row[name] is not None else "-") in names,
        )
    )


def _empty(name: str) -> st.SearchStrategy[tuple[str, Any]]:
    return st.sampled_from(
        [("-", lambda row: row[name] is None), ("..", lambda row: row[name] is not None)]
    )


def _keys(name: str) -> st.SearchStrategy[tuple[str, Any]]:
    return st.lists(st.integers(1, 8), min_size=1, max_size=3, unique=True).map(
        lambda keys: (",".join(map(str, keys)), lambda row: row[name] in keys)
    )


_MAKERS: dict[str, st.SearchStrategy[tuple[str, Any]]] = {
    "kind": _choice("kind", ["national", "long", "warre"]),
    "sound": st.sampled_from(
        [
            ("yes", lambda row: row["sound"] == 1),
            ("no,-", lambda row: row["sound"] != 1),
            ("-", lambda row: row["sound"] is None),
        ]
    ),
    "frames": _empty("frames")
    | _ends.map(lambda ends: (_written(ends), lambda row: _range(row["frames"], *ends))),
    # Stored in tenths: ends between two of them must fall on the right side.
    "weight": _ends.map(
        lambda ends: (
            _written(tuple(None if end is None else f"{end * 3}.25" for end in ends)),
            lambda row: _range(
                row["weight"], *(None if end is None else end * 30 + 2.5 for end in ends)
            ),
        )
    ),
    "opened": _empty("opened")
    | st.tuples(_days, _days).map(
        lambda ends: (_written(ends), lambda row: _range(row["opened"], *map(str, ends)))
    ),
    "seen": _days.map(lambda day: (f"..{day}", lambda row: _range(row["seen"], None, f"{day} 24"))),
    "yard": _keys("yard_id"),
    "spare": _keys("spare_id") | _empty("spare_id"),
    "marks": st.integers(1, 5).map(lambda key: (str(key), lambda row: key in row["marks"]))
    | st.just(("-", lambda row: not row["marks"])),
    "note": st.sampled_from(
        [
            ("50%_", lambda row: row["note"] == "50%_off"),
            ("%", lambda row: "%" in (row["note"] or "")),
            ("E", lambda row: "e" in (row["note"] or "").lower()),
        ]
    ),
}


@given(questions(), st.sampled_from(["", "frames", "-frames", "spare", "-opened", "yard"]))
@settings(max_examples=60)
def test_a_filter_leaves_exactly_what_it_says(
    app: Application,
    crates: list[dict[str, Any]],
    asked: tuple[dict[str, str], list[Any]],
    sort: str,
) -> None:
    terms, says = asked
    expected = sorted(row["code"] for row in crates if all(holds(row) for holds in says))
    query = f"?{urlencode(terms | {'_sort': sort, '_size': '10'}, safe=',')}".replace(
        "&_sort=&", "&"
    )
    pages = walk(app, query.replace("sort=&", ""))
    found = [code for page in pages for code in page]
    assert sorted(found) == expected
    told = re.search(
        r'aria-live="polite">(?:\d+–\d+ of (\d+)|No )', app.client.get(f"/crates{query}").text
    )
    assert told is None or int(told.group(1) or 0) == len(expected)


@given(st.sampled_from(COLUMNS), st.booleans(), st.sampled_from([10, 25]))
@settings(max_examples=20)
def test_pages_hold_every_row_once_there_and_back(
    app: Application, crates: list[dict[str, Any]], column: str, down: bool, size: int
) -> None:
    sort = f"{'-' * down}{column}"
    there = walk(app, f"?_sort={sort}&_size={size}")
    assert [len(page) for page in there[:-1]] == [size] * (len(there) - 1)
    found = [code for page in there for code in page]
    assert sorted(found) == sorted(row["code"] for row in crates)
    by_code = {row["code"]: row for row in crates}
    values = [by_code[code][column] for code in found]
    given = [value for value in values if value is not None]
    # Choices go by the order they are declared in, and what is empty comes last either way.
    by = KINDS.index if column == "kind" else None
    assert given == sorted(given, reverse=down, key=by)
    assert values == given + [None] * (len(values) - len(given))
    # Back from the last page are the same pages.
    last = f"?_sort={sort}&_size={size}"
    while further := link(app.client.get(f"/crates{last}").text, "next"):
        last = further
    assert list(reversed(walk(app, last, "prev"))) == there


@pytest.mark.parametrize("size", [10, 100])
def test_what_is_sorted_by_several_columns_ends_with_what_is_empty_in_each(
    app: Application, crates: list[dict[str, Any]], size: int
) -> None:
    found = [code for page in walk(app, f"?_size={size}") for code in page]
    by_code = {row["code"]: row for row in crates}
    rows = [by_code[code] for code in found]
    known = [(row["yard"], row["frames"] is None, -(row["frames"] or 0)) for row in rows]
    assert known == sorted(known) and len(known) == len(crates)


def test_what_is_no_choice_any_more_is_still_listed() -> None:
    with application(YARDS, 60) as app:
        with sqlite3.connect(app.root / "bees.db") as connection:
            connection.execute("PRAGMA ignore_check_constraints = ON")
            connection.execute("UPDATE crate SET kind = 'paper' WHERE id % 7 = 0")
            stored = dict(connection.execute("SELECT code, kind FROM crate"))
        for query in ("?_sort=kind&_size=10", "?_sort=-kind&_size=10", "?_sort=kind&_size=100"):
            known = [*KINDS, "paper"] if "-" not in query else [*KINDS[::-1], "paper"]
            pages = walk(app, query)
            places = [
                known.index(stored[code]) if stored[code] else 9 for page in pages for code in page
            ]
            assert places == sorted(places) and len(places) == len(stored)


def test_a_row_that_comes_or_goes_moves_no_other_to_another_page(app: Application) -> None:
    first = codes(app, "?_sort=code&_size=10")
    further = link(app.client.get("/crates?_sort=code&_size=10").text, "next")
    second = codes(app, further)
    assert app.post("/crates/new", {"code": "AA00", "yard": "1"}).status_code == 303
    assert codes(app, further) == second
    app.run("DELETE FROM crate WHERE code = 'AA00'")
    assert codes(app, "?_sort=code&_size=10") == first


def test_searching_finds_every_word_in_any_column(
    app: Application, crates: list[dict[str, Any]]
) -> None:
    row = crates[4]
    for words in (row["code"].lower(), f"{row['yard'][:3]} {row['code'][:2]}", row["yard"].upper()):
        expected = sorted(
            r["code"]
            for r in crates
            if all(w.lower() in f"{r['code']}\n{r['yard']}".lower() for w in words.split())
        )
        found = walk(app, f"?_search={quote(words)}&_size=50")
        assert sorted(code for page in found for code in page) == expected != []
    assert "No crates match." in app.client.get("/crates?_search=%25").text


def test_what_the_panel_sends_is_redirected_to_the_notation_of_the_address(
    app: Application,
) -> None:
    for sent, address in (
        ("frames-low=8&frames-high=12", "frames=8..12"),
        ("frames-low=&frames-high=12", "frames=..12"),
        ("frames-low=8&frames-high=8", "frames=8"),
        ("frames-low=8&frames-high=&frames-empty=yes", "frames=-"),
        ("kind=long&kind=national&kind=long", "kind=long,national"),
        ("yard=1&yard=3&_search=&_sort=code", "yard=1,3&_sort=code"),
        ("other-low=3&frames-low=8", "frames=8.."),
    ):
        answer = app.client.get(f"/crates?_filter=open&{sent}")
        assert answer.status_code == 302
        assert answer.location == f"/crates?_filter=open&{address}"
        page = app.client.get(answer.location)
        assert page.status_code == 200
    # The controls hold what the address says.
    page = app.client.get("/crates?_filter=open&frames=8..12&kind=long&yard=2").text
    assert 'name="frames-low" value="8"' in page and 'name="frames-high" value="12"' in page
    assert re.search(r'name="kind" value="long" checked', page)
    assert re.search(r'name="yard" value="2" checked', page)


def test_active_filters_are_told_and_taken_away_one_by_one(app: Application) -> None:
    page = app.client.get("/crates?frames=8..12&kind=long,-&opened=2025-01-01..&_search=a").text
    chips = re.findall(r"<li>(.*?)</li>", page.split('class="chips"')[1].split("</ul>")[0], re.S)
    told = [re.sub(r"<.*", "", chip, flags=re.S).strip() for chip in chips]
    assert told == ["has “a”", "Kind: Long, none", "Frames: 8 to 12", "Opened: from 1 Jan 2025"]
    away = re.findall(r'href="(\?[^"]*)" aria-label="Take the filter', page)
    assert "frames" not in html.unescape(away[1]) and "kind=long,-" in html.unescape(away[1])
    less = re.search(r'href="(\?[^"]*)" aria-label="Take the search', page)
    assert less and "_search" not in less[1] and "frames=8..12" in html.unescape(less[1])


def test_choices_are_counted_with_all_other_filters(
    app: Application, crates: list[dict[str, Any]]
) -> None:
    page = app.client.get("/crates?_filter=open&frames=10..&kind=long").text
    shown = dict(
        re.findall(
            r'name="kind" value="([\w-]+)"[^>]*>[^<]*<span class="unit">([\d,+]+)</span>', page
        )
    )
    some = [row for row in crates if _range(row["frames"], 10, None)]
    assert shown == {
        kind: str(sum((row["kind"] or "-") == kind for row in some))
        for kind in ("national", "long", "warre", "-")
    }


UNDERSTOOD = ("frames=8.5", "weight=..-1")


@pytest.mark.parametrize(
    "text",
    [
        *UNDERSTOOD,
        *("frames=8..x", "frames=1e400..", "frames=" + "9" * 300, "frames=nan", "frames=--"),
        *("opened=2025-13-01..", "opened=today - 99999999 days..", "opened=..2025", "kind=paper"),
        *("seen=25:00..", "yard=x", "yard=99999999999999999999", 'yard="', "sound=maybe"),
        *("marks=%00", "weight=1..2..3", "spare=;DROP TABLE crate"),
    ],
)
def test_what_can_not_be_read_is_told_and_left_out(
    app: Application, crates: list[dict[str, Any]], text: str
) -> None:
    name, _, value = text.partition("=")
    answer = app.client.get("/crates", query_string={name: value, "_filter": "open"})
    assert answer.status_code == 200
    shown = re.search(r"Not understood, and left out: ([^<]*)", answer.text)
    found = [code for page in walk(app, f"?{urlencode({name: value})}") for code in page]
    if text in UNDERSTOOD:
        # It asks for what no row has.
        assert shown is None and found == []
    else:
        assert shown and html.unescape(shown[1]).startswith(f"{name}={value[:20]}"[:30])
        assert len(found) == len(crates)


def test_days_of_filters_may_count_from_today(app: Application) -> None:
    for text in ("opened=..today", "opened=today - 3000 days..today", "seen=..now - 1 day"):
        name, _, value = text.partition("=")
        page = app.client.get("/crates", query_string={name: value, "_filter": "open"})
        assert "Not understood" not in page.text and f'value="{value.split("..")[1]}"' in page.text


def test_now_is_a_moment_and_today_a_day(app: Application) -> None:
    now = dt.datetime.now(dt.UTC)
    moments = [now + dt.timedelta(hours=h) for h in (-25, -23, 1)]
    texts = [f"{moment:%Y-%m-%d %H:%M:%S}.000000" for moment in moments]
    with app.database() as database:
        kept = database.values("crate", "seen")[:3]
        names = database.values("crate", "code")[:3]
        for key, seen in enumerate(texts, 1):
            database.update("crate", "id", key, {"seen": seen})
    try:
        assert codes(app, "?seen=now - 1 day..now") == [names[1]]
        assert set(codes(app, "?seen=now - 2 days..now")) == set(names[:2])
        ahead = {n for n, m in zip(names, moments, strict=True) if m.date() == now.date()}
        assert ahead <= set(codes(app, "?seen=today..today"))
    finally:
        with app.database() as database:
            for key, seen in enumerate(kept, 1):
                database.update("crate", "id", key, {"seen": seen})


def test_a_download_is_what_the_list_shows_all_of_it_in_its_order(
    app: Application, crates: list[dict[str, Any]]
) -> None:
    query = "?frames=5..&_sort=-opened&_size=10"
    listed = [code for page in walk(app, query) for code in page]
    answer = app.client.get(f"/crates{query}&_as=csv")
    assert answer.mimetype == "text/csv" and answer.is_streamed
    assert re.search(
        r'filename="?crates-\d{4}-\d\d-\d\d\.csv', answer.headers["Content-Disposition"]
    )
    heading, *rows = csv.reader(io.StringIO(answer.get_data(as_text=True), newline=""))
    assert heading == [
        "Code",
        "Yard",
        "Spare",
        "Kind",
        "Frames",
        "Weight",
        "Opened",
        "Seen",
        "Sound",
    ]
    assert [row[0] for row in rows] == listed
    by_code = {row["code"]: row for row in crates}
    for code, yard, spare, kind, frames, weight, opened, *_ in rows:
        stored = by_code[code]
        assert (yard, spare) == (stored["yard"], stored["spare"] or "")
        assert kind == {"warre": "Warré", None: ""}.get(stored["kind"], str(stored["kind"]).title())
        assert frames == str(stored["frames"])
        assert weight == ("" if stored["weight"] is None else f"{stored['weight'] / 10:.1f}")
        assert opened == (stored["opened"] or "")


@given(st.sampled_from("=+-@\t\r"), st.text(st.sampled_from('A1("x)!|,; '), min_size=1, max_size=9))
@settings(max_examples=40)
def test_a_downloaded_text_is_no_formula(app: Application, sign: str, rest: str) -> None:
    """Whatever a spreadsheet would run begins with a stroke, and is else as it is stored."""
    text = f"{sign}{rest}"
    with app.database() as database:
        database.insert("yard", ["id", "name"], [[999], [text]])
    table = list(csv.reader(io.StringIO(app.client.get("/yards?_as=csv").text, newline="")))
    app.run("DELETE FROM yard WHERE id = 999")
    assert [f"'{text}"] in table and [text] not in table


@pytest.mark.parametrize("word", WORDS)
def test_a_long_download_of_chosen_columns_is_whole(word: str) -> None:
    with application(YARDS, 1300, on=word) as app:
        answer = app.client.get("/crates?_as=csv&_columns=code,marks,note,yard.name")
        rows = list(csv.reader(io.StringIO(answer.get_data(as_text=True), newline="")))
        codes = {row[0] for row in rows[1:]}
        assert len(rows) == 1301 and len(codes) == 1300
        with app.database() as database:
            assert codes == set(database.values("crate", "code"))


@pytest.mark.parametrize(
    ("path", "most"),
    [("/crates", 2), ("/crates?_filter=open", 8), ("/crates?_sort=-spare&frames=1..", 2)],
)
def test_a_page_takes_the_same_queries_whatever_the_rows(path: str, most: int) -> None:
    counts = []
    for rows in (5, 60):
        with application(YARDS, rows) as app:
            app.client.get("/")
            with app.queries() as asked:
                assert app.client.get(path).status_code == 200
                counts.append(len(asked))
    assert counts[1] <= max(counts[0], most), asked
    assert counts[1] <= most


def test_a_page_far_behind_costs_what_the_first_does() -> None:
    """The plan of a page's query enters an index at its first row: nothing before it is read."""
    with application(YARDS, 60) as app:
        page = app.client.get("/crates?_sort=frames&_size=10").text
        with app.queries() as asked:
            app.client.get(f"/crates{link(page, 'next')}")
        statement = next(q for q in asked if 'FROM "crate"' in q and "count" not in q)
        with sqlite3.connect(app.root / "bees.db") as connection:
            parameters = ["2"] * statement.count("?")
            plan = connection.execute(f"EXPLAIN QUERY PLAN {statement}", parameters).fetchall()
        steps = [detail for *_, detail in plan]
        assert any("crate_frames_index" in step for step in steps), steps
        assert not any("TEMP B-TREE FOR ORDER BY" in step for step in steps), steps


LETTERS = st.text(st.sampled_from("aÉéßẞçÇñŁłЖжσςΣ*?[]%_ \\-2ȺⱥǅI"), min_size=1, max_size=6)


@given(st.lists(LETTERS, min_size=1, max_size=8), st.text(st.sampled_from("éÉçÇñÑłŁжЖσΣaA*[]%_"), min_size=1, max_size=2))  # fmt: skip
@settings(max_examples=10, phases=[Phase.explicit, Phase.reuse, Phase.generate])
def test_a_search_finds_letters_whatever_their_case(texts: list[str], word: str) -> None:
    """As Python's own folding of case, on every character that stays one character."""
    declared = "model Town\n    name text 40\n    search name\n    filter name\n"
    with application(declared) as app:
        with sqlite3.connect(app.root / "bees.db") as connection:
            rows = [(number, text.strip() or None) for number, text in enumerate(texts, 1)]
            connection.executemany("INSERT INTO town VALUES (?, ?)", rows)
        wanted = {n for n, text in rows if text and word.casefold() in text.casefold()}
        for query in ({"_search": word}, {"name": word}):
            page = app.client.get("/towns", query_string=query).text
            assert {int(n) for n in re.findall(r'href="/towns/(\d+)"', page)} == wanted, query


@pytest.mark.parametrize("word", WORDS)
def test_what_stands_for_nothing_is_sorted_as_nothing(word: str) -> None:
    text = 'model A\n    name text 9, required\n    note text 20, empty stored as "", sample 40% empty\n    mites integer 1..9, empty stored as "0", sample 40% empty\n    list name, note, mites\nseed\n    30 A\n'
    with application(text, on=word) as app:
        for sort in ("note", "-note", "mites", "-mites"):
            label = sort.removeprefix("-").capitalize()
            query, values = f"?_sort={sort}&_size=10", []
            while query:
                page = app.client.get(f"/as{query}").text
                values += re.findall(rf'data-label="{label}">([^<]*)</td>', page)
                query = link(page, "next")
            given = [value for value in values if value != "—"]
            assert len(values) == 30 and 0 < len(given) < 30
            assert given == sorted(given, reverse=sort[0] == "-"), sort
            assert values == given + ["—"] * (30 - len(given)), sort
