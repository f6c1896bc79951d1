"""What the documents say is so."""

from __future__ import annotations

import os
import re
import shlex
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import HERE, Project
from declared import understand

from welbik.cli.main import COMMANDS
from welbik.kinds import kinds
from welbik.language.expressions import AGGREGATES, FUNCTIONS
from welbik.language.words import CLAUSES, FLAGS, KEPT, TEXTS
from welbik.schema import samples

DOCUMENTS = [
    "README.md",
    "docs/migrations.md",
    "docs/code.md",
    "docs/language.md",
    "docs/tutorial.md",
    "docs/adopting.md",
    "CONTRIBUTING.md",
]
ROOT = HERE.parent


@pytest.mark.parametrize("document", DOCUMENTS)
def test_every_example_is_understood(document: str) -> None:
    text = (ROOT / document).read_text("utf-8")
    for example in re.findall(r"```welbik[^\n]*\n(.*?)```", text, re.DOTALL):
        assert not understand(example)[1], example


@pytest.mark.parametrize("document", DOCUMENTS)
def test_every_link_leads_somewhere(document: str) -> None:
    text = (ROOT / document).read_text("utf-8")
    for target in re.findall(r"\]\(([^)#]+)\)", text):
        assert (ROOT / document).parent.joinpath(target).exists(), target


def test_the_readme_names_commands_that_exist() -> None:
    text = (ROOT / "README.md").read_text("utf-8")
    assert set(re.findall(r"welbik ([a-z]+)", text)) <= set(COMMANDS)


def test_the_demo_shows_all_that_the_language_has() -> None:
    text = (ROOT / "src/welbik/demo/hives.welbik").read_text("utf-8")
    schema, problems = understand(text)
    assert not problems and schema.parts and schema.rows and schema.profiles
    words = {field.kind.word for model in schema for field in model.fields}
    assert words >= {
        "text",
        "integer",
        "decimal",
        "number",
        "date",
        "datetime",
        "one",
        "email",
        "image",
        "list",
    }
    assert {r.removal for model in schema for r in model.references} == {
        "refuse",
        "clear",
        "remove",
    }


def test_every_type_and_clause_is_in_the_reference() -> None:
    text = (ROOT / "docs/language.md").read_text("utf-8")
    for word in {
        *kinds(),
        *CLAUSES,
        *FLAGS,
        *TEXTS,
        *FUNCTIONS,
        *AGGREGATES,
        *KEPT,
        *samples.KNOWN,
    }:
        assert re.search(rf"\b{word}\b", text), word


def test_the_tutorial_works_as_it_is_written(tmp_path: Path) -> None:
    """Every command of the first hour, one after another, and every file it says to write."""
    text = (ROOT / "docs/tutorial.md").read_text("utf-8")
    folder = tmp_path
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    ran = []
    for kind, name, body in re.findall(
        r"```(console|welbik)(?: (\S+))?\n(.*?)```", text, re.DOTALL
    ):
        if kind == "welbik":
            (folder / name).write_text(body, "utf-8")
            continue
        for line in re.findall(r"^\$ (.*)$", body, re.MULTILINE):
            if line.startswith("cd "):
                folder /= line.removeprefix("cd ")
                continue
            if line.startswith("welbik ") and "||" not in line:
                done = Project(folder).run(*shlex.split(line)[1:])
            else:
                done = subprocess.run(
                    line,
                    shell=True,
                    cwd=folder,
                    capture_output=True,
                    text=True,
                    env={**os.environ, "PATH": path},
                    check=False,
                )
            assert done.returncode == 0, f"{line}\n{done.stdout}\n{done.stderr}"
            ran.append(f"$ {line}\n{done.stdout}")
    said = "\n".join(ran)
    assert "Everything is as declared" in said or "as declared" in said
    assert said.count(" passed") == 2 and "120 Inspection" in said
    with sqlite3.connect(folder / "bees.db") as connection:
        assert connection.execute("SELECT count(mood), count(*) FROM inspection").fetchone() == (
            120,
            120,
        )
