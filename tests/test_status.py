"""Status: one line for each thing that may be out of step, and the command that mends it."""

from __future__ import annotations

import re
import sqlite3
import subprocess
from collections.abc import Callable

import pytest
from conftest import WELBIK, Project


def _status(project: Project) -> dict[str, str]:
    done = subprocess.run(
        [WELBIK, "status"], cwd=project.root, capture_output=True, text=True, check=False
    )
    assert "Traceback" not in done.stderr
    # A remedy that is no command has a line of its own.
    said = re.sub(r"\n {9,}→", " →", done.stdout)
    lines = [line.split(maxsplit=1) for line in said.splitlines() if line.startswith("  ")]
    assert (done.returncode == 0) == ("All in step" in done.stdout)
    assert len(done.stdout.splitlines()) < 20
    return dict(lines)


def _edit(project: Project) -> None:
    project.replace("bees/hive/form.py", "default=11", "default=10")
    project.replace(
        "models/bees.welbik",
        "frames  integer 4..24, required, default 11",
        "frames  integer 4..24, required, default 12",
    )


def _without_rows(project: Project) -> None:
    with sqlite3.connect(project.root / "bees.db") as connection:
        connection.execute("DELETE FROM hive WHERE id > 10")


OUT_OF_STEP: list[tuple[Callable[[Project], object], str, str, str]] = [
    (
        lambda p: p.declare("model Hive\n    code txt\n"),
        "declarations",
        "1 problem",
        "welbik check",
    ),
    (
        lambda p: (p.root / "bees/hive/form.py").unlink(),
        "code",
        "1 file that you took out",
        "--theirs",
    ),
    (_edit, "code", "1 file where your lines and the declarations clash", "welbik build"),
    (
        lambda p: p.replace("models/bees.welbik", "    frames ", "    notes text\n    frames "),
        "migrations",
        "1 change",
        "welbik migrate",
    ),
    (lambda p: (p.root / "bees.db").unlink(), "database", "no database", "welbik migrate"),
    (
        lambda p: (p.root / "bees.db").write_text("nonsense" * 99),
        "database",
        "not a database",
        "check the path",
    ),
    (_without_rows, "rows", "10 of 40 Hive", "welbik fill"),
    (
        lambda p: next((p.root / "migrations").iterdir()).write_text("x"),
        "migrations",
        "can't be read",
        "version control",
    ),
]


@pytest.mark.parametrize(("disturb", "subject", "state", "command"), OUT_OF_STEP)
def test_what_is_out_of_step_is_named_with_its_remedy(
    built: Project, disturb: Callable[[Project], object], subject: str, state: str, command: str
) -> None:
    assert set(_status(built)) == {"declarations", "code", "migrations", "database", "rows"}
    disturb(built)
    found = _status(built)
    assert state in found[subject] and command in found[subject]


def test_a_clone_without_a_database_is_led_to_one(built: Project) -> None:
    (built.root / "bees.db").unlink()
    for command in ("migrate", "fill"):
        built.run(command)
    assert "45 in 2 tables" in _status(built)["rows"]
