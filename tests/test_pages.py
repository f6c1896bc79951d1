"""The generated pages in a real browser: smoother with script, whole without it, and for everybody."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator

import pytest
from conftest import CHROMIUM, HERE
from playwright.sync_api import Browser, ConsoleMessage, Page, expect

pytestmark = pytest.mark.skipif(
    CHROMIUM is None and not os.environ.get("CI"), reason="no Chromium on this machine"
)
expect.set_options(timeout=20_000)
AXE = (HERE / "vendor" / "axe.min.js").read_text("utf-8")
PNG = bytes.fromhex(
    "89504e470d0a1a0a0000000d49484452000000010000000108060000001f15c4890000000d49444154789c6360606060000000050001a5f645400000000049454e44ae426082"
)


@pytest.fixture(params=[True, False], ids=["script", "no script"])
def bees(browser: Browser, register: str, request: pytest.FixtureRequest) -> Iterator[Page]:
    """A page of the register, with script and without."""
    context = browser.new_context(
        locale="en-GB", base_url=register, java_script_enabled=request.param
    )
    page = context.new_page()
    page.set_default_timeout(15_000)
    wrong: list[str] = []
    page.on("console", lambda message: wrong.append(message.text) if _is_loud(message) else None)
    yield page
    assert wrong == []
    context.close()


@pytest.fixture
def page(browser: Browser, register: str) -> Iterator[Page]:
    context = browser.new_context(
        locale="en-GB", base_url=register, viewport={"width": 1280, "height": 800}
    )
    opened = context.new_page()
    opened.set_default_timeout(15_000)
    wrong: list[str] = []
    opened.on("pageerror", lambda error: wrong.append(str(error)))
    opened.on("console", lambda message: wrong.append(message.text) if _is_loud(message) else None)
    yield opened
    assert wrong == []
    context.close()


def _is_loud(message: ConsoleMessage) -> bool:
    """Whether a message is a fault of the page: an answer that is no 200 is told there too."""
    return message.type in ("error", "warning") and "the server responded" not in message.text


def _hive(page: Page, number: int = 0) -> str:
    page.goto("/hives")
    return str(page.locator("tbody th a").nth(number).get_attribute("href"))


def test_a_list_is_searched_filtered_and_shared_by_its_address(bees: Page) -> None:
    bees.goto("/keepers")
    name = bees.locator("tbody th").nth(3).inner_text()
    bees.get_by_role("searchbox").fill(name)
    bees.get_by_role("searchbox").press("Enter")
    expect(bees.locator("tbody tr")).to_have_count(1)
    expect(bees).to_have_url(re.compile(r"search="))
    bees.goto("/inspections")
    bees.get_by_role("link", name="Filter").click()
    bees.get_by_label("Calm").check()
    bees.get_by_label("Mites from").fill("1")
    bees.get_by_role("button", name="Show").click()
    expect(bees).to_have_url(re.compile(r"temper=calm&mites=1\.\."))
    expect(bees.get_by_label("Active filters").get_by_role("listitem")).to_have_count(2)
    shared = bees.url
    count = bees.locator("tbody tr").count()
    bees.get_by_label("Take the filter Temper away").click()
    expect(bees).not_to_have_url(re.compile("temper"))
    bees.goto(shared)
    expect(bees.locator("tbody tr")).to_have_count(count)


def test_one_of_many_rows_is_found_by_typing(bees: Page) -> None:
    bees.goto("/keepers?_sort=-name")
    name = bees.locator("tbody th").first.inner_text()
    bees.goto("/apiaries/new")
    bees.get_by_label("Name").fill("Found Field")
    box = bees.get_by_role("searchbox", name="Find Keeper")
    box.press_sequentially(name[:6])
    bees.get_by_role("button", name="Find").click()
    bees.get_by_label(name, exact=True).check()
    expect(bees.get_by_role("textbox", name="Name")).to_have_value("Found Field")
    for label, value in (("Latitude", "52"), ("Longitude", "-1"), ("Capacity", "20")):
        bees.get_by_label(label).fill(value)
    bees.get_by_role("button", name="Save", exact=True).click()
    expect(bees.get_by_role("heading", level=1)).to_have_text("Found Field")
    expect(bees.get_by_role("main").get_by_role("link", name=name)).to_be_visible()
    bees.get_by_role("link", name="Remove").click()
    bees.get_by_role("button", name="Remove").click()


def test_a_form_is_left_to_make_what_it_needs_and_found_again(bees: Page) -> None:
    bees.goto("/apiaries/new")
    bees.get_by_label("Name").fill("Kept Meanwhile")
    bees.get_by_role("button", name="New keeper").click()
    expect(bees.get_by_role("heading", level=1)).to_have_text("New keeper")
    person = f"Una Marsh {'x' if bees.context.browser is None else ''}".strip()
    bees.get_by_label("Name").fill(person)
    address = f"{abs(hash(bees.url))}@example.org"
    bees.get_by_label("Email").fill(address)
    bees.get_by_label("Joined").fill("2020-01-01")
    bees.get_by_role("button", name="Save", exact=True).click()
    expect(bees.get_by_label("Name")).to_have_value("Kept Meanwhile")
    expect(bees.get_by_label(person)).to_be_checked()


def test_tabs_and_entries_work_either_way(bees: Page) -> None:
    bees.goto(_hive(bees))
    bees.get_by_role("link", name="History").click()
    expect(bees.get_by_text("Nothing was changed yet.")).to_be_visible()
    expect(bees).to_have_url(re.compile("tab=its-history"))
    bees.goto("/hives/new")
    bees.get_by_label("Code").fill("TT-0001")
    bees.get_by_role("button", name="Another").click()
    expect(bees.get_by_label("Position")).to_have_count(2)
    expect(bees.get_by_label("Code")).to_have_value("TT-0001")


def test_rows_are_chosen_and_changed_together(bees: Page) -> None:
    bees.goto("/keepers?_size=10")
    for box in bees.locator('[name="_row"]').all()[:2]:
        box.check()
    bees.get_by_role("button", name="Set a field").click()
    bees.get_by_label("Set one field").select_option("joined")
    bees.get_by_role("button", name="Go on").click()
    bees.get_by_label("Joined").fill("2011-11-11")
    bees.get_by_role("button", name="See what happens").click()
    expect(bees.get_by_role("button", name="Set it on 2 keepers")).to_be_visible()
    bees.get_by_role("button", name="Set it on 2 keepers").click()
    expect(bees.get_by_role("status")).to_contain_text("Joined is set on 2 keepers")


def test_a_field_says_what_is_wrong_as_soon_as_it_is_left(page: Page) -> None:
    page.goto("/hives/new")
    page.get_by_label("Code").fill("nonsens")
    page.get_by_label("Frames").click()
    expect(page.locator("#code-problem")).to_be_visible()
    expect(page.get_by_label("Frames")).to_be_focused()
    expect(page.get_by_text("need another look")).to_have_count(0)
    page.get_by_label("Code").fill("TT-0002")
    page.get_by_label("Frames").fill("99")
    expect(page.locator("#code-problem")).to_have_text("")


def test_typing_in_the_search_box_narrows_the_list_and_keeps_the_focus(page: Page) -> None:
    page.goto("/keepers")
    name = page.locator("tbody th").nth(5).inner_text()
    page.evaluate("window.same = true")
    page.get_by_role("searchbox").press_sequentially(name, delay=20)
    expect(page.locator("tbody tr")).to_have_count(1)
    expect(page.get_by_role("searchbox")).to_be_focused()
    assert page.evaluate("window.same") and "search=" in page.url
    page.go_back()
    expect(page.locator("tbody tr")).not_to_have_count(1)


def test_the_first_problem_has_the_focus(page: Page) -> None:
    page.goto("/hives/new")
    page.get_by_label("Code").fill("AA-0001")
    page.locator("form").evaluate("form => form.noValidate = true")
    page.get_by_label("Frames").fill("2")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("3 fields need another look.")
    expect(page.get_by_label("Apiary")).to_be_focused()


def test_an_image_is_seen_before_it_is_sent_and_a_large_one_told(page: Page) -> None:
    page.goto("/hives/new")
    small = {"name": "hive.png", "mimeType": "image/png", "buffer": PNG}
    page.get_by_label("Photo").set_input_files([small])
    expect(page.locator("#photo-preview")).to_be_visible()
    assert page.locator("#photo-preview").evaluate("image => image.naturalWidth") == 1
    page.get_by_label("Photo").set_input_files([{**small, "buffer": PNG + b"\0" * 4_000_001}])
    told = page.get_by_label("Photo").evaluate("input => input.validationMessage")
    assert told == "At most 4 MB, please."


_PAGES = (
    *("/", "/hives", "/hives?_filter=open&frames=8..12", "/hives/new", "/hives/bin", "/keepers/1"),
    *(
        "/keepers/1?_tab=all-below",
        "/keepers/1/remove",
        "/keepers/chosen?_row=1&_row=2",
        "/nowhere",
    ),
    *(
        "/keepers/chosen?_row=1&_do=set&_field=mentor",
        "/keepers/chosen?_row=1&_do=remove",
        "/queens",
    ),
    *(
        "/inspections?_filter=open&temper=calm,nervous&mites=-",
        "/inspections?_search=zzz",
        "/findings",
    ),
)


def _found_by_axe(page: Page) -> list[str]:
    page.evaluate(AXE)
    found = page.evaluate("axe.run({resultTypes: ['violations']})")
    return [
        f"{page.url}: {one['id']}: {node['html'][:120]}"
        for one in found["violations"]
        for node in one["nodes"]
    ]


@pytest.mark.parametrize(("width", "scheme"), [(1280, "light"), (360, "dark")])
def test_no_page_shuts_anybody_out(
    browser: Browser, register: str, scheme: str, width: int
) -> None:
    context = browser.new_context(
        base_url=register,
        locale="en-GB",
        viewport={"width": width, "height": 800},
        color_scheme=scheme,  # type: ignore[arg-type]
        bypass_csp=True,
    )
    page = context.new_page()
    hive = _hive(page)
    page.goto(hive)
    child = page.get_by_role("link", name="New inspection").get_attribute("href")
    found = []
    for path in (*_PAGES, hive, f"{hive}?_tab=its-history", f"{hive}/edit", str(child)):
        page.goto(path)
        found += _found_by_axe(page)
        assert page.evaluate("document.documentElement.scrollWidth") <= width, path
    page.goto("/hives/new")
    page.locator("form").evaluate("form => form.noValidate = true")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("alert")).to_be_visible()
    assert found + _found_by_axe(page) == []
    context.close()


def test_a_conflict_is_readable_for_all_and_settled(browser: Browser, register: str) -> None:
    context = browser.new_context(locale="en-GB", base_url=register, bypass_csp=True)
    mine, theirs = context.new_page(), context.new_page()
    path = f"{_hive(mine, 1)}/edit"
    mine.goto(path)
    theirs.goto(path)
    for page, frames in ((theirs, "24"), (mine, "23")):
        page.get_by_label("Frames").fill(frames)
        page.get_by_role("button", name="Save", exact=True).click()
    expect(mine.get_by_role("alert")).to_contain_text("Somebody changed this since you opened it")
    assert _found_by_axe(mine) == []
    mine.get_by_label("Take the stored one").check()
    mine.get_by_role("button", name="Save", exact=True).click()
    expect(mine.get_by_role("status")).to_contain_text("is saved")
    mine.goto(path.removesuffix("/edit"))
    expect(mine.get_by_role("definition").filter(has_text=re.compile("^24$"))).to_be_visible()
    context.close()


def test_at_twice_the_size_nothing_runs_out_of_the_window(page: Page) -> None:
    """1280 points at 200% are 640."""
    page.set_viewport_size({"width": 640, "height": 400})
    for path in (*_PAGES, _hive(page)):
        page.goto(path)
        assert page.evaluate("document.documentElement.scrollWidth") <= 640, path


def test_on_paper_there_is_the_list_alone(page: Page) -> None:
    page.emulate_media(media="print")
    page.goto("/hives")
    expect(page.get_by_role("columnheader", name="Code")).to_be_visible()
    for gone in (
        page.get_by_role("navigation"),
        page.get_by_role("searchbox"),
        page.get_by_role("checkbox"),
    ):
        expect(gone.first).to_be_hidden()
