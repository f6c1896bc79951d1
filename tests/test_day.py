"""A day's work with the keyboard alone, on the register and on a site of forty models."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from conftest import CHROMIUM, Project
from playwright.sync_api import Browser, Locator, Page, expect
from served import served
from test_pages import AXE

pytestmark = pytest.mark.skipif(
    CHROMIUM is None and not os.environ.get("CI"), reason="no Chromium on this machine"
)
expect.set_options(timeout=20_000)
TABLE = (Path(__file__).parent.parent / "docs" / "site.md").read_text("utf-8")


@pytest.fixture(scope="module")
def shop(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """A site with whatever a page can have, the same rows each time."""
    project = Project(tmp_path_factory.mktemp("shop"))
    project.write("welbik.toml", 'package = "bees"\ndatabase = "sqlite:///bees.db"\n')
    project.declare(SHOP)
    for command in ("build", "migrate", "fill"):
        project.run(command)
    with served(project) as address:
        yield address


SHOP = """\
model Yard
    name    text 1..20, required, unique
    crates  <- Crate.yard

model Crate
    yard    -> Yard, required, owned
    label_  text 1..20, required
    weight  integer 1..99
    list label_, weight

model Hive
    code    text 4..4, required, unique, matches "[A-Z]{2}[0-9]{2}"
    yard    -> Yard, required
    kind    one of national | long | warre
    frames  integer 1..24, required
    opened  date 2020-01-01..2030-01-01
    note    text 200
    list code, yard, kind, frames, opened
    filter kind, frames
    search code
    sort code
    keep bin, history

model Wide
    name    text 4..9, required
    first   integer 1..9, label "A first number with a long name"
    second  integer 1..9, label "A second number with a long name"
    third   integer 1..9, label "A third number with a long name"
    last    integer 1..9, label "The last number"
    list name, first, second, third, last

seed
    5 Wide
    4 Yard
    12 Crate
    60 Hive
"""


class Hands:
    """Presses keys and counts them, less those that type what is to be said."""

    def __init__(self, page: Page) -> None:
        self.page = page
        self.keys = 0

    def press(self, *keys: str) -> None:
        for key in keys:
            self.keys += 1
            if key.startswith("Alt+"):
                self._access(key[-1])
            else:
                self.page.keyboard.press(key)

    def _access(self, key: str) -> None:
        """An access key, as a real keyboard sends it, once the page that has it is there."""
        self.page.wait_for_load_state()
        expect(self.page.locator(f'[accesskey="{key}"]').first).to_be_visible()
        session = self.page.context.new_cdp_session(self.page)
        sent = {"type": "keyDown", "modifiers": 1, "key": key, "code": f"Key{key.upper()}"}
        sent |= {"unmodifiedText": key, "windowsVirtualKeyCode": ord(key.upper())}
        session.send("Input.dispatchKeyEvent", sent)
        session.detach()

    def type(self, text: str) -> None:
        self.page.keyboard.type(text)

    def reach(self, place: Locator, key: str = "Tab") -> None:
        """Presses Tab till a control has the focus."""
        expect(place).to_be_visible()
        for _ in range(40):
            if place.evaluate("node => node === document.activeElement"):
                return
            self.press(key)
        raise AssertionError(f"{place} is not reached")

    def follow(self, place: Locator, key: str = "Tab") -> None:
        self.reach(place, key)
        self.press("Enter")


@pytest.fixture
def hands(browser: Browser, shop: str) -> Iterator[Hands]:
    context = browser.new_context(
        base_url=shop, viewport={"width": 1280, "height": 800}, locale="en-GB"
    )
    page = context.new_page()
    page.set_default_timeout(15_000)
    yield Hands(page)
    context.close()


def _button(page: Page, name: str) -> Locator:
    return page.get_by_role("button", name=name, exact=True)


def _saved(hands: Hands) -> None:
    expect(hands.page.get_by_role("status").first).to_contain_text("saved")


def another_row(hands: Hands) -> None:
    """Ten rows in a row: one more like the last"""
    page = hands.page
    page.goto("/hives/new?yard=2")
    for number in (1, 2):
        hands.keys = 0
        expect(page.get_by_label("Code")).to_be_focused()
        hands.type(f"QQ0{number}")
        hands.reach(page.get_by_label("Frames"))
        hands.type("9")
        hands.press("Alt+n")
        _saved(hands)
    assert page.get_by_label("Yard").input_value() == "2"


def copy_of_a_row(hands: Hands) -> None:
    """A copy of a row, with another code"""
    page = hands.page
    page.goto("/hives?_search=QQ01")
    page.locator("tbody th a").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("QQ01")
    hands.press("Alt+c")
    expect(page.get_by_label("Code")).to_be_focused()
    hands.type("QQ03")
    hands.press("Enter")
    _saved(hands)


def change_found(hands: Hands) -> None:
    """From the first page to a row known by its name, and one field of it changed"""
    page = hands.page
    page.goto("/")
    hands.press("Alt+f")
    hands.type("QQ02")
    hands.press("Enter")
    hands.follow(page.get_by_role("link", name="QQ02"))
    expect(page.get_by_role("heading", level=1)).to_have_text("QQ02")
    hands.press("Alt+e")
    hands.reach(page.get_by_label("Frames"))
    hands.type("8")
    hands.press("Enter")
    _saved(hands)


def filter_a_range(hands: Hands) -> None:
    """A list filtered by a range"""
    page = hands.page
    page.goto("/hives")
    hands.press("Alt+l")
    hands.reach(page.get_by_label("Frames from"))
    hands.type("10")
    hands.press("Tab")
    hands.type("12")
    hands.press("Enter")
    expect(page).to_have_url(re.compile("frames=10..12"))


def row_after_row(hands: Hands) -> None:
    """On to the next row of a list, changed and saved"""
    page = hands.page
    page.goto("/hives?frames=2..20")
    page.locator("tbody th a").first.click()
    hands.press("Alt+x")
    expect(page).not_to_have_url(re.compile("frames"))
    hands.press("Alt+e")
    hands.reach(page.get_by_label("Note"))
    hands.type("Seen")
    hands.reach(_button(page, "Save"))
    hands.press("Enter")
    _saved(hands)
    # The list as it was is where this leads.
    expect(page).to_have_url(re.compile(r"/hives\?frames=2\.\.20#_row-"))


def remove_and_undo(hands: Hands) -> None:
    """A row removed, and that taken back"""
    page = hands.page
    page.goto("/hives?_search=QQ03")
    page.locator("tbody th a").click()
    hands.press("Alt+r")
    hands.follow(_button(page, "Remove"))
    expect(page.get_by_role("status").first).to_contain_text("removed")
    hands.press("Alt+u")
    expect(page.get_by_role("status").first).to_contain_text("restored")


def all_that_match(hands: Hands) -> None:
    """One field set on all rows that match, and that taken back"""
    page = hands.page
    page.goto("/hives?frames=2..20&_size=10")
    hands.press("Alt+a")
    expect(page.get_by_label("that match")).to_be_checked()
    hands.press("Alt+t")
    expect(page.get_by_label("Set one field")).to_be_focused()
    hands.type("Note")
    hands.follow(_button(page, "Go on"))
    expect(page.get_by_label("Note")).to_be_visible()
    hands.reach(page.get_by_label("Note"))
    hands.type("All the same")
    hands.press("Enter")
    hands.follow(page.get_by_role("button", name="Set it on"))
    expect(page.get_by_role("status").first).to_contain_text("Note is set on")
    hands.press("Alt+u")
    expect(page.get_by_role("status").first).to_contain_text("Note is as it was before on")


def move_a_child(hands: Hands) -> None:
    """What is part of a row moved to another"""
    page = hands.page
    page.goto("/crates")
    page.locator("tbody th a").first.click()
    hands.follow(page.get_by_role("link", name="Move", exact=True))
    expect(page.get_by_label("Yard")).to_be_visible()
    hands.reach(page.get_by_label("Yard"))
    hands.press("ArrowDown")
    hands.follow(_button(page, "See what happens"))
    hands.follow(page.get_by_role("button", name="Set it on"))
    expect(page.get_by_role("status").first).to_contain_text("Yard is set on 1 crate")


def compare_two(hands: Hands) -> None:
    """Two rows of a list compared"""
    page = hands.page
    page.goto("/hives?_search=QQ")
    hands.press("Alt+f")
    hands.reach(page.locator('input[name="_row"]').first)
    hands.press("Space", "Tab", "Tab", "Tab", "Space")
    hands.press("Alt+m")
    expect(page.get_by_role("heading", level=1)).to_have_text("2 hives side by side")


def go_to_a_list(hands: Hands) -> None:
    """To another list from anywhere"""
    page = hands.page
    page.goto("/hives/new")
    hands.reach(page.get_by_role("link", name="Crates"), "Shift+Tab")
    hands.press("Enter")
    expect(page).to_have_url(re.compile("/crates$"))


TASKS = (
    another_row,
    copy_of_a_row,
    change_found,
    filter_a_range,
    row_after_row,
    remove_and_undo,
    all_that_match,
    move_a_child,
    compare_two,
    go_to_a_list,
)


def test_ten_tasks_take_as_many_keys_as_is_said(hands: Hands) -> None:
    measured = {}
    for task in TASKS:
        hands.keys = 0
        task(hands)
        measured[str(task.__doc__)] = hands.keys
    told = {words: int(keys) for words, keys in re.findall(r"^\| (.+?) \| (\d+) \|$", TABLE, re.M)}
    assert {words: told.get(words) for words in measured} == measured
    assert max(measured.values()) <= 25


def test_ticks_are_kept_while_paging(hands: Hands) -> None:
    page = hands.page
    page.goto("/hives?_size=10")
    page.locator('input[name="_row"]').nth(2).check()
    page.get_by_role("link", name="Further").first.click()
    expect(page.get_by_text("11–20 of").first).to_be_visible()
    expect(page.locator("#_chosen-count")).to_have_text(" (1, 1 of them on other pages)")
    page.locator('input[name="_row"]').nth(0).check()
    expect(page.locator("#_chosen-count")).to_have_text(" (2, 1 of them on other pages)")
    box = page.locator(".with").bounding_box()
    assert box and box["y"] + box["height"] <= 801
    _button(page, "Compare").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("2 hives side by side")
    page.go_back()
    expect(page.locator("#_chosen-count")).to_have_text(" (2, 1 of them on other pages)")
    _button(page, "Choose none").click()
    page.goto("/hives?_size=10")
    expect(page.locator("#_chosen-count")).to_have_text("")


def test_the_sorted_column_is_in_sight(hands: Hands) -> None:
    page = hands.page
    page.set_viewport_size({"width": 760, "height": 800})
    page.goto("/wides?_sort=last")
    assert page.locator(".table").evaluate("t => t.scrollWidth > t.clientWidth")
    expect(page.locator("th[aria-sort]")).to_be_in_viewport(ratio=0.99)


MOVED = """
window.moved = 0;
new PerformanceObserver((list) => {
  for (const one of list.getEntries()) window.moved += one.value;
}).observe({ type: "layout-shift", buffered: true });
"""


def test_nothing_moves_while_a_form_is_checked(hands: Hands) -> None:
    page = hands.page
    page.add_init_script(MOVED)
    page.goto("/hives/new")
    for name in ("Code", "Frames", "Opened", "Note"):
        page.get_by_label(name).focus()
        hands.type("x9")
        hands.press("Tab")
    expect(page.locator("#code-problem")).not_to_have_text("")
    expect(page.locator("#yard-problem, #frames-problem").first).to_be_attached()
    # A part of a date gets narrower by what is typed into it.
    assert page.evaluate("window.moved") < 0.0001


GROUPS = ("People", "Places", "Things", "Work", "Papers")


def _forty() -> str:
    """Forty models, each with another mixture of what there is."""
    texts = []
    for n in range(40):
        lines = [f'model Kind{n} "Rows of kind number {n}, of which there are many"']
        lines += ["    name    text 1..40, required, unique"]
        lines += [f"    other   -> Kind{n - 1}" if n else "    email   email"]
        lines += [f"    above   -> Kind{n}"] if n % 5 == 0 else []
        lines += ["    averyveryverylongnamewithoutanybreak text 1..90"] if n % 4 == 0 else []
        lines += ["    choice  one of red | green | blue"] if n % 2 else []
        lines += ["    amount  decimal 0.00..9999.99", "    when_   datetime"] if n % 3 == 0 else []
        lines += ["    picture image", "    paper   file"] if n % 7 == 3 else []
        lines += ["    sizes   list of Size"] if n % 7 == 4 else []
        lines += [f"    marks   <-> Kind{n - 2}"] if n % 6 == 5 else []
        lines += ["    list name, other" if n else "    list name"]
        lines += [["    keep history", "    keep times", "    keep bin", ""][n % 4]]
        lines += [f'    menu "{GROUPS[n % 5]}"', "    search name", ""]
        texts.append("\n".join(lines))
    seed = "".join(f"    6 Kind{n}\n" for n in range(40))
    part = "part Size\n    width  integer 1..9, required\n    height integer 1..9\n\n"
    return f"{part}{chr(10).join(texts)}\nseed\n{seed}"


@pytest.fixture(scope="module")
def forty(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    project = Project(tmp_path_factory.mktemp("forty-kinds"))
    project.write("welbik.toml", 'package = "bees"\ndatabase = "sqlite:///bees.db"\n')
    project.declare(_forty())
    for command in ("build", "migrate", "fill"):
        project.run(command)
    with served(project) as address:
        yield address


ALL_PATHS = ("", "?_filter=open", "?_columns=*", "/new", "/1", "/1/edit", "/1/remove")


@pytest.mark.parametrize("some", range(2))
def test_every_page_of_forty_models_fits_a_telephone_and_shuts_nobody_out(
    browser: Browser, forty: str, some: int
) -> None:
    context = browser.new_context(
        base_url=forty, locale="en-GB", viewport={"width": 320, "height": 740}, bypass_csp=True
    )
    page = context.new_page()
    found = []
    for n in range(some, 40, 2):
        paths = ("",) if n >= 8 else ALL_PATHS
        for path in paths:
            page.goto(f"/kind{n}s{path}")
            assert page.locator("main").count() == 1
            wide = page.evaluate("document.documentElement.scrollWidth")
            found += [f"{page.url}: {wide} wide"] if wide > 320 else []
            # What is the same on all models is looked at on some.
            if n < 8:
                page.evaluate(AXE)
                told = page.evaluate("axe.run({resultTypes: ['violations']})")["violations"]
                found += [f"{page.url}: {v['id']}: {v['nodes'][0]['html'][:90]}" for v in told]
    assert found == []
    context.close()


def test_the_first_page_is_small_and_says_where_all_is(browser: Browser, forty: str) -> None:
    context = browser.new_context(
        locale="en-GB", base_url=forty, viewport={"width": 360, "height": 740}
    )
    page = context.new_page()
    sizes = {}
    page.on("requestfinished", lambda one: sizes.update({one.url: one.sizes()["responseBodySize"]}))
    page.goto("/", wait_until="networkidle")
    assert sum(sizes.values()) < 40_000, sizes
    for group in GROUPS:
        tiles = page.get_by_role("region", name=group)
        assert tiles.get_by_role("link").count() == 8
    assert page.locator(".masthead").evaluate("node => node.offsetHeight") < 70
    expect(page.get_by_role("heading", name="Changed last")).to_be_visible()
    page.goto("/kind3s")
    page.locator(".menu summary").focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("searchbox", name="Go to")).to_be_focused()
    page.keyboard.type("no page is called so")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("_search=no"))
    context.close()
