"""On a real terminal: questions, colour, progress."""

from __future__ import annotations

import os
import pty
import select
import signal
import subprocess
import time
from dataclasses import dataclass

import pytest
from conftest import WELBIK, Project

KIND = '    kind    one of national | long "Long hive", default national\n'


@dataclass
class Session:
    code: int
    text: str


def terminal(
    project: Project, *arguments: str, waits_for: str = "", answer: str = "", **environment: str
) -> Session:
    """Runs the command on a pseudo-terminal; answers once it says what is waited for."""
    ours, theirs = pty.openpty()
    variables = {k: v for k, v in os.environ.items() if k != "NO_COLOR"}
    process = subprocess.Popen(
        [WELBIK, *arguments], cwd=project.root, stdin=theirs, stdout=theirs, stderr=theirs,
        env={**variables, "TERM": "xterm", **environment}, start_new_session=True,
    )  # fmt: skip
    os.close(theirs)
    text, asked, end = "", False, time.monotonic() + 60
    while time.monotonic() < end:
        if ours in select.select([ours], [], [], 0.2)[0]:
            try:
                text += os.read(ours, 65536).decode()
            except OSError:  # Linux says so when the other side is closed.
                break
            if waits_for and waits_for in text and not asked and answer != "ctrl-c":
                os.write(ours, answer.encode())
                asked = True
        elif process.poll() is not None:
            break
        elif waits_for in text and answer == "ctrl-c":
            # A signal just before the read begins is lost: people press again, too.
            os.killpg(process.pid, signal.SIGINT)
    os.close(ours)
    return Session(process.wait(timeout=20), text)


@pytest.mark.parametrize(("answer", "code"), [("n\n", 1), ("\n", 1), ("ctrl-c", 130)])
def test_a_column_stays_unless_the_answer_is_yes(built: Project, answer: str, code: int) -> None:
    built.replace("models/bees.welbik", KIND, "")
    before = built.files()
    said = terminal(built, "migrate", waits_for="[y/N]", answer=answer)
    assert said.code == code, said.text
    assert "Traceback" not in said.text
    assert built.files() == before


def test_a_column_goes_after_a_yes(built: Project) -> None:
    built.replace("models/bees.welbik", KIND, "")
    said = terminal(built, "migrate", waits_for="[y/N]", answer="y\n")
    assert (
        said.code == 0
        and "hive.kind: 40 rows losing their value" in said.text
        and "Let 40 values go?" in said.text
    )
    assert "ran 0002-drop-hive-kind" in said.text


def test_colour_on_a_terminal_unless_no_color(project: Project) -> None:
    project.declare("model Hive\n    code txt\n")
    assert "\x1b[" in terminal(project, "check").text
    assert "\x1b[" not in terminal(project, "check", NO_COLOR="1").text
    assert "\x1b[" in terminal(project, "migrate").text
    assert "\x1b[" not in terminal(project, "migrate", NO_COLOR="1").text


def test_filling_shows_how_far_it_is(built: Project) -> None:
    built.replace("models/bees.welbik", "40 Hive", "20_000 Hive")
    said = terminal(built, "fill")
    assert said.code == 0 and "100%" in said.text and "19,960" in said.text
