"""Building: clean code, written whole or not at all, never over somebody's own lines."""

from __future__ import annotations

import ast
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from conftest import HERE, Project
from declared import declarations, understand
from hypothesis import Phase, assume, example, given, settings
from hypothesis import strategies as st
from jinja2 import Environment

from welbik.codegen.files import application_files
from welbik.codegen.imports import PLACE, Imports
from welbik.codegen.page_code import heading_of
from welbik.codegen.python import doc
from welbik.project import writing
from welbik.rules.brought import use

SETTINGS = {
    "title": "Bees",
    "package": "bees",
    "database": "sqlite:///b.db",
    "timezone": "UTC",
    "locale": "en-GB",
    "page": 25,
}
RUFF = [sys.executable, "-m", "ruff"]


def _lint(folder: Path) -> None:
    for arguments in (["check", "--no-cache", "."], ["format", "--no-cache", "--diff", "."]):
        done = subprocess.run(
            [*RUFF, *arguments], cwd=folder, capture_output=True, text=True, check=False
        )
        assert done.returncode == 0, done.stdout + done.stderr


@given(declarations())
@settings(max_examples=20, phases=[Phase.explicit, Phase.reuse, Phase.generate])
def test_whatever_is_declared_the_code_is_clean(text: str) -> None:
    schema, problems = understand(text)
    assume(not problems)
    made = application_files(schema, SETTINGS)
    with TemporaryDirectory() as folder:
        writing.write_all(
            Path(folder),
            {name: body for name, body in made.items() if not name.startswith("bees/kit/")},
        )
        writing.write_all(Path(folder), {"bees/kit/__init__.py": ""})
        _lint(Path(folder))
    for name, body in made.items():
        if name.endswith(".py"):
            ast.parse(body)
        elif name.endswith(".html"):
            Environment().parse(body)


@given(st.text(min_size=1).filter(str.strip))
@example('"so" it is called')
@example('it ends in "')
@example("ᾀ is one letter, and its capital two")
@example("a stroke \\")
def test_a_docstring_holds_any_text(text: str) -> None:
    made = doc(text)
    held = ast.literal_eval(f'"""{made}"""').strip()
    # In one line, as a sentence, and of nothing but what is seen.
    assert held[-1] in ".!?" and "\n" not in made and made.isprintable()
    words = " ".join(text.split()).replace('"""', "'''")
    assert held.rstrip(".")[1:] == words.rstrip(".")[1:] or not words.isprintable()


def test_columns_of_related_rows_are_not_headed_alike() -> None:
    schema, problems = understand(
        """model Port
    name    text 9, required
    depth   decimal 1.0..9.0, unit "m"
model Line
    origin  -> Port, required
    end     -> Port, required
    title   text 9, required
    list title, origin.name, end.name, origin.depth
    filter end.depth
"""
    )
    assert not problems
    line = schema.models["Line"]
    told = [heading_of(schema, line, path) for path in (*line.columns, *line.filters)]
    assert told[:3] == ["Title", "Origin · Name", "End · Name"]
    assert told[3:] == ["Origin · Depth (m)", "End · Depth (m)"]
    assert heading_of(schema, line, "origin") == "Origin"


def test_every_name_is_brought_in_from_where_it_is() -> None:
    schema, _ = understand("model Any\n    name text 9\nmodel Hive\n    name text 9\n")
    source = (
        f"{PLACE}\n{use.Any}, {use.row('Any')}, {use.type('Hive')}, {use.sa}, {use.clock}, {use.dt}"
    )
    made = Imports(schema, ".", {}).into(source)
    assert made.splitlines() == [
        "import datetime as dt",
        "from typing import TYPE_CHECKING, Any",
        "",
        "import sqlalchemy as sa",
        "",
        "from ..any.model import Any",
        "from ..kit import clock",
        "",
        "if TYPE_CHECKING:",
        "    from ..hive.model import Hive",
        "Any, Any, Hive, sa, clock, dt",
    ]
    with pytest.raises(KeyError, match="nowhere"):
        Imports(schema, ".", {}).into(use.nowhere)


def test_the_copied_files_are_clean_too(built: Project) -> None:
    _lint(built.root)
    for path in (built.root / "bees/kit").glob("*.py"):
        copied = HERE.parent / "src/welbik/blueprint/kit" / path.name
        assert path.read_text("utf-8") == copied.read_text("utf-8")


def test_the_application_imports_nothing_of_welbik(built: Project) -> None:
    for path in (built.root / "bees").rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            names = [a.name for a in node.names] if isinstance(node, ast.Import) else []
            names += [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            assert not [name for name in names if name.split(".")[0] == "welbik"], path


def test_ten_fields_and_two_relations_stay_short(make: Callable[[str], Project]) -> None:
    fields = "".join(
        f"    field_{n} {kind}\n"
        for n, kind in enumerate(
            ["text 80, required", "integer 1..9", "date", "boolean", "email"] * 2
        )
    )
    project = make(f"model A\n{fields}    b -> B, required\n    c -> B\nmodel B\n    name text 9\n")
    project.run("build")
    lines = sum(
        len(project.read(f"bees/a/{name}.py").splitlines())
        for name in ("model", "form", "controller")
    )
    # About 150, with what its table has.
    assert lines <= 155


def test_a_project_has_no_code_for_what_it_does_not_declare(
    make: Callable[[str], Project],
) -> None:
    project = make("model Note\n    title text 80, required\n")
    project.run("build")
    names = {name for name in project.files() if name.startswith(("bees/", "tests/"))}
    for word in (
        "upload",
        "attach",
        "image",
        "tree",
        "bin",
        "tabs",
        "embed",
        "logic",
        "sweep",
        "history",
    ):
        assert not [name for name in names if word in name.rpartition("/")[2]], word
    sizes = {
        "bees/kit/": 7_400,
        "bees/look/": 1_400,
        "bees/note/": 220,
        "tests/": 1_480,
    }
    for folder, most in sizes.items():
        found = [name for name in names if name.startswith(folder) and "htmx" not in name]
        lines = sum(project.read(name).count("\n") for name in found)
        assert most * 0.8 < lines <= most, (folder, lines)
    project.declare(
        "model Note\n    title text 80, required\n    above -> Note\n    photo image\n    keep bin\n"
    )
    project.run("build")
    names = {*project.files()} - names
    for name in ("attachments", "uploads", "images", "trees", "bins", "sweeping"):
        assert f"bees/kit/{name}.py" in names


def test_building_again_writes_nothing(built: Project) -> None:
    before = {path: path.stat().st_mtime_ns for path in built.root.rglob("*")}
    assert "Nothing to write" in built.run("build").stdout
    assert {path: path.stat().st_mtime_ns for path in built.root.rglob("*")} == before


def test_preview_and_diff_write_nothing(built: Project) -> None:
    built.replace("models/bees.welbik", 'hint "Such as AB-1234"', 'hint "Like AB-1234"')
    before = built.files()
    assert "bees/hive/form.py" in built.run("build", "--preview").stdout
    assert '+        hint="Like AB-1234",' in built.run("build", "--diff").stdout
    assert built.files() == before


def test_files_of_a_model_that_is_gone_go_unless_edited(built: Project) -> None:
    built.declare(built.read("models/bees.welbik") + "\nmodel Extra\n    a text 9\n")
    built.run("build")
    built.write("bees/extra/pages/list.html", "mine")
    built.declare(built.read("models/bees.welbik").replace("\nmodel Extra\n    a text 9\n", ""))
    assert (
        "no model asks for bees/extra/pages/list.html"
        in built.run("build", "--allow-loss").stdout.lower()
    )
    left = [name for name in built.files() if "extra" in name]
    assert left == ["bees/extra/pages/list.html"]


def test_a_failure_half_way_leaves_everything_as_it_was(
    built: Project, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = built.files()
    moves = 0
    replace = writing._move

    def failing(*arguments: object) -> None:
        nonlocal moves
        moves += 1
        if moves == 5:
            raise OSError(28, "No space left on device", "disk")
        replace(*arguments)  # type: ignore[arg-type]

    monkeypatch.setattr(writing, "_move", failing)
    targets = dict.fromkeys(list(before)[:9], "changed") | {"new/file.py": "new"}
    with pytest.raises(writing.WelbikError, match="No space left"):
        writing.write_all(built.root, targets, [list(before)[-1]])
    assert built.files() == before


@pytest.mark.skipif(os.geteuid() == 0, reason="root may write everywhere")
def test_a_folder_that_can_not_be_written_is_one_clear_message(project: Project) -> None:
    project.root.chmod(0o500)
    said = project.run("build", code=1).stderr
    project.root.chmod(0o700)
    assert "can't be written" in said


def test_a_setting_reaches_the_code(built: Project) -> None:
    built.replace("welbik.toml", 'title = "Bees"', 'title = "The \\"best\\" bees"\npage = 7')
    built.run("build")
    assert "TITLE = 'The \"best\" bees'" in built.read("bees/settings.py")
    assert "PAGE = 7" in built.read("bees/settings.py")


def test_a_model_with_nothing_but_relations_to_many_has_pages(
    make: Callable[[str], Project],
) -> None:
    """Only its name is left to be listed: there is a page of it all the same."""
    project = make(
        "model Store\n    name text 20\n    by <-> Basket.of\n\nmodel Basket\n    of <-> Store\n"
    )
    project.run("build")
    (page,) = project.root.glob("*/basket/pages/list.html")
    assert "{{ row | show }}</a></th>" in page.read_text("utf-8")
