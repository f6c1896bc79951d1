"""Many rows at a time: all that match, moved, taken back, compared; and lists with other columns, or as trees."""

from __future__ import annotations

import csv
import html
import io
import re
import sqlite3
from collections.abc import Iterator
from typing import Any

import pytest
from loaded import Application, application, ask

FARM = """\
model Farm
    name    text 1..20, required, unique
    plots   <- Plot.farm
    most    integer 0..9999
    rule count(plots) <= most, say "A farm has no room for so many"

model Plot
    farm    -> Farm, required, owned
    code    text 1..6, required
    size    integer 0..99, required
    crop    one of wheat | rye | oats
    hands   <-> Hand
    nearest -> Farm
    name    text 1..20
    doubled integer = size * 2
    called "plot" | "plots"
    shown as "{code}"
    list code, size
    filter size, crop
    sort size
    keep history
    unique farm, code
    rule size < 90 when crop = oats, say "Oats need less room"

model Hand
    name text 1..20, required
    above -> Hand
    list name
    sort name
    keep times
"""


def _fill(app: Application, plots: int) -> None:
    with sqlite3.connect(app.root / "bees.db") as connection:
        connection.executemany(
            "INSERT INTO farm (id, name, most) VALUES (?, ?, ?)",
            [(1, "One", 9999), (2, "Two", 3), (3, "Three", None)],
        )
        connection.executemany(
            "INSERT INTO plot (id, farm_id, code, size, crop) VALUES (?, 1, ?, ?, ?)",
            [(n, f"P{n}", n % 100, "rye" if n % 2 else None) for n in range(1, plots + 1)],
        )
        moment = "2026-01-01 10:00:00.000000"
        connection.executemany(
            "INSERT INTO hand (id, name, above_id, created_at, updated_at) VALUES (?, ?, ?, ?, ?)",
            [(1, "Top", None, moment, moment), (2, "Mid", 1, moment, moment)]
            + [(3, "Low", 2, moment, moment), (4, "Alone", None, moment, moment)],
        )


@pytest.fixture
def app() -> Iterator[Application]:
    with application(FARM, 0) as app:
        _fill(app, 30)
        yield app


def _sent(page: str, words: str) -> dict[str, Any]:
    """What the form of a page sends whose button has some words."""
    for form in re.findall(r"<form.*?</form>", page, re.S):
        if re.search(rf"<button[^>]*>{words}", form):
            fields = re.findall(r'<input type="hidden" name="([^"]*)" value="([^"]*)"', form)
            sent: dict[str, Any] = {}
            for name, value in fields:
                sent.setdefault(name, []).append(html.unescape(value))
            return sent
    raise AssertionError(f"no button {words} on the page")


def test_all_that_match_are_changed_together_and_taken_back(app: Application) -> None:
    page = app.client.get("/plots?size=10..19&_size=10").text
    assert "all 10 that match" not in page  # they are all on the page
    page = app.client.get("/plots?size=1..20&_size=10").text
    every = re.search(r'name="_all" accesskey="a" value="([^"]*)"> or all (\d+) that match', page)
    assert every and every[2] == "20"
    chosen = {"_all": html.unescape(every[1]), "_do": "set", "_field": "crop", "_part": "look:rows"}
    form = app.post("/plots/chosen", chosen)
    sent = {**_sent(form.text, "See what happens"), "crop": "wheat"}
    shown = app.client.post("/plots/chosen", data=sent).text
    assert "Set it on 20 plots" in shown
    assert ask(app, "SELECT count(*) FROM plot WHERE crop = 'wheat'") == 0
    done = app.client.post("/plots/chosen", data=_sent(shown, "Set it on"))
    assert ask(app, "SELECT count(*) FROM plot WHERE crop = 'wheat'") == 20
    told = app.client.get(done.location).text
    # One of them is changed by somebody since: it stays so.
    app.change("/farms/1/plots/4/edit", {"code": "P4", "size": "4", "crop": "rye"})
    undo = _sent(told, "Undo the change")
    assert app.client.post("/plots/chosen", data=undo).status_code == 303
    assert ask(app, "SELECT crop FROM plot WHERE id = 4") == "rye"
    kept = "SELECT count(*) FROM plot WHERE id BETWEEN 1 AND 20 AND crop IS NOT iif(id % 2, 'rye', NULL)"
    assert ask(app, f"{kept} AND id != 4") == 0


def test_nothing_is_stored_where_one_of_many_is_refused() -> None:
    with application(FARM, 0) as app:
        _fill(app, 450)
        rows = [str(n) for n in range(1, 451)]
        sent = {"_rows": ",".join(rows), "_do": "set", "_field": "crop", "crop": "oats"}
        answer = app.post("/plots/chosen", {**sent, "_sure": "yes"})
        # Its progress is told while it goes on, and its end at the end.
        assert re.findall(r"<span>(\d+)</span>", answer.text) == ["100", "200", "300", "400"]
        assert "40 of them can" in answer.text and "Oats need less room" in answer.text
        assert ask(app, "SELECT count(*) FROM plot WHERE crop = 'oats'") == 0
        rest = app.client.post("/plots/chosen", data=_sent(answer.text, "Leave those 40 out"))
        assert "Set it on 410 plots" in rest.text
        done = app.client.post("/plots/chosen", data=_sent(rest.text, "Set it on 410"))
        assert "Crop is set on 410 plots" in done.text
        assert ask(app, "SELECT count(*) FROM plot WHERE crop = 'oats'") == 410
        undone = app.client.post("/plots/chosen", data=_sent(done.text, "Undo the change"))
        assert "Crop is as it was before on 410 plots" in undone.text, undone.text[-2500:]
        assert ask(app, "SELECT count(*) FROM plot WHERE crop = 'oats'") == 0
        assert ask(app, "SELECT count(*) FROM plot WHERE crop = 'rye'") == 225


def test_more_than_may_be_are_not_touched() -> None:
    with application(FARM, 0) as app:
        _fill(app, 2_001)
        for asked in ({"_all": "?"}, {"_rows": ",".join(map(str, range(1, 2_002)))}):
            answer = app.post("/plots/chosen", {**asked, "_do": "remove"})
            assert answer.status_code == 303
            assert "At most 2,000 rows" in app.client.get(answer.location).text
        page = app.client.get("/plots").text
        assert "or all 2,001 plots (at most 2,000 at once)" in page
        shown = app.post(
            "/plots/chosen", {"_all": "?size=..98", "_do": "remove", "_part": "look:rows"}
        )
        assert "Remove 1,981 plots?" in shown.text
        gone = app.client.post("/plots/chosen", data=_sent(shown.text, "Remove 1,981"))
        assert gone.status_code == 303 and ask(app, "SELECT count(*) FROM plot") == 20


def test_what_is_part_of_a_row_is_moved_to_another(app: Application) -> None:
    page = app.client.get("/farms/1?_tab=plots").text
    assert len(re.findall(r'type="checkbox" name="_row"', page)) == 10
    assert 'name="_return" value="/farms/1?_tab=plots"' in page
    asked = {"_row": ["1", "2"], "_do": "set", "_field": "farm", "_return": "/farms/1?_tab=plots"}
    done = app.post("/plots/chosen", {**asked, "farm": "2", "_sure": "yes"})
    assert (done.status_code, done.location) == (303, "/farms/1?_tab=plots")
    assert ask(app, "SELECT group_concat(id) FROM plot WHERE farm_id = 2") == "1,2"
    # The rules of where they come to hold, all or nothing.
    asked["_row"] = ["3", "4"]
    refused = app.post("/plots/chosen", {**asked, "farm": "2", "_sure": "yes"})
    assert refused.status_code == 422 and "no room for so many" in refused.text
    assert ask(app, "SELECT count(*) FROM plot WHERE farm_id = 2") == 2
    app.post("/farms/3/plots/new", {"code": "P5", "size": "1"})
    asked["_row"] = ["5"]
    assert app.post("/plots/chosen", {**asked, "farm": "3", "_sure": "yes"}).status_code == 422
    # One alone is moved from its own page.
    view = app.client.get("/plots/6").text
    move = re.search(r'href="(/plots/chosen[^"]*)">Move<', view)
    assert move
    form = app.client.get(html.unescape(move[1])).text
    sent = {**_sent(form, "See what happens"), "farm": "3", "_sure": "yes"}
    assert app.client.post("/plots/chosen", data=sent).location == "/plots/6"
    assert app.client.get("/farms/3/plots/6/edit").status_code == 200


@pytest.mark.parametrize("at", ["", "x", "2020-01-01T00:00:00+00:00", "0001-01-01"])
def test_what_was_no_change_of_several_is_not_taken_back(app: Application, at: str) -> None:
    answer = app.post("/plots/chosen", {"_do": "undo", "_at": at})
    assert answer.status_code in (400, 404)


def test_rows_are_compared(app: Application) -> None:
    page = app.client.get("/plots/chosen?_do=compare&_row=1&_row=3").text
    differing = {
        name for mark, name in re.findall(r"<tr([^>]*)><th scope=\"row\">(\w+)", page) if mark
    }
    assert differing == {"Code", "Size", "Doubled"}
    assert "Nearest" in page and "Hands" in page
    for rows in (["1"], ["1", "2", "3", "4"]):
        asked = {"_do": "compare", "_row": rows}
        answer = app.client.get("/plots/chosen", query_string=asked)
        assert answer.status_code == 303
        assert "two or three" in app.client.get(answer.location).text


def test_columns_are_chosen_in_the_address(app: Application) -> None:
    app.change(
        "/farms/1/plots/7/edit",
        {"code": "P7", "size": "7", "crop": "rye", "hands": ["1", "3"], "nearest": "2"},
    )
    sent = app.client.get("/plots?size=7&_columns=crop&_columns=hands&_columns=doubled")
    assert sent.location == "/plots?size=7&_columns=crop,hands,doubled"
    page = app.client.get(sent.location).text
    headings = re.findall(r'<th scope="col"[^>]*>(?:<a[^>]*>)?(\w+)', page)
    assert headings == ["Code", "Crop", "Hands", "Doubled"]
    row = page.split("<tbody>")[1].split("</tbody>")[0]
    assert "Rye" in row and ">14<" in row
    assert {*re.findall(r'href="/hands/(\d)"', row)} == {"1", "3"}
    assert "_columns=crop,hands,doubled" in app.client.get(f"{sent.location}&_sort=-size").text
    # A download has what is shown, or all.
    table = list(csv.reader(io.StringIO(app.client.get(f"{sent.location}&_as=csv").text)))
    assert table[0] == ["Code", "Crop", "Hands", "Doubled"]
    assert table[1][:2] == ["P7", "Rye"] and table[1][3] == "14"
    every = list(csv.reader(io.StringIO(app.client.get("/plots?_columns=*&_as=csv").text)))
    assert every[0] == ["Code", "Size", "Farm", "Crop", "Hands", "Nearest", "Name", "Doubled"]
    assert len(every) == 31 and every[7][5] == "Two"
    told = app.client.get("/plots?_columns=crop,secret,farm.name").text
    assert "left out: _columns=farm.name,secret" in told


def test_rows_are_shown_under_those_they_stand_below(app: Application) -> None:
    assert 'href="?_as=tree"' in app.client.get("/hands").text
    page = app.client.get("/hands?_as=tree").text
    rows = re.findall(r'<tr id="_row-(\d)"(?: class="below below-(\d)")?>', page)
    assert rows == [("4", ""), ("1", ""), ("2", "1"), ("3", "2")]
    assert "1–2 of 2 hands at the top, 2 below" in page
    # A search finds what it finds: no row is left out for another above it.
    found = app.client.get("/hands?_as=tree&_search=low").text
    assert re.findall(r'<tr id="_row-(\d)"', found) == ["3"]


def test_a_deep_tree_is_folded(app: Application) -> None:
    few = app.client.get("/hands/1?_tab=all-below").text
    assert few.count("<details open") == 1
    with sqlite3.connect(app.root / "bees.db") as connection:
        moment = "2026-01-01 10:00:00.000000"
        connection.executemany(
            "INSERT INTO hand VALUES (?, ?, ?, ?, ?)",
            [(n, f"H{n}", n // 2 if n > 19 else 1, moment, moment) for n in range(10, 700)],
        )
    with app.queries() as asked:
        many = app.client.get("/hands/1?_tab=all-below").text
    assert "<details open" not in many and many.count("<li>") > 650
    assert len(asked) < 12


def test_the_first_page_finds_rows_and_says_what_changed(app: Application) -> None:
    page = app.client.get("/?_search=to").text
    assert 'href="/hands/1">Top<' in page and 'href="/farms/' not in page
    assert "No row" in app.client.get("/?_search=%00zzz").text
    app.change("/farms/1/plots/9/edit", {"code": "P9", "size": "77"})
    app.post("/hands/new", {"name": "Newest"})
    recent = app.client.get("/").text.split("Changed last")[1]
    names = re.findall(r'<li><a href="[^"]*">([^<]*)</a> <span class="unit">([^<]*)<', recent)
    assert names[:2] == [("Newest", "hand, new"), ("P9", "plot")]
    with sqlite3.connect(app.root / "bees.db") as connection:
        plan = connection.execute(
            "EXPLAIN QUERY PLAN SELECT row FROM plot_history ORDER BY changed_at DESC LIMIT 8"
        ).fetchall()
    assert "plot_history_changed_at_index" in plan[0][3]


FIRST = """\
model Keeper
    name    text 1..20, required, unique

model Visit
    keeper  -> Keeper, required
    helper  -> Keeper
    note    text 1..20
    list keeper.name, note
    pages list, view

model Card
    keeper  -> Keeper, required
    list keeper, note
    note    text 1..20
    pages list, edit, new

model Slip
    note    text 1..20
    keeper  -> Keeper, required
    list note, keeper

seed
    2 Keeper
    2 Visit
    2 Card
    2 Slip
"""


def test_the_first_column_leads_to_what_it_names() -> None:
    with application(FIRST) as app:
        visits = app.client.get("/visits").text
        assert re.search(
            r'<th scope="row">\w[^<]* <a class="own" href="/visits/1">Visit</a>', visits
        )
        cards = app.client.get("/cards").text
        own = r'<a href="/keepers/\d">[^<]+</a> <a class="own" href="/cards/1/edit">Card</a>'
        assert re.search(own, cards)
        with sqlite3.connect(app.root / "bees.db") as connection:
            connection.execute("UPDATE slip SET note = NULL WHERE id = 1")
        assert '<a href="/slips/1">Slip</a>' in app.client.get("/slips").text
