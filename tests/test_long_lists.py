"""Lists that are too long to be sorted whole show the rows that a short one shows."""

from __future__ import annotations

import html
import re
from collections.abc import Iterator, Sequence
from typing import Any

import pytest
from hypothesis import Phase, example, given, settings
from hypothesis import strategies as st
from loaded import Application, application
from servers import WORDS

KEPT = """\
model Keeper
    surname text 20, required
    given   text 20
    mentor  -> Keeper
    shown as "{surname} {given}"
    list surname, given, mentor

model Apiary
    keeper  -> Keeper, required
    name    text 20, required
    region  one of south | north | far_off
    height  integer, required
    shown as "{name}"

model Hive
    number  integer, required
    apiary  -> Apiary
    keeper  -> Keeper, required
    weight  integer
    keep bin
    shown as "{number}"
    list number, apiary, keeper, apiary.keeper, apiary.region, apiary.height, weight
    filter weight, keeper, apiary.region
    sort keeper, -weight

model Visit
    held    date, required
    mood    one of calm | cross | wild
    done    boolean
    mites   integer
    keeper  -> Keeper, required
    keep bin
    shown as "{held}"
    list held, mood, done, mites, keeper, keeper.given
    filter mood, done, mites, keeper, keeper.given
    sort -held
"""
SORTS = (
    "",
    "keeper",
    "-keeper",
    "apiary",
    "-apiary",
    "apiary.keeper",
    "apiary.region",
    "-apiary.region",
    "apiary.height",
)


# Enough of them that every sort leads somewhere.
SOME = (
    [("A", None), ("B", "x")],
    [(1, "N", "south", 1), (2, "O", "north", 2)],
    [(n, 1 + n % 2, 1 + n % 2, None) for n in range(1, 13)],
)


@pytest.fixture(scope="module", params=WORDS)
def app(request: pytest.FixtureRequest) -> Iterator[Application]:
    with application(KEPT, on=request.param) as app:
        yield app


def store(app: Application, drawn: tuple[list[Any], list[Any], list[Any]]) -> None:
    keepers, apiaries, hives = drawn
    with app.database() as database:
        for table in ("visit", "hive", "apiary", "keeper"):
            database.run(f"DELETE FROM {table}")
        with database.transaction():
            _insert(database, "keeper", ("surname", "given"), keepers)
            _insert(database, "apiary", ("keeper_id", "name", "region", "height"), apiaries)
            _insert(database, "hive", ("number", "apiary_id", "keeper_id", "weight"), hives)


def _insert(database: Any, table: str, names: Sequence[str], rows: list[Any]) -> None:
    if rows:
        columns = [list(column) for column in zip(*rows, strict=True)]
        database.insert(table, ["id", *names], [range(1, len(rows) + 1), *columns])


def _so_many(one: st.SearchStrategy[Any], least: int, most: int) -> st.SearchStrategy[list[Any]]:
    return st.integers(least, most).flatmap(lambda n: st.lists(one, min_size=n, max_size=n))


@st.composite
def rows(draw: st.DrawFn) -> tuple[list[Any], list[Any], list[Any]]:
    """Related rows that are called alike, that nothing leads to, and rows that lead nowhere."""
    called = st.tuples(st.sampled_from("ABCÉa"), st.none() | st.sampled_from(["x", "y"]))
    keepers = draw(_so_many(called, 1, 40))
    at = st.integers(1, len(keepers))
    region = st.none() | st.sampled_from(["south", "north", "far_off"])
    yards = st.tuples(at, st.sampled_from("NOP"), region, st.integers(0, 2))
    apiaries = draw(st.lists(yards, min_size=1, max_size=6))
    yard = st.none() | st.integers(1, len(apiaries))
    one = st.tuples(yard, at, st.none() | st.integers(0, 3))
    hives = draw(_so_many(one, 0, 50))
    return keepers, apiaries, [(n, *hive) for n, hive in enumerate(hives, 1)]


def walk(app: Application, query: str, rel: str = "next", of: str = "hives") -> list[list[str]]:
    """The rows of every page from here on, by following its own link."""
    pages = []
    while query:
        page = app.client.get(f"/{of}{query}").text
        pages.append(re.findall(r'<th scope="row"><a [^>]*href="([^"?]*)', page))
        found = re.search(rf'rel="{rel}" href="([^"]+)"', page)
        last, query = query, html.unescape(found[1]) if found else ""
        assert len(pages) < 12
    return [*pages, [last]]


def told(app: Application, query: str) -> tuple[list[list[str]], list[list[str]], list[str]]:
    """All pages there, back, and what stands beside the first and the last row."""
    there = walk(app, query)
    back = walk(app, there.pop()[0], "prev")[:-1]
    ends = [page[at] for page, at in ((there[0], 0), (there[-1], -1)) if page]
    beside = [app.client.get(f"{end}{query}").text for end in ends]
    links = [re.findall(r'rel="(prev|next)" href="([^"]*)"', page) for page in beside]
    return there, back, [str(one) for one in links]


@pytest.mark.parametrize("sort", SORTS)
def test_a_long_list_is_sorted_by_what_its_rows_lead_to_as_a_short_one(
    app: Application, sort: str
) -> None:
    counting, leading = app.module("kit.counting"), app.module("kit.leading")
    found, led = leading.Leader.rows, []

    def gives_up(*ignored: object) -> None:
        return None

    def leads(*asked: Any) -> Any:
        led.append(asked)
        return found(*asked)

    @example(SOME, "")
    @given(rows(), st.sampled_from(["", "weight=1..3", "keeper=2"]))
    @settings(max_examples=6, phases=[Phase.explicit, Phase.generate])
    def holds(drawn: Any, filtered: str) -> None:
        store(app, drawn)
        query = "&".join(filter(None, (f"_sort={sort}" if sort else "", filtered, "_size=10")))
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(leading.Leader, "rows", gives_up)
            expected = told(app, f"?{query}")
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(leading.Leader, "rows", leads)
            patch.setattr(counting, "COUNTED", 5)
            patch.setattr(counting, "MET", 5)
            patch.setattr(leading, "_FIRST", 5)
            assert told(app, f"?{query}") == expected
        there, back, _ = expected
        assert back == there[::-1]

    holds()
    # Some of them went through what rows lead to, and not through all rows.
    assert led


VISITS = st.tuples(
    st.integers(1, 4),
    st.none() | st.sampled_from(["calm", "cross", "wild"]),
    st.none() | st.booleans(),
    st.none() | st.integers(0, 3),
    st.integers(1, 2),
    st.sampled_from([False, False, False, True]),
)
ASKED = {
    "mood": ["mood=calm", "mood=-", "mood=cross,wild", "mood=.."],
    "done": ["done=yes", "done=no", "done=-"],
    "mites": ["mites=2", "mites=1..2", "mites=-"],
    "keeper": ["keeper=1"],
    "given": ["keeper.given=x"],
    "sort": ["_sort=held", "_sort=mites", "_sort=-keeper"],
}


def _meets(visit: Any, asked: str) -> bool:
    _, mood, done, mites, keeper, _ = visit
    told = {None: "-", True: "yes", False: "no"}
    name, _, text = asked.partition("=")
    if name == "mood":
        return mood is not None if text == ".." else (mood or "-") in text.split(",")
    if name == "done":
        return told[done] == text
    if name == "mites":
        low, _, high = text.partition("..")
        return (
            mites is None
            if text == "-"
            else mites is not None and int(low) <= mites <= int(high or low)
        )
    return keeper == 1


@given(
    st.lists(VISITS, min_size=20, max_size=40),
    st.tuples(*(st.sampled_from(["", *some]) for some in ASKED.values())),
)
@example(
    [(1 + n % 4, "calm", True, n % 4, 1, False) for n in range(30)],
    ("mood=calm", "done=yes", "mites=1..2", "", "", ""),
)
@example(
    [(1 + n % 4, "calm", None, 1, 1, n % 5 == 1) for n in range(30)],
    ("mood=calm", "", "mites=2", "", "", "_sort=held"),
)
@example(
    [(1 + n % 4, None, n % 3 == 0, n % 4, 1, False) for n in range(30)],
    ("", "done=no", "mites=1..3", "", "", ""),
)
@settings(max_examples=30, deadline=None, phases=[Phase.explicit, Phase.generate])
def _are_found_as_they_are(
    app: Application, led: list[str], visits: list[Any], asked: tuple[str, ...]
) -> None:
    counting, narrowing = app.module("kit.counting"), app.module("kit.narrowing")
    with app.database() as database:
        for table in ("visit", "hive", "apiary", "keeper"):
            database.run(f"DELETE FROM {table}")
        with database.transaction():
            _insert(database, "keeper", ("surname", "given"), [("A", "x"), ("B", "y")])
            names = ("held", "mood", "done", "mites", "keeper_id", "removed_at")
            gone = "2026-01-01 00:00:00.000000"
            _insert(
                database,
                "visit",
                names,
                [(f"2026-03-0{day}", *rest, gone if bin else None) for day, *rest, bin in visits],
            )
    asked = tuple(filter(None, asked))
    filters = [one for one in asked if not one.startswith("_sort")]
    wanted = [
        (visit, f"/visits/{number}")
        for number, visit in enumerate(visits, 1)
        if not visit[-1] and all(_meets(visit, one) for one in filters)
    ]
    query = f"?{'&'.join([*asked, '_size=10'])}"
    choose = narrowing.Narrowing.led

    def leads(self: Any, rows: Any) -> Any:
        led.append(self.name)
        return choose(self, rows)

    with pytest.MonkeyPatch.context() as patch:
        for name, most in (("COUNTED", 8), ("MET", 4)):
            patch.setattr(counting, name, most)
        patch.setattr(narrowing, "_READ", 12)
        patch.setattr(narrowing.Narrowing, "led", leads)
        pages = walk(app, query, of="visits")
    last = pages.pop()[0]
    found = [address.partition("?")[0] for page in pages for address in page]
    assert sorted(found) == sorted(address for _, address in wanted)
    if "_sort" not in query:
        by_day = sorted(wanted, key=lambda one: (one[0][0], int(one[1][8:])), reverse=True)
        assert found == [address for _, address in by_day]
    back = [a.partition("?")[0] for p in walk(app, last, "prev", "visits")[:-1][::-1] for a in p]
    assert back == found


def test_rows_of_a_choice_are_found_in_the_order_of_the_list(app: Application) -> None:
    led: list[str] = []
    _are_found_as_they_are(app, led)
    assert {"mood", "done"} <= {*led}


@given(rows(), st.sampled_from(["", "apiary.region=north", "weight=1..2"]))
@settings(max_examples=10, deadline=None)
def _are_counted(app: Application, drawn: Any, asked: str) -> None:
    store(app, drawn)
    _, yards, hives = drawn
    page = app.client.get(f"/hives?_filter=open&{asked}").text
    told = re.findall(r'name="apiary.region" value="([^"]*)"[^>]*>[^<]*<span[^>]*>(\d+)', page)
    if "weight" in asked:
        hives = [hive for hive in hives if hive[3] in (1, 2)]
    regions = [yards[hive[1] - 1][2] if hive[1] else None for hive in hives]
    wanted = {name: regions.count(name) for name in ("south", "north", "far_off")}
    assert {name: int(count) for name, count in told} == {**wanted, "-": regions.count(None)}


def test_choices_of_a_related_row_are_counted(app: Application) -> None:
    _are_counted(app)
