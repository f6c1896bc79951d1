"""Takes every picture in this folder anew, from the demo project: make screenshots.

Needs Debian's chromium, xvfb, xterm, imagemagick and fonts-dejavu.
"""

from __future__ import annotations

import os
import re
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

HERE = Path(__file__).parent
BIN = Path(sys.executable).parent
SIZE = {"width": 1280, "height": 800}


def pages(address: str) -> None:
    """Pictures of the served site."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox"]
        )
        page = browser.new_context(locale="en-GB", base_url=address, viewport=SIZE).new_page()
        page.goto("/hives?frames=8..12&kind=national,long&_sort=-total_kg&_filter=open")
        page.screenshot(path=HERE / "list.png")
        hive = page.locator("tbody th a").first.get_attribute("href")
        page.goto(f"{hive}")
        page.get_by_role("navigation", name="What belongs to it").scroll_into_view_if_needed()
        page.evaluate("scrollBy(0, 400)")
        page.screenshot(path=HERE / "view.png")
        page.goto("/apiaries/3/remove")
        page.screenshot(path=HERE / "remove.png")
        _problems(page)
        _conflict(page, f"{hive}/edit")
        _across(page, f"{hive}/edit")
        phone = browser.new_page(
            locale="en-GB", base_url=address, viewport={"width": 360, "height": 740}
        )
        phone.emulate_media(color_scheme="dark")
        phone.goto("/inspections?temper=nervous")
        phone.screenshot(path=HERE / "phone.png")
        browser.close()


def reported(folder: Path) -> None:
    """What is stored beside what is declared: the page, and the picture."""
    for output in ("report.html", "overview.png"):
        report = [BIN / "welbik", "report", "--output", output]
        subprocess.run(report, cwd=folder, check=True, capture_output=True)
    shutil.copy(folder / "overview.png", HERE / "overview.png")
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox"]
        )
        page = browser.new_page(locale="en-GB", viewport=SIZE)
        page.goto(f"file://{folder / 'report.html'}#Hive")
        page.screenshot(path=HERE / "report.png")
        browser.close()


SHOP = HERE.parent.parent / "tests/schemas/sqlite.sql"
"""Forty tables as many hands left them."""


def adopted(folder: Path) -> None:
    """What would be declared of tables that are there, and the first page of their site."""
    folder.mkdir()
    with sqlite3.connect(folder / "shop.db") as database:
        database.executescript(SHOP.read_text("utf-8"))
    some = "--tables customers --tables jars --tables prices"
    terminal("adopt", folder, f"welbik adopt sqlite:///shop.db shop {some} --preview")
    adopt = [BIN / "welbik", "adopt", "sqlite:///shop.db", "shop", "--without", "a_table*"]
    subprocess.run(adopt, cwd=folder, check=True, capture_output=True)
    for command in ("build", "migrate"):
        run = [BIN / "welbik", command]
        subprocess.run(run, cwd=folder / "shop", check=True, capture_output=True)
    with _served(folder / "shop") as address, sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=shutil.which("chromium"), args=["--no-sandbox"]
        )
        page = browser.new_page(locale="en-GB", base_url=address, viewport=SIZE)
        page.goto("/")
        page.locator(".menu summary").click()
        page.keyboard.type("or")
        page.screenshot(path=HERE / "adopted.png")
        browser.close()


def _problems(page: Page) -> None:
    page.goto("/hives/new")
    page.locator("form").evaluate("form => form.noValidate = true")
    page.get_by_label("Code").fill("hive 7")
    page.get_by_label("Frames").fill("40")
    page.get_by_label("Closed").fill("2026-01-01")
    page.get_by_role("button", name="Save", exact=True).click()
    page.screenshot(path=HERE / "form.png")


def _conflict(page: Page, path: str) -> None:
    """Two people who change the same hive."""
    other = page.context.new_page()
    for one in (page, other):
        one.goto(path)
    for one, frames in ((other, "14"), (page, "13")):
        one.get_by_label("Frames").fill(frames)
        one.locator("form").evaluate("form => form.noValidate = true")
        if one is other:
            one.get_by_label("Reason").fill("Joined with the colony beside it")
        one.get_by_role("button", name="Save", exact=True).click()
    page.screenshot(path=HERE / "conflict.png")
    other.close()


def _across(page: Page, path: str) -> None:
    """A hive with fewer frames than its inspections count brood in."""
    page.goto(path)
    page.get_by_label("Frames").fill("4")
    page.get_by_role("button", name="Save", exact=True).click()
    page.get_by_label("Frames").scroll_into_view_if_needed()
    page.evaluate("scrollTo(0, 0)")
    page.screenshot(path=HERE / "rule.png")


def terminal(name: str, folder: Path, command: str) -> None:
    """A picture of a command in a terminal of its own."""
    display = ":87"
    screen = subprocess.Popen(["Xvfb", display, "-screen", "0", "1280x800x24", "-nolisten", "tcp"])
    time.sleep(1)
    script = folder / "run.sh"
    script.write_text(
        f"printf '\\033[1;32m$\\033[0m {command}\\n'\n{command}\ntouch done\nsleep 60\n"
    )
    environment = {**os.environ, "DISPLAY": display, "PATH": f"{BIN}:{os.environ['PATH']}"}
    look = [
        "-geometry",
        "126x40+0+0",
        "-fa",
        "DejaVu Sans Mono",
        "-fs",
        "12",
        "-bg",
        "#14171c",
        "-fg",
        "#e6e6e6",
        "-b",
        "12",
        "+sb",
    ]
    window = subprocess.Popen(
        ["xterm", *look, "-e", "bash", script.name], cwd=folder, env=environment
    )
    while not (folder / "done").exists():
        time.sleep(0.1)
    time.sleep(0.7)
    subprocess.run(["import", "-window", "root", HERE / f"{name}.png"], env=environment, check=True)
    window.terminate()
    screen.terminate()
    (folder / "done").unlink()
    script.unlink()


def commands(folder: Path) -> None:
    """Pictures of the commands' output."""
    elsewhere = "export DATABASE_URL=sqlite:///load.db; welbik migrate"
    stopped = "timeout -s INT 9 welbik fill --profile load"
    terminal("sample", folder, f"welbik sample Hive --rows 12; {elsewhere}; {stopped}")
    asked = "--columns code,apiary.keeper,apiary,queen,frames,opened,total_kg --sort -total_kg"
    some = '--where "frames > 12 and closed is empty"'
    terminal("peek", folder, f"welbik peek Hive --rows 12 {some} {asked}")
    _merges(folder)
    picture = ["diagram", "--output", str(HERE / "diagram.png")]
    subprocess.run([BIN / "welbik", *picture], cwd=folder, check=True)
    declared = folder / "models" / "hives.welbik"
    text = declared.read_text("utf-8")
    declared.write_text(
        text.replace("integer 4..24", "intger 4..24")
        .replace("-> Apiary, req", "-> Apiry, req")
        .replace("brood <= hive.frames", "brood <= hive.code")
        .replace("12.0..25.0, ", "12.0..25.0, >= 30, "),
        "utf-8",
    )
    terminal("check", folder, "welbik check")
    declared.write_text(
        text.replace("    frames ", "    weight      decimal 0..99.9\n    frames "), "utf-8"
    )
    with sqlite3.connect(folder / "beekeepers.db") as database:
        database.execute("ALTER TABLE queen ADD COLUMN temper TEXT")
    terminal("status", folder, "welbik status")
    with sqlite3.connect(folder / "beekeepers.db") as database:
        database.execute("ALTER TABLE queen DROP COLUMN temper")
    declared.write_text(
        text.replace("integer 4..24, required, default 11", "integer 4..13, required, default 11")
        .replace('"[A-Z]{1,2}[0-9]{1,4}"', '"[A-Z]{2}[0-9]{1,4}"')
        .replace('    moisture    decimal 12.0..25.0, unit "%", sample normal(17.8, 0.9)\n', ""),
        "utf-8",
    )
    terminal("risks", folder, "welbik migrate --preview")
    declared.write_text(text, "utf-8")


def _merges(folder: Path) -> None:
    """A build over files that were edited, one of which clashes; all is as it was afterwards."""
    declared, package = folder / "models/hives.welbik", folder / "beekeepers"
    edits = {
        package / "hive/pages/list.html": ("New hive</a>", "Add a hive</a>"),
        package / "hive/form.py": ("high=24", "high=20"),
        package / "hive/model.py": (
            "    def __str__",
            "    @property\n    def is_open(self) -> bool:\n        return self.closed is None\n\n    def __str__",
        ),
        declared: ("integer 4..24, required, default 11", "integer 4..30, required, default 11"),
    }
    before = {path: path.read_text("utf-8") for path in edits}
    for path, (old, new) in edits.items():
        assert old in before[path]
        path.write_text(before[path].replace(old, new, 1), "utf-8")
    text = declared.read_text("utf-8")
    declared.write_text(text.replace("apiary, kind, frames, total_kg", "apiary, kind, frames, opened, total_kg"), "utf-8")  # fmt: skip
    terminal("build", folder, "welbik build --preview; welbik build")
    for path, text in before.items():
        path.write_text(text, "utf-8")


@contextmanager
def _served(folder: Path) -> Iterator[str]:
    site = subprocess.Popen(
        [BIN / "welbik", "serve", "--port", "0"], cwd=folder, stdout=subprocess.PIPE, text=True
    )
    try:
        assert site.stdout
        found = re.search(r"http://[\d.:]+", site.stdout.readline())
        assert found
        yield found.group()
    finally:
        site.terminate()


def main() -> None:
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary) / "beekeepers"
        terminal("demo", Path(temporary), "welbik demo --once")
        with _served(folder) as address:
            pages(address)
        reported(folder)
        adopted(Path(temporary) / "adopted")
        commands(folder)


if __name__ == "__main__":
    main()
