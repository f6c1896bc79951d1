"""Numbers and days as people type them: read as they are meant, or refused, whatever the browser's language."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator

import pytest
from conftest import CHROMIUM, Project
from loaded import Application, application, ask
from playwright.sync_api import Browser, expect
from served import served

ITEM = """\
part Step
    weight  decimal 0..99.999

model Item
    name    text 40, required, unique
    price   decimal 0.00..99999.99
    share   number
    count   integer
    day     date
    at      datetime
    clock   time
    steps   list of Step
    filter price, day
"""
SPEAKING = {
    "site": {"Accept-Language": "de-DE,de;q=0.9"},
    "other": {"Accept-Language": "en-US,en;q=0.9"},
}


@pytest.fixture(scope="module")
def german() -> Iterator[Application]:
    with application(ITEM, locale="de-DE") as app:
        yield app


def send(app: Application, headers: dict[str, str], **typed: str) -> int:
    with app.client.session_transaction() as kept:
        kept["token"] = "test"
    app.run("""DELETE FROM "item" WHERE "name" = 'one'""")
    data = {"name": "one", "_token": "test", **typed}
    status: int = app.client.post("/items/new", data=data, headers=headers).status_code
    return status


def stored(app: Application, column: str) -> object:
    return ask(app, f"""SELECT "{column}" FROM "item" WHERE "name" = 'one'""")


@pytest.mark.parametrize(
    ("name", "text", "scaled"),
    [
        *(("price", "1234,56", 123456), ("price", "1234", 123400), ("price", "1.234", None)),
        *(("price", "1234.56", None), ("price", "1.234,56", None), ("share", "0,5", 0.5), ("share", "0.5", None)),
        *(("count", "1.234", None), ("count", "1,234", None), ("count", "12", 12), ("day", "01.03.2024", None)),
        *(("day", "03/01/2024", None), ("day", "2024-03-01", "2024-03-01"), ("at", "01.03.2024 14:30", None)),
        *(("clock", "2:30 PM", None), ("clock", "14:30", "14:30:00.000000")),
    ],
)  # fmt: skip
def test_what_a_line_of_text_holds_is_read_strictly(
    german: Application, name: str, text: str, scaled: object
) -> None:
    status = send(german, SPEAKING["other"], **{name: text})
    assert status == (422 if scaled is None else 303)
    if scaled is not None:
        assert stored(german, name) == scaled


def test_a_browser_s_own_control_sends_a_point(german: Application) -> None:
    for headers in (SPEAKING["site"], {}):
        assert send(german, headers, price="1234.56") == 303
        assert stored(german, "price") == 123456
        assert send(german, headers, price="1234,56") == 422


def test_what_is_not_touched_is_sent_back_as_it_was(german: Application) -> None:
    typed = {"price": "1234,56", "share": "0,25", "steps-0-weight": "1,234"}
    assert send(german, SPEAKING["other"], **typed) == 303
    (key,) = german.run("""SELECT "id" FROM "item" WHERE "name" = 'one'""")[0]
    page = german.client.get(f"/items/{key}/edit", headers=SPEAKING["other"]).text
    for value in typed.values():
        assert f'value="{value}"' in page
    assert (
        'type="number"' not in page
        and 'type="date"' not in page
        and 'placeholder="2026-04-01"' in page
    )
    own = german.client.get(f"/items/{key}/edit", headers=SPEAKING["site"]).text
    assert 'type="number" value="1234.56"' in own and 'type="date"' in own


def test_filters_are_typed_the_same_way(german: Application) -> None:
    send(german, SPEAKING["other"], price="1234,56")
    asked = "/items?price-low=1234,5&price-high=1234,6"
    there = german.client.get(asked, headers=SPEAKING["other"])
    assert there.status_code == 302 and "price=1234.5..1234.6" in there.headers["Location"]
    page = german.client.get(
        "/items?price=1234.5..1234.6&_filter=open", headers=SPEAKING["other"]
    ).text
    assert 'name="price-low" value="1234,5"' in page and ">one</a>" in page
    assert german.client.get("/items?price-low=1.234", headers=SPEAKING["other"]).status_code == 302


@pytest.mark.skipif(
    CHROMIUM is None and not os.environ.get("CI"), reason="no Chromium on this machine"
)
@pytest.mark.parametrize("asks", ["en-US", "de-DE"])
def test_a_german_site_in_an_english_browser(
    make: Callable[[str], Project], browser: Browser, asks: str
) -> None:
    """Whichever language it asks pages for, its own controls are English."""
    project = make(ITEM)
    project.replace("welbik.toml", "package", 'locale = "de-DE"\npackage')
    project.run("sync")
    with served(project) as address:
        headers = {"Accept-Language": asks}
        context = browser.new_context(base_url=address, extra_http_headers=headers)
        page = context.new_page()
        page.goto("/items/new")
        page.get_by_label("Name").fill("one")
        price = "1234,56" if asks == "en-US" else "1234.56"
        page.get_by_label("Price").press_sequentially(price)
        page.get_by_label("Day").press_sequentially("01.03.2024")
        page.get_by_role("button", name="Save", exact=True).click()
        # Nobody can tell which day this is.
        expect(page.get_by_role("alert")).to_be_visible()
        page.get_by_label("Day").fill("2024-03-01")
        page.get_by_role("button", name="Save", exact=True).click()
        expect(page.get_by_role("heading", level=1)).to_have_text("one")
        expect(page.get_by_text("1234,56")).to_be_visible()
        expect(page.get_by_text("01.03.2024")).to_be_visible()
        context.close()
