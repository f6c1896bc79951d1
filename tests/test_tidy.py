"""`welbik tidy`: one layout, the same meaning, every comment kept."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

import pytest
from conftest import WELBIK, Project
from declared import declarations, understand
from hypothesis import given, settings
from hypothesis import strategies as st

from welbik.language.layout import WIDTH, tidy
from welbik.project.demo import make_demo
from welbik.project.tidying import meaning

WHOLE = (Path(__file__).parent / "projects" / "whole-language.welbik").read_text("utf-8")

CASES = [
    ("model Hive\n  code   text 7 ,required\n", "model Hive\n    code        text 7, required\n"),
    ("# a\n\n\n# b\nmodel Hive # c\n\tx text # d\n", "# a\n\n# b\nmodel Hive    # c\n    x           text    # d\n"),
    ("model A\n    x text 9, hint \"h\", unique, required\n", "model A\n    x           text 9, required, unique, hint \"h\"\n"),
    ("model A\n  x text 2..9 ,say \"no\", label \"X\", required, say \"yes\"\n",
     "model A\n    x           text 2..9, say \"no\", required, say \"yes\", label \"X\"\n"),
    ("model A\n    x integer -3 .. 5\n    rule x-1>-2\n    sort -x\n",
     "model A\n    x           integer -3..5\n    rule x - 1 > -2\n    sort -x\n"),
    ("model A\n    d date today-30 days..\n", "model A\n    d           date today - 30 days..\n"),
    ("model A\n    x text, sample 15 % empty\n", "model A\n    x           text, sample 15 % empty\n"),
    ("rows A\n  n|m\n  \"a\"  |1\n   \n  |22\n", "rows A\n    n   | m\n    \"a\" | 1\n    | 22\n"),
    ("model A\n    x text\n\n\n\n    # about y\n    y text\nmodel B\n    z text",
     "model A\n    x           text\n\n    # about y\n    y           text\n\nmodel B\n    z           text\n"),
    ("", ""), ("# only a comment", "# only a comment\n"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "wanted"), CASES)
def test_the_layout(text: str, wanted: str) -> None:
    assert tidy(text) == wanted


@pytest.mark.parametrize("command", ["init", "demo"])
def test_what_we_hand_out_is_tidy(tmp_path: Path, command: str) -> None:
    folder = tmp_path / "bees"
    if command == "init":
        subprocess.run([WELBIK, "init", folder], check=True, capture_output=True)
    else:
        make_demo(folder)
    told = subprocess.run(
        [WELBIK, "tidy", "--check"], cwd=folder, check=False, capture_output=True, text=True
    )
    assert told.returncode == 0, told.stdout


def test_long_lines_are_wrapped_and_read_back() -> None:
    laid_out = tidy(WHOLE)
    assert meaning(laid_out) == meaning(WHOLE)
    wide = [line for line in laid_out.splitlines() if len(line) > WIDTH]
    assert not wide and "\n        say " in laid_out


@st.composite
def _untidy(draw: st.DrawFn) -> str:
    """Declarations with other blanks, comments, line ends and empty lines."""
    lines = []
    for line in draw(declarations()).split("\n"):
        body = line.lstrip(" ")
        pieces = re.split(r'("(?:\\.|[^"\\])*")', body)
        for at in range(0, len(pieces), 2):
            pieces[at] = re.sub(", ", draw(st.sampled_from([",", " , ", ",  "])), pieces[at])
        text = "".join(pieces)
        indent = "   " if line.startswith(" ") else ""
        comment = draw(st.sampled_from(["", "", "", ' # say "x', "# , {} |"]))
        if comment and draw(st.booleans()):
            lines.append(f"{draw(st.sampled_from(['', '  ', '          ']))}{comment.strip()}")
            comment = ""
        lines += [""] * draw(st.integers(0, 3)) if draw(st.integers(0, 6)) == 0 else []
        lines.append(f"{indent}{text}{comment and '  ' + comment}")
    return draw(st.sampled_from(["\n", "\r\n"])).join(lines)


@given(_untidy())
@settings(max_examples=150)
def test_the_meaning_stays_and_a_second_time_changes_nothing(text: str) -> None:
    laid_out = tidy(text)
    assert tidy(laid_out) == laid_out
    assert meaning(laid_out) == meaning(text.replace("\r\n", "\n"))
    assert sorted(re.findall(r"# .*", laid_out)) == sorted(re.findall(r"# [^\r\n]*", text))
    assert not understand(laid_out)[1] or understand(text)[1]


@given(
    st.text(st.sampled_from('ab# "\\|,.-<>=()\n\t{%1') | st.characters(codec="utf-8"), max_size=120)
)
@settings(max_examples=200)
def test_no_text_breaks_it(text: str) -> None:
    tidy(text)


def test_the_command(project: Project) -> None:
    project.declare("model Hive\n  code text 7   # its code\n")
    told = project.run("tidy", "--check", code=1).stdout
    assert "would change models/bees.welbik" in told and "Run: welbik tidy" in told
    assert "+    code        text 7    # its code" in project.run("tidy", "--diff").stdout
    assert project.read("models/bees.welbik").startswith("model Hive\n  code")
    assert "tidied models/bees.welbik" in project.run("tidy").stdout
    assert (
        project.read("models/bees.welbik") == "model Hive\n    code        text 7    # its code\n"
    )
    assert "Everything is tidy" in project.run("tidy", "--check").stdout


def test_the_standard_input(empty: Project) -> None:
    done = subprocess.run(
        [WELBIK, "tidy", "-"], input=b"model A\n x text\n", capture_output=True, check=True
    )
    assert done.stdout == b"model A\n    x           text\n"
    assert "only '-'" in empty.run("tidy", "models", code=2).stderr
    broken = subprocess.run([WELBIK, "tidy", "-"], input=b"\xff", capture_output=True, check=False)
    assert broken.returncode == 1 and b"UTF-8" in broken.stderr


def test_what_can_t_be_read_keeps_its_words(project: Project) -> None:
    text = 'model Hive\n    code text 7, label "open\n    x ; text\n'
    project.declare(text)
    project.run("tidy")
    assert meaning(project.read("models/bees.welbik")) == meaning(text)
