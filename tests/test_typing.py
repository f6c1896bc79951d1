"""Forms under the hands of somebody who types: keys and Tab alone, on a slow line too."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator

import pytest
from conftest import CHROMIUM, Project
from playwright.sync_api import Browser, Page, Route, expect
from served import served

pytestmark = pytest.mark.skipif(
    CHROMIUM is None and not os.environ.get("CI"), reason="no Chromium on this machine"
)

expect.set_options(timeout=20_000)


@pytest.fixture
def page(browser: Browser, register: str) -> Iterator[Page]:
    context = browser.new_context(
        base_url=register, viewport={"width": 1280, "height": 800}, locale="en-GB"
    )
    page = context.new_page()
    page.set_default_timeout(15_000)
    yield page
    page.unroute_all(behavior="ignoreErrors")
    context.close()


def _slowly(page: Page) -> None:
    """Every answer to a form comes late."""

    def late(route: Route) -> None:
        page.wait_for_timeout(150)
        route.continue_()

    page.route(lambda url: "/new" in url or "/edit" in url, late)


# The day is the month wherever a date is typed: whichever comes first in this browser.


def _focused(page: Page) -> str:
    name: str = page.evaluate("document.activeElement.name || document.activeElement.id")
    return name


def _tab(page: Page, name: str) -> None:
    """Presses Tab till a control has the focus: a date has several stops of its own."""
    for _ in range(5):
        page.keyboard.press("Tab")
        if _focused(page) == name:
            return
    raise AssertionError(f"{name} is not reached by Tab")


@pytest.mark.parametrize("slow", [False, True])
def test_a_date_is_typed(page: Page, slow: bool) -> None:
    page.goto("/hives/new")
    if slow:
        _slowly(page)
    page.get_by_label("Opened").focus()
    page.keyboard.type("03032024")
    expect(page.get_by_label("Opened")).to_have_value("2024-03-03")
    _tab(page, "closed")
    page.keyboard.type("04042023")
    _tab(page, "reason")
    expect(page.locator("#closed-problem")).to_have_text("A hive closes after it opens")
    expect(page.get_by_label("Closed")).to_have_value("2023-04-04")
    page.get_by_label("Closed").focus()
    page.keyboard.type("05052025")
    _tab(page, "reason")
    expect(page.locator("#closed-problem")).to_have_text("")
    expect(page.get_by_label("Closed")).to_have_value("2025-05-05")


def test_typing_goes_on_while_a_check_is_on_its_way(page: Page) -> None:
    page.goto("/hives/new")
    _slowly(page)
    page.get_by_label("Code").focus()
    page.keyboard.type("wrong")
    page.keyboard.press("Tab")
    page.keyboard.press("Shift+Tab")
    page.keyboard.press("End")
    page.keyboard.type(" title mended", delay=30)
    expect(page.get_by_label("Code")).to_have_value("wrong title mended"[:7])
    expect(page.locator("#code-problem")).not_to_have_text("")


def test_every_key_moves_a_choice(browser: Browser, built: Project) -> None:
    built.run("migrate")
    built.run("fill")
    with served(built) as address:
        page = browser.new_page(locale="en-GB", base_url=address)
        page.goto("/hives/new")
        _slowly(page)
        select = page.get_by_label("Keeper")
        select.focus()
        for number in range(1, 6):
            page.keyboard.press("ArrowDown")
            assert select.evaluate("node => node.selectedIndex") == number
        page.unroute_all(behavior="ignoreErrors")
        page.close()


def test_the_focus_stays_in_a_group_of_choices(page: Page) -> None:
    page.goto("/hives/new")
    _slowly(page)
    page.get_by_label("National").focus()
    for _ in range(2):
        page.keyboard.press("ArrowDown")
    assert page.evaluate("document.activeElement.type") == "radio"
    page.keyboard.press("Tab")
    assert _focused(page) == "frames"


def test_a_form_begins_at_its_first_field(page: Page) -> None:
    page.goto("/hives/new")
    assert _focused(page) == "apiary"
    page.goto("/keepers/new?_draft=nothing")
    expect(page.get_by_label("Name")).to_be_focused()


def test_coming_back_from_a_related_row_one_goes_on_there(page: Page) -> None:
    page.goto("/hives/new")
    page.get_by_label("Code").focus()
    page.keyboard.type("AA-7777")
    page.get_by_role("button", name="New apiary").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text("New apiary")
    page.get_by_role("searchbox", name="Find Keeper").focus()
    page.keyboard.type("a")
    page.keyboard.press("Enter")
    expect(page.locator(".found input:focus")).to_have_count(1)
    page.keyboard.press("Space")
    page.get_by_label("Name").focus()
    page.keyboard.type("Under the mill")
    for label, value in (("Latitude", "52.1"), ("Longitude", "-1.2")):
        page.get_by_label(label).focus()
        page.keyboard.type(value)
    page.keyboard.press("Enter")
    expect(page.get_by_label("Code")).to_have_value("AA-7777")
    expect(page.get_by_label("Apiary")).to_be_focused()
    expect(page.get_by_label("Apiary").locator("option:checked")).to_have_text("Under the mill")


def test_another_entry_has_the_focus(page: Page) -> None:
    page.goto("/hives/new")
    page.get_by_role("button", name="Another").focus()
    page.keyboard.press("Enter")
    expect(page.locator('[name="layout-1-position"]')).to_be_focused()


def test_a_tab_and_a_heading_keep_the_focus(page: Page) -> None:
    page.goto("/apiaries/1")
    tab = page.get_by_role("navigation", name="What belongs to it").get_by_role("link").first
    tab.focus()
    page.keyboard.press("Enter")
    page.wait_for_url(re.compile("_tab="))
    expect(page.locator("[aria-current=true]:focus")).to_have_count(1)
    heading = page.locator("thead a").first
    heading.focus()
    page.keyboard.press("Enter")
    page.wait_for_url(re.compile("-sort="))
    expect(page.locator("thead a").first).to_be_focused()
    page.goto("/hives")
    page.locator("thead a").nth(1).focus()
    page.keyboard.press("Enter")
    page.wait_for_url(re.compile("_sort="))
    expect(page.locator("thead a").nth(1)).to_be_focused()


def test_enter_finds_and_goes_to_what_is_found(page: Page) -> None:
    page.goto("/apiaries/new")
    page.keyboard.type("a")
    page.keyboard.press("Enter")
    expect(page.locator(".found input:focus")).to_have_count(1)
    assert "/new" in page.url
    told = page.locator(".finder ~ [role=status]").first
    expect(told).to_have_text(re.compile("found|type more"))


def test_a_form_that_grew_too_old_comes_back_filled_in(page: Page) -> None:
    page.goto("/keepers/new")
    page.keyboard.type("Ann Alder")
    page.keyboard.press("Tab")
    page.keyboard.type("ann.alder@example.org")
    page.get_by_label("Joined").focus()
    page.keyboard.type("03032024")
    page.context.clear_cookies()
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert").first).to_contain_text("nothing is stored yet")
    expect(page.get_by_label("Name")).to_have_value("Ann Alder")
    page.get_by_role("button", name="Save", exact=True).last.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_have_text("Ann Alder")


def test_what_was_typed_is_not_left_unasked(page: Page) -> None:
    page.goto("/keepers/new")
    page.keyboard.type("Somebody")
    asked: list[str] = []
    page.on("dialog", lambda dialog: (asked.append(dialog.type), dialog.accept()))
    page.get_by_role("link", name="Cancel").press("Enter")
    page.wait_for_url(re.compile("/keepers$"))
    assert asked == ["beforeunload"]


@pytest.fixture(scope="module")
def forty(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """A site of forty models in five groups."""
    project = Project(tmp_path_factory.mktemp("forty"))
    project.write("welbik.toml", 'package = "bees"\ndatabase = "sqlite:///bees.db"\n')
    models = "".join(
        f'model Thing{n} "One of very many things"\n    name text 1..40, required\n'
        f"    averyveryverylongnamewithoutanybreak text 1..90\n"
        f'    menu "Group {n % 5}"\n    called "thing of kind {n}" | "things of kind {n}"\n'
        for n in range(40)
    )
    project.declare(f"{models}seed\n    3 Thing0\n")
    for command in ("build", "migrate", "fill"):
        project.run(command)
    with served(project) as address:
        yield address


@pytest.mark.parametrize("width", [320, 360, 1280])
def test_forty_models_take_one_line_and_are_found_by_typing(
    browser: Browser, forty: str, width: int
) -> None:
    context = browser.new_context(
        locale="en-GB", base_url=forty, viewport={"width": width, "height": 740}
    )
    page = context.new_page()
    for path in ("/", "/things-of-kind-0", "/things-of-kind-0/1", "/things-of-kind-0/new"):
        page.goto(path)
        assert page.evaluate("document.documentElement.scrollWidth") <= width, path
        assert page.evaluate("document.querySelector('.masthead').offsetHeight") < 70
    page.goto("/")
    page.locator(".menu summary").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("searchbox", name="Go to")).to_be_focused()
    page.keyboard.type("kind 37")
    assert page.locator(".menu section:visible").count() == 1
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/things-of-kind-37$"))
    page.locator(".menu summary").focus()
    page.keyboard.press("Enter")
    page.keyboard.press("Escape")
    expect(page.locator("details.menu")).not_to_have_attribute("open", "")
    context.close()


def test_nothing_moves_when_a_check_says_something(page: Page) -> None:
    page.goto("/keepers/new")
    below = page.get_by_label("Joined")
    before = below.bounding_box()
    page.get_by_label("Email").focus()
    page.keyboard.type("nobody")
    page.keyboard.press("Tab")
    expect(page.locator("#email-problem")).not_to_have_text("")
    assert below.bounding_box() == before
    page.get_by_role("button", name="Save", exact=True).press("Enter")
    expect(page.get_by_label("Email")).to_be_visible()


def test_save_is_in_sight_on_a_long_form(page: Page) -> None:
    page.goto("/hives/new")
    box = page.get_by_role("button", name="Save", exact=True).bounding_box()
    assert box and box["y"] + box["height"] <= 800


def test_shift_ticks_all_between(page: Page) -> None:
    page.goto("/keepers")
    boxes = page.locator('input[name="_row"]')
    boxes.nth(1).click()
    boxes.nth(6).click(modifiers=["Shift"])
    assert page.locator('input[name="_row"]:checked').count() == 6
    expect(page.locator("#_chosen-count")).to_have_text(" (6)")


def test_what_cannot_be_reached_is_said(page: Page) -> None:
    page.goto("/keepers")
    page.context.set_offline(True)
    page.get_by_role("searchbox").focus()
    page.keyboard.type("an")
    expect(page.locator("#_offline")).to_be_visible()
    page.context.set_offline(False)
    page.keyboard.type("n")
    expect(page.locator("#_offline")).to_be_hidden()
