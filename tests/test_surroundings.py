"""Commands where a disk is full, a folder can't be written, an address is nobody's; and the
served site while its code changes."""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from conftest import WELBIK, Project
from served import Visitor


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A file system of two megabytes, where this machine lets one be made."""
    place = tmp_path / "disk"
    place.mkdir()
    options = ["-t", "tmpfs", "-o", "size=2m", "tmpfs", str(place)]
    if shutil.which("mount") is None or subprocess.run(["mount", *options], check=False).returncode:
        pytest.skip("no file system can be mounted here")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=True)


def _fill_up(place: Path) -> Path:
    path = place / "ballast"
    with path.open("wb", buffering=0) as file, suppress(OSError):
        while file.write(b"x" * 4096):
            pass
    return path


WRITING = (
    ("build",),
    ("migrate",),
    ("add", "Hive", "note text 20"),
    ("diagram", "--output", "models.svg"),
    ("diagram", "--output", "models.png"),
)


@pytest.mark.parametrize("words", WRITING, ids=" ".join)
def test_a_full_disk_is_one_error_and_nothing_is_lost(
    small_disk: Path, words: tuple[str, ...]
) -> None:
    Project(small_disk).run("init", "bees")
    project = Project(small_disk / "bees")
    _fill_up(small_disk)
    before = project.files()
    said = project.run(*words, code=1).stderr
    assert "No space left" in said or "disk" in said
    assert project.files() == before


def test_a_fill_on_a_full_disk_stores_all_or_nothing(small_disk: Path) -> None:
    Project(small_disk).run("init", "bees")
    project = Project(small_disk / "bees")
    for command in ("build", "migrate"):
        project.run(command)
    ballast = _fill_up(small_disk)
    project.run("fill", code=1)
    ballast.unlink()
    assert "72 rows added" in project.run("fill").stdout
    assert "All in step" in project.run("status").stdout


def test_a_folder_that_is_not_there_or_can_not_be_written(project: Project) -> None:
    for where, said in (
        ("nowhere/models.svg", "no folder nowhere"),
        ("/proc/models.png", "can't be written"),
        ("/proc/models.svg", "can't be written"),
    ):
        assert said in project.run("diagram", "--output", where, code=1).stderr
    assert "can't be made" in project.run("init", "/proc/bees", code=1).stderr


@pytest.mark.parametrize("host", ["192.0.2.77", "nobody.invalid"])
def test_an_address_of_another_machine_is_told_from_a_port_that_is_taken(
    built: Project, host: str
) -> None:
    said = built.run("serve", "--host", host, code=2).stderr
    assert "names an address of this machine" in said and "another port" not in said


@pytest.mark.parametrize(
    "surroundings",
    [{"PYTHONIOENCODING": "ascii"}, {"LC_ALL": "C", "LANG": "C"}, {"HOME": "/nonexistent"}, {"TERM": "dumb"}],
)  # fmt: skip
def test_commands_need_no_home_and_no_certain_locale(
    built: Project, surroundings: dict[str, str]
) -> None:
    for words in (("check",), ("show", "Hive"), ("status",), ("sample", "Hive"), ("diagram",)):
        built.run(*words, **surroundings)


def test_a_reader_that_goes_is_no_error(built: Project) -> None:
    for words in ("sample Hive --rows 3000 --format csv", "show --json", "migrate --sql", "check"):
        shell = f"{WELBIK} {words} | head -1; exit ${{PIPESTATUS[0]}}"
        done = subprocess.run(
            ["bash", "-c", shell], cwd=built.root, capture_output=True, text=True, check=False
        )
        assert (done.returncode, done.stderr) == (0, "")


def test_what_is_said_in_a_pipe_holds_no_bar_and_no_colour(project: Project) -> None:
    for command in ("build", "migrate", "fill", "status"):
        done = project.run(command)
        assert done.stderr == "" and "\x1b" not in done.stdout and "Filling" not in done.stdout


def test_a_served_site_follows_a_build_and_logs_json(built: Project) -> None:
    process = subprocess.Popen(
        [WELBIK, "serve", "--port", "0"], cwd=built.root, text=True, stdout=subprocess.PIPE,
        stderr=subprocess.PIPE, env={**os.environ, "PYTHONUNBUFFERED": "1"},
    )  # fmt: skip
    assert process.stdout and process.stderr
    try:
        found = re.search(r"http://[\d.:]+", process.stdout.readline())
        assert found
        visitor = Visitor(found.group())
        assert visitor.ask("/hives").status == 200
        built.replace("models/bees.welbik", "    frames ", "    notes   text 200\n    frames ")
        for command in ("build", "migrate"):
            built.run(command)
        _until(lambda: 'name="notes"' in visitor.ask("/hives/1/edit").text)
        # Code that can't be loaded is told, and what was there goes on.
        built.replace("bees/hive/form.py", "from ..kit", "from ..kitt")
        _until(lambda: visitor.ask("/hives/1/edit").status != 200 or _is_told(process))
        assert visitor.ask("/hives/1/edit").status == 200
        visitor.ask("/nowhere/%1b%5b31m%e2%80%ae")
    finally:
        process.terminate()
        rest = process.communicate(timeout=20)[1]
    lines = [*_told, *rest.splitlines()]
    assert lines and all("message" in json.loads(line) for line in lines)
    assert not any("\x1b" in line or "\u202e" in line for line in lines)


_told: list[str] = []


def _is_told(process: subprocess.Popen[str]) -> bool:
    """Whether the log has come to say that the new code can't be loaded."""
    assert process.stderr
    _told.append(process.stderr.readline())
    return "still served" in _told[-1]


def _until(holds: Callable[[], bool]) -> None:
    for _ in range(400):
        if holds():
            return
    raise AssertionError("it never came to hold")


def test_a_name_that_is_nearly_anothers_is_asked_about(project: Project) -> None:
    before = project.files()
    said = project.run("add", "Hiev", "foo text 5", code=2).stderr
    assert "did you mean Hive" in said and "--new" in said
    assert project.files() == before
    assert "made Hiev" in project.run("add", "Hiev", "foo text 5", "--new").stdout


def test_a_folder_of_any_name_becomes_a_project(empty: Project) -> None:
    said = empty.run("init", "Tier Ärzte 2").stdout
    assert "cd 'Tier Ärzte 2' && welbik build" in said
    made = Project(empty.root / "Tier Ärzte 2")
    assert 'package = "tier_arzte_2"' in made.read("welbik.toml")
    made.run("build")


CELLS = """\
model Kind
    name    text 2..20, required, unique
    state   one of on | off
    like    -> Kind
rows Kind
    name | state | like
    Cat  | on    |
    Great tall dog | off | Cat
    "Owl" | on | Great tall dog
"""


def test_cells_of_words_need_no_quotes(make: Callable[[str], Project]) -> None:
    project = make(CELLS)
    assert "no problems" in project.run("check").stdout
    project.run("tidy")
    assert "Great tall dog" in project.read("models/bees.welbik")
    rows = json.loads(project.run("sample", "Kind", "--rows", "3", "--format", "json").stdout)
    assert [(row["name"], row["like"]) for row in rows] == [
        ("Cat", None), ("Great tall dog", "Cat"), ("Owl", "Great tall dog")
    ]  # fmt: skip


def test_show_keeps_to_the_width_of_the_terminal(built: Project) -> None:
    for width in ("80", "100", "140"):
        for words in (("show",), ("show", "Hive"), ("show", "Keeper")):
            lines = built.run(*words, COLUMNS=width).stdout.splitlines()
            assert max(map(len, lines)) <= int(width)
