"""The site in a real browser: made, seen, changed, broken and removed by hand and by keyboard."""

from __future__ import annotations

import os
import re
import sqlite3
from collections.abc import Callable, Iterator

import pytest
from conftest import CHROMIUM, Project
from playwright.sync_api import Browser, Page, expect
from served import served

pytestmark = pytest.mark.skipif(
    CHROMIUM is None and not os.environ.get("CI"), reason="no Chromium on this machine"
)

expect.set_options(timeout=20_000)


@pytest.fixture
def address(built: Project) -> Iterator[str]:
    with served(built) as address:
        yield address


@pytest.fixture
def page(browser: Browser, address: str) -> Iterator[Page]:
    context = browser.new_context(
        base_url=address,
        locale="en-GB",
        viewport={"width": 1280, "height": 800},
        java_script_enabled=True,
    )
    page = context.new_page()
    page.set_default_timeout(15_000)
    outside: list[str] = []
    broken: list[str] = []
    page.on(
        "request",
        lambda request: None if request.url.startswith(address) else outside.append(request.url),
    )
    page.on(
        "console",
        lambda message: broken.append(message.text) if "Content Security" in message.text else None,
    )
    yield page
    assert outside == [] and broken == []
    context.close()


def _fill(page: Page, **values: str) -> None:
    for label, value in values.items():
        control = page.get_by_label(label.capitalize())
        if value in ("National", "Long hive"):
            page.get_by_label(value).check()
        elif control.evaluate("node => node.tagName") == "SELECT":
            control.select_option(index=int(value))
        else:
            control.fill(value)


def test_a_hive_is_made_seen_changed_broken_and_removed(page: Page) -> None:
    page.goto("/")
    page.get_by_role("navigation").get_by_role("link", name="Hives").click()
    page.get_by_role("link", name="New hive").click()
    expect(page.get_by_label("Frames")).to_have_value("11")
    expect(page.get_by_label("National")).to_be_checked()
    _fill(page, code="AA-0001", keeper="2", kind="Long hive", opened="2024-05-06")
    chosen = page.get_by_label("Keeper").locator("option:checked").inner_text()
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_have_text("AA-0001")
    expect(page.get_by_role("status")).to_have_text("Hive AA-0001 is saved.")
    expect(page.get_by_role("link", name=chosen)).to_be_visible()

    page.get_by_role("link", name="Edit").click()
    page.locator("form").evaluate("form => form.noValidate = true")
    _fill(page, code="nonsens", frames="99")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("2 fields need another look.")
    expect(page.get_by_label("Code")).to_have_value("nonsens")
    expect(page.get_by_label("Frames")).to_have_attribute("aria-invalid", "true")
    expect(page.get_by_text("Between 4 and 24, please.")).to_have_count(1)
    _fill(page, code="AA-0002", frames="24")
    page.get_by_role("button", name="Save", exact=True).click()
    # Whoever came from the list is back there.
    expect(page).to_have_url(re.compile("/hives#_row-"))
    page.goto(f"/hives/{page.url.partition('#_row-')[2]}")
    expect(page.get_by_role("heading", level=1)).to_have_text("AA-0002")

    page.get_by_role("link", name="Remove").click()
    expect(page.get_by_text("This can't be undone.")).to_be_visible()
    page.get_by_role("button", name="Remove").click()
    expect(page.get_by_role("status")).to_have_text("Hive AA-0002 is removed.")
    expect(page).to_have_url(re.compile("/hives$"))


def test_the_browser_itself_holds_the_declared_limits(page: Page) -> None:
    page.goto("/hives/new")
    for typed, valid in (("AB-123", False), ("ab-1234", False), ("AB-1234", True)):
        page.get_by_label("Code").fill(typed)
        assert page.get_by_label("Code").evaluate("node => node.checkValidity()") is valid
    for label, typed, valid in (
        ("Frames", "3", False),
        ("Frames", "4", True),
        ("Frames", "4.5", False),
    ):
        page.get_by_label(label).fill(typed)
        assert page.get_by_label(label).evaluate("node => node.checkValidity()") is valid
    page.get_by_label("Opened").fill("2999-01-01")
    assert page.get_by_label("Opened").evaluate("node => node.validity.rangeOverflow")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page).to_have_url(re.compile("/hives/new$"))


MOMENTS = """\
model Visit
    held datetime ..now, required, default now
    due datetime now.., required
    seen datetime 2020-01-01T00:00..
seed
    3 Visit
"""


def test_whole_minutes_and_stored_seconds_are_both_taken(
    browser: Browser, make: Callable[[str], Project]
) -> None:
    project = make(MOMENTS)
    for command in ("build", "migrate", "fill"):
        project.run(command)
    with sqlite3.connect(project.root / "bees.db") as connection:
        connection.execute(
            "UPDATE visit SET seen = '2024-05-06 07:08:09.000000', due = '2199-01-01 00:00:00.000000'"
        )
    with served(project) as address:
        page = browser.new_page(locale="en-GB", base_url=address)
        page.goto("/visits/new")
        page.get_by_label("Due").fill("2199-05-06T10:30")
        page.get_by_role("button", name="Save", exact=True).click()
        expect(page.get_by_role("status")).to_contain_text("is saved")
        page.goto("/visits/1/edit")
        page.get_by_role("button", name="Save", exact=True).click()
        expect(page.get_by_role("status")).to_contain_text("is saved")
        expect(page.get_by_text("6 May 2024, 07:08")).to_be_visible()
        page.close()


def test_everything_works_by_keyboard_alone(page: Page) -> None:
    page.goto("/keepers")
    page.keyboard.press("Tab")
    expect(page.get_by_role("link", name="Skip to the content")).to_be_focused()
    page.keyboard.press("Enter")
    page.keyboard.press("Tab")
    expect(page.get_by_role("link", name="New keeper")).to_be_focused()
    assert page.evaluate("getComputedStyle(document.activeElement).outlineStyle") == "solid"
    page.keyboard.press("Enter")
    page.get_by_label("Name").focus()
    page.keyboard.type("Ada Marsh")
    page.keyboard.press("Tab")
    page.keyboard.type("ada@example.org")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text("Ada Marsh")


def test_lists_are_sorted_and_paged_by_links(page: Page) -> None:
    page.goto("/hives")
    page.get_by_role("link", name="Code").click()
    expect(page.get_by_role("columnheader", name="Code")).to_have_attribute(
        "aria-sort", "ascending"
    )
    first = page.locator("tbody th").first.inner_text()
    page.get_by_role("link", name="Further").click()
    expect(page.get_by_text("26–40 of 40", exact=True)).to_be_visible()
    page.get_by_role("link", name="Code").click()
    expect(page.get_by_role("columnheader", name="Code")).to_have_attribute(
        "aria-sort", "descending"
    )
    assert page.locator("tbody th").first.inner_text() > first


def test_a_child_is_made_from_its_parents_page(page: Page) -> None:
    page.goto("/keepers/2")
    name = page.get_by_role("heading", level=1).inner_text()
    page.get_by_role("link", name="New hive").click()
    assert page.get_by_label("Keeper").locator("option:checked").inner_text() == name


_CONTRASTS = """() => {
  const channel = v => { v /= 255; return v <= 0.03928 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4 };
  const parse = c => (c.match(/[\\d.]+/g) || []).map(Number);
  const light = c => 0.2126 * channel(c[0]) + 0.7152 * channel(c[1]) + 0.0722 * channel(c[2]);
  const behind = node => { for (let n = node; n; n = n.parentElement) {
    const c = parse(getComputedStyle(n).backgroundColor); if (c.length === 3 || c[3] > 0) return c; } return [255, 255, 255] };
  const low = [];
  const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  while (walker.nextNode()) {
    const node = walker.currentNode.parentElement;
    if (!walker.currentNode.textContent.trim() || node.tagName === 'OPTION') continue;
    const [a, b] = [light(parse(getComputedStyle(node).color)), light(behind(node))].sort((x, y) => y - x);
    if ((a + 0.05) / (b + 0.05) < 4.5) low.push(node.textContent.trim() + ' ' + (a + 0.05) / (b + 0.05));
  }
  return low }"""


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_text_stands_out_in_light_and_dark(page: Page, scheme: str) -> None:
    page.emulate_media(color_scheme=scheme)  # type: ignore[arg-type]
    for path in (
        "/",
        "/hives",
        "/hives/1",
        "/hives/1/edit",
        "/keepers/1/remove",
        "/hives/1/remove",
        "/nowhere",
    ):
        page.goto(path)
        assert page.evaluate(_CONTRASTS) == [], path
    page.goto("/hives/new")
    page.locator("form").evaluate("form => form.noValidate = true")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("alert")).to_be_visible()
    assert page.evaluate(_CONTRASTS) == []


def test_nothing_is_wider_than_a_small_phone(page: Page) -> None:
    page.set_viewport_size({"width": 360, "height": 740})
    for path in ("/", "/hives", "/hives/1", "/hives/new", "/keepers/1", "/keepers/1/remove"):
        page.goto(path)
        assert page.evaluate("document.documentElement.scrollWidth") <= 360, path


def test_every_control_has_a_name_and_every_page_one_heading(page: Page) -> None:
    for path in ("/", "/hives", "/hives/1", "/hives/new", "/hives/1/edit", "/keepers/1/remove"):
        page.goto(path)
        assert page.get_by_role("heading", level=1).count() == 1
        nameless = "[...document.querySelectorAll('input:not([type=hidden]), select, textarea')].filter(n => !n.labels.length && !n.ariaLabel).length"
        assert page.evaluate(nameless) == 0
        assert page.locator("main").count() == 1 and page.locator("html[lang]").count() == 1


def test_all_of_it_works_without_scripts(browser: Browser, address: str) -> None:
    context = browser.new_context(locale="en-GB", base_url=address, java_script_enabled=False)
    page = context.new_page()
    page.goto("/keepers/new")
    _fill_without_scripts(page)
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Bo Reed")
    context.close()


def _fill_without_scripts(page: Page) -> None:
    page.get_by_label("Name").fill("Bo Reed")
    page.get_by_label("Email").fill("bo@example.org")


# The smallest PNG there is: one pixel.
DOT = bytes.fromhex(
    "89504e470d0a1a0a0000000d49484452000000010000000108060000001f15c4890000000d49444154789c6360606060000000050001a5f645400000000049454e44ae426082"
)


@pytest.fixture
def bees(browser: Browser, register: str) -> Iterator[Page]:
    context = browser.new_context(
        locale="en-GB", base_url=register, viewport={"width": 1280, "height": 800}
    )
    page = context.new_page()
    page.set_default_timeout(15_000)
    yield page
    context.close()


def test_a_hive_with_a_picture_and_frames_is_entered(bees: Page) -> None:
    bees.goto("/hives/new")
    assert bees.locator("fieldset.group > legend").all_text_contents() == ["Place", "Make", "Life"]
    bees.get_by_label("Apiary").select_option(index=1)
    bees.get_by_label("Code").fill("QQ-1234")
    bees.get_by_label("Photo").set_input_files(
        [{"name": "hive.png", "mimeType": "image/png", "buffer": DOT}]
    )
    bees.locator('[name="layout-0-position"]').fill("3")
    bees.locator('[name="layout-0-comb"]').select_option("empty")
    bees.get_by_role("button", name="Another").click()
    bees.locator('[name="layout-1-position"]').fill("4")
    bees.get_by_label("Opened").fill("2024-05-01")
    bees.get_by_label("Closed").fill("2024-04-01")
    bees.get_by_role("button", name="Save", exact=True).click()
    expect(bees.locator("#closed-problem")).to_have_text("A hive closes after it opens")
    expect(bees.locator("#reason-problem")).to_have_text("Say why it closed")
    # The picture and the frames were kept while the form is mended.
    expect(bees.locator(".kept img")).to_have_attribute("alt", "hive.png")
    expect(bees.locator('[name="layout-1-position"]')).to_have_value("4")
    bees.get_by_label("Closed").fill("2024-06-01")
    bees.get_by_label("Reason").fill("Joined with another")
    bees.get_by_role("button", name="Save", exact=True).click()
    expect(bees).to_have_url(re.compile("/hives/QQ-1234$"))
    assert bees.locator("dd img").evaluate("image => image.naturalWidth") == 1
    rows = bees.locator("table.entries tbody tr")
    assert [text.split() for text in rows.all_inner_texts()] == [
        ["3", "Empty", "No"],
        ["4", "Drawn", "No"],
    ]


def test_the_browser_holds_what_rules_say_of_one_field(bees: Page) -> None:
    bees.goto("/hives")
    bees.locator("tbody th a").first.click()
    bees.get_by_role("link", name="New inspection").click()
    expect(bees.locator("#brood")).to_have_attribute("max", "24")
    bees.get_by_label("Part of").get_by_role("link").click()
    bees.get_by_role("link", name="Harvests", exact=False).last.click()
    bees.get_by_role("link", name="New harvest").click()
    expect(bees.get_by_label("Kg")).to_have_attribute("step", "0.1")


def test_what_is_in_the_way_is_linked(bees: Page) -> None:
    bees.goto("/inspections?_sort=-brood")
    href = bees.locator("tbody th a").first.get_attribute("href")
    bees.goto(f"{href}/edit")
    frames = bees.locator("#frames")
    bees.locator("form").evaluate("form => form.noValidate = true")
    frames.fill("4")
    bees.get_by_role("button", name="Save", exact=True).click()
    notice = bees.locator(".notice", has_text="in the way")
    expect(notice).to_be_visible()
    expect(frames).to_have_attribute("aria-invalid", "true")
    notice.locator("a").first.click()
    expect(bees).to_have_url(re.compile(r"/inspections/\d+$"))


def test_findings_are_ticked_and_shown_on_both_sides(bees: Page) -> None:
    bees.goto("/inspections/2")
    bees.get_by_role("link", name="Edit").click()
    for box in bees.locator('[name="findings"]').all():
        box.uncheck()
    bees.get_by_label("Wax moth").check()
    bees.get_by_label("Chalk brood").check()
    bees.get_by_role("button", name="Save", exact=True).click()
    assert sorted(bees.locator(".names li").all_inner_texts()) == ["Chalk brood", "Wax moth"]
    bees.get_by_role("link", name="Wax moth").click()
    expect(bees.locator('.names a[href="/inspections/2"]')).to_be_visible()


def test_the_bin_gives_back(bees: Page) -> None:
    bees.goto("/hives")
    code = bees.locator("tbody th a").last.inner_text()
    bees.goto(f"/hives/{code}/remove")
    bees.get_by_role("button", name="Remove").click()
    expect(bees.locator("tbody")).not_to_contain_text(code)
    bees.get_by_role("link", name="Bin").click()
    bees.get_by_role("row", name=code).get_by_role("button").click()
    expect(bees.get_by_role("status")).to_contain_text(f"{code} is restored")
    bees.goto(f"/hives/{code}")
    expect(bees.locator("h1")).to_have_text(code)


def test_ticks_and_lists_belong_to_their_filter_and_tab(page: Page) -> None:
    page.goto("/hives?kind=national")
    page.locator('input[name="_row"]').first.check()
    expect(page.locator("#_chosen-count")).to_have_text(" (1)")
    page.goto("/hives?kind=long")
    # What was ticked is out of sight here, and is not acted upon.
    expect(page.locator("#_chosen-count")).to_have_text("")
    page.goto("/hives?kind=national&_sort=-code")
    expect(page.locator("#_chosen-count")).to_contain_text("1")

    page.goto("/hives?_sort=-code")
    other = page.context.new_page()
    other.goto("/hives?kind=long")
    other.close()
    page.locator("tbody th a").first.click()
    page.get_by_role("link", name="Edit").click()
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page).to_have_url(re.compile(r"/hives\?_sort=-code#"))
