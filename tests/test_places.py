"""The way through a day: back to the list as it was, row after row, copies, and a removal undone."""

from __future__ import annotations

import html
import re
from collections.abc import Iterator
from typing import Any

import pytest
import sqlalchemy as sa
from loaded import Application, application, ask

SHOP = """\
model Shelf
    name    text 1..20, required, unique
    items   <- Item.shelf

model Item
    code    text 4..4, required, unique
    shelf   -> Shelf, required
    label_  text 1..20
    price   integer 0..99, required
    pages list, new, view, edit, remove
    list code, shelf, price
    sort code
    keep bin

model Tag
    word    text 3..12, required, unique
    size    integer 1..9, required
    shown as "{word} of size {size}"
    list word

seed
    3 Shelf
    30 Item
    5 Tag
"""


@pytest.fixture(scope="module")
def app() -> Iterator[Application]:
    with application(SHOP) as app:
        yield app


def _links(page: str) -> dict[str, str]:
    found = re.search(r'<nav class="place".*?</nav>', page, re.S)
    shown = found[0] if found else ""
    named = re.findall(r'<a (?:rel="(\w+)" )?accesskey="\w" href="([^"]*)"', shown)
    return {rel or "back": html.unescape(url) for rel, url in named}


def _rows(page: str) -> list[str]:
    return re.findall(r'<th scope="row"><a href="([^"]*)"', page)


@pytest.mark.parametrize("query", ["", "?_sort=-price", "?price=20..80&_sort=shelf", "?_search=e"])
def test_each_row_leads_to_the_next_one_of_its_list(app: Application, query: str) -> None:
    page = app.client.get(f"/items{query}{'&' if query else '?'}_size=100").text
    rows = _rows(page)
    assert len(rows) > 2
    at, walked = rows[0], [rows[0]]
    while following := _links(app.client.get(at).text).get("next"):
        before, at = at, following
        walked.append(at)
        assert _links(app.client.get(at).text)["prev"] == before
    assert walked == rows
    edit = _links(app.client.get(f"{rows[1]}/edit").text)
    assert (edit["prev"], edit["next"]) == (f"{rows[0]}/edit", f"{rows[2]}/edit")


def test_the_way_back_is_the_list_as_it_was(app: Application) -> None:
    app.client.get("/items?price=20..80&_sort=-price")
    page = app.client.get("/items/3").text
    assert _links(page)["back"] == "/items?price=20..80&_sort=-price#_row-3"
    assert "‹ Items, filtered" in page
    assert "/items?price=20..80" in html.unescape(
        app.client.get("/items/chosen?_row=1&_do=remove").text
    )
    assert app.post("/items/3/remove", {}).location == "/items?price=20..80&_sort=-price"
    app.client.get("/items")
    assert _links(app.client.get("/items/4").text)["back"] == "/items#_row-4"
    other = app.flask.test_client()
    assert "filtered" not in other.get("/items/4").text


def test_the_last_lists_alone_are_kept(app: Application) -> None:
    for number in range(40):
        app.client.get(f"/items?_search={'x' * number}")
        app.client.get(f"/shelves?_search={'y' * 600}")
    with app.client.session_transaction() as kept:
        assert kept["lists"] == {"item.list_page": f"_search={'x' * 39}"}
    app.client.get("/items")


def test_save_and_new_keeps_what_it_is_related_to(app: Application) -> None:
    typed = {"code": "AAA1", "shelf": "2", "price": "5", "_then": "new"}
    again = app.post("/items/new", typed).location
    assert again == "/items/new?shelf=2"
    page = app.client.get(again).text
    assert re.search(r'value="2" selected|value="2" checked', page)
    assert 'name="code" type="text" value=""' in page


def test_a_copy_has_all_but_what_is_its_own(app: Application) -> None:
    app.post("/items/new", {"code": "BBB1", "shelf": "3", "price": "77", "label_": "Kept"})
    row = ask(app, "SELECT id FROM item WHERE code = 'BBB1'")
    copy = re.search(r'href="([^"]*_copy=[^"]*)"', app.client.get(f"/items/{row}").text)
    assert copy
    page = app.client.get(html.unescape(copy[1])).text
    assert 'value="77"' in page and 'value="Kept"' in page and "BBB1" not in page
    for odd in ("", "x", "-1", "999999", "1 OR 1=1"):
        assert app.client.get("/items/new", query_string={"_copy": odd}).status_code == 200


def test_a_removal_is_undone_from_where_it_is_told(app: Application) -> None:
    for keys in (["5"], ["6", "7", "8"]):
        if len(keys) == 1:
            done = app.post(f"/items/{keys[0]}/remove", {})
        else:
            done = app.post("/items/chosen", {"_row": keys, "_do": "remove"})
        page = app.client.get(done.location).text
        form = re.search(r'<form class="undo".*?action="([^"]*)".*?</form>', page, re.S)
        assert form and "removed" in page
        sent: dict[str, Any] = {"_do": "restore", "_open": "yes"}
        sent["_row"] = re.findall(r'name="_row" value="([^"]*)"', form[0])
        assert sent["_row"] == keys
        assert app.post(form[1], sent).status_code == 303
        marks = ",".join(keys)
        assert ask(
            app, f"SELECT count(*) FROM item WHERE id IN ({marks}) AND removed_at IS NULL"
        ) == len(keys)


def test_a_removal_is_undone_whatever_the_key_holds() -> None:
    text = "model Box\n    code text 1..20, required, unique\n    key code\n    keep bin\n"
    with application(text) as app:
        assert app.post("/boxes/new", {"code": "A b c"}).status_code == 303
        page = app.client.get(app.post("/boxes/A b c/remove", {}).location).text
        assert re.findall(r'name="_row" value="([^"]*)"', page) == ["A b c"]


def test_ticks_are_of_one_page(app: Application) -> None:
    page = app.client.get("/items?_chosen=all&_size=10").text
    assert page.count('name="_row"') == page.count(' checked aria-label="Choose') > 5
    links = re.findall(r'href="([?][^"]*)"', page)
    assert sum("_chosen" in link for link in links) == 1
    assert "_chosen" not in _links(app.client.get("/items/4").text)["back"]


def test_the_first_page_counts_and_says_where_to_begin(app: Application) -> None:
    page = app.client.get("/").text
    counts = dict(re.findall(r"<b>(\w+)</b> <span class=\"count\">([\d,]+)<", page))
    assert counts["Shelves"] == "3"
    with application(SHOP.partition("seed")[0]) as empty:
        page = empty.client.get("/").text
        assert '<a href="/shelves/new">Shelves</a>' in page and "/items/new" not in page


def test_a_search_is_one_entry_of_the_browsers_history(app: Application) -> None:
    first = app.client.get("/items?_search=a", headers={"HX-Current-URL": "http://localhost/items"})
    assert "HX-Replace-Url" not in first.headers
    here = {"HX-Current-URL": "http://localhost/items?_search=a"}
    assert (
        app.client.get("/items?_search=ab", headers=here).headers["HX-Replace-Url"]
        == "/items?_search=ab"
    )


def test_an_unknown_sort_is_said(app: Application) -> None:
    assert "left out: _sort=nothing" in app.client.get("/items?_sort=nothing").text


KEPT = """\
model Book
    title   text 1..40, required
    pages_  integer 1..999
    parts   <-> Tag
    called "book" | "books"
    keep history

model Tag
    name    text 1..20, required

seed
    1 Book
    3 Tag
"""


def _form(app: Application, path: str) -> dict[str, Any]:
    page = app.client.get(path).text
    found: dict[str, Any] = dict(
        re.findall(r'name="(title|pages_)" type="\w+" value="([^"]*)"', page)
    )
    found["parts"] = sorted(re.findall(r'name="parts" value="(\d)" checked', page))
    return found


def test_an_earlier_version_is_brought_back_in_part_or_whole() -> None:
    with application(KEPT) as app:
        first = {"title": "One", "pages_": "11", "parts": ["1"]}
        book = app.post("/books/new", first).location
        second = {"title": "Two", "pages_": "22", "parts": ["1", "2"]}
        told = app.client.get(app.change(f"{book}/edit", second).location).text
        version = re.search(r'href="([^"]*_version=\d+)"', told)
        assert version and "Take the change back" in told
        assert (
            app.change(f"{book}/edit", {**second, "title": "Three", "parts": []}).status_code == 303
        )
        assert _form(app, html.unescape(version[1])) == first
        shown = app.client.get(html.unescape(version[1])).text
        assert "Nothing is stored before you save" in shown
        history = app.client.get(f"{book}?_tab=its-history").text
        versions = re.findall(r'href="([^"]*_version=\d+)"', history)
        assert len(versions) == 2
        assert _form(app, html.unescape(versions[0])) == second
        assert app.change(f"{book}/edit", first).status_code == 303
        assert _form(app, f"{book}/edit") == first
        for odd in ("0", "-1", "x", "9" * 30, "٣"):
            assert _form(app, f"{book}/edit?_version={odd}") == first
        other = app.post("/books/new", {"title": "Other"}).location
        assert _form(app, f"{other}/edit?{versions[0].partition('?')[2]}")["title"] == "Other"


def test_a_neighbour_is_named_whole_where_its_list_shows_less(app: Application) -> None:
    first, second, *_ = _rows(app.client.get("/tags").text)
    page, following = app.client.get(first).text, app.client.get(second).text
    name = re.search(r"<h1>(.*? of size \d)</h1>", following)
    assert name and f"{name[1]} <svg" in page


def test_the_page_of_a_row_takes_few_statements(app: Application) -> None:
    item, shelf = (_rows(app.client.get(f"/{name}").text)[1] for name in ("items", "shelves"))
    asked: list[str] = []
    engine = app.flask.extensions["engine"]

    def count(*event: Any) -> None:
        asked.append(event[2])

    sa.event.listen(engine, "before_cursor_execute", count)
    try:
        for path, most in ((item, 3), (shelf, 5)):
            app.client.get(path)
            asked.clear()
            app.client.get(path)
            # Itself with what it leads to, both neighbours; the first of its parts, and their number.
            assert len(asked) <= most, asked
    finally:
        sa.event.remove(engine, "before_cursor_execute", count)
