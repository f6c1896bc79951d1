"""Generated once, owned for ever: builds over edited, moved, renamed and deleted files."""

from __future__ import annotations

import shutil
import subprocess
import tarfile
from pathlib import Path

import pytest
from conftest import HERE, Project

FORM = "bees/hive/form.py"
LIST = "bees/hive/pages/list.html"
DECLARED = "models/bees.welbik"


def _wider(project: Project, high: int = 30) -> None:
    """Frames may be more: model, form and tests are others."""
    text = project.read(DECLARED)
    for old in (24, 30, 32):
        text = text.replace(f"integer 4..{old}", f"integer 4..{high}")
    project.write(DECLARED, text)


def test_what_was_edited_gets_what_is_declared_since(built: Project) -> None:
    built.replace(FORM, '"Frames"', '"Combs"')
    built.replace(LIST, "New hive</a>", "Add a hive</a>")
    built.write("bees/hive/more.py", "# all mine\n")
    assert "2 files with edits of yours" in built.run("build").stdout
    _wider(built)
    built.replace(DECLARED, "list code, keeper, frames", "list code, keeper, frames, opened")
    preview = built.run("build", "--preview").stdout
    assert [line.split()[0] for line in preview.splitlines() if FORM in line or LIST in line] == [
        "merged",
        "merged",
    ]
    said = built.run("build").stdout
    assert "your edits kept" in said and FORM in said
    form, page = built.read(FORM), built.read(LIST)
    assert 'fields.Integer("frames", "Combs", required=True, default=11, low=4, high=30)' in form
    assert "Add a hive</a>" in page and 'data-label="Opened"' in page
    assert built.read("bees/hive/more.py") == "# all mine\n"
    assert "Nothing to write" in built.run("build").stdout
    built.python("-m", "ruff", "check", "bees", "tests")
    built.python("-m", "ruff", "format", "--check", "bees", "tests")


def test_a_clash_says_what_met_what_and_leaves_every_file_alone(built: Project) -> None:
    built.replace(FORM, "high=24", "high=20")
    _wider(built)
    before = built.files()
    said = built.run("build", code=1).stderr
    line = built.read(FORM).split("high=20")[0].count("\n") + 1
    assert f"{FORM}:{line}: you changed what is declared otherwise now" in said
    for told in ("was       high=24", "yours     high=20", "declared  high=30", "integer 4..30"):
        assert told in said
    number = built.read(DECLARED).split("integer 4..30")[0].count("\n") + 1
    assert f"{DECLARED}:{number}" in said
    assert built.files() == before
    assert "clash" in built.run("status", code=1).stdout
    assert "clash" in built.run("sync", code=1).stderr
    assert built.files() == before


@pytest.mark.parametrize(("side", "high"), [("--mine", 20), ("--theirs", 30)])
def test_a_clash_is_settled_by_file(built: Project, side: str, high: int) -> None:
    built.replace(FORM, "high=24", "high=20")
    built.replace(FORM, '"Frames"', '"Combs"')
    _wider(built)
    built.replace(DECLARED, 'hint "Such as AB-1234"', 'hint "Like AB-1234"')
    built.run("build", side, FORM)
    # Only what clashed is of one side: the rest is of both.
    assert f"high={high}" in built.read(FORM) and '"Combs"' in built.read(FORM)
    assert 'hint="Like AB-1234"' in built.read(FORM)
    assert "Nothing to write" in built.run("build").stdout
    _wider(built, 32)
    if high == 20:
        assert "yours     high=20" in built.run("build", code=1).stderr
    else:
        built.run("build")
        assert "high=32" in built.read(FORM)


def test_marks_show_both_and_nothing_is_built_until_they_are_gone(built: Project) -> None:
    built.replace(FORM, "high=24", "high=20")
    _wider(built)
    built.run("build", "--mark", code=1)
    text = built.read(FORM)
    assert text.index("<<<<<<< yours") < text.index("high=20") < text.index("=======")
    assert text.index("=======") < text.index("high=30") < text.index(">>>>>>> as declared")
    assert "marks" in built.run("build", code=1).stderr
    lines = text.splitlines(keepends=True)
    start = next(n for n, line in enumerate(lines) if line.startswith("<<<<<<<"))
    middle = next(n for n, line in enumerate(lines) if line.startswith("======="))
    end = next(n for n, line in enumerate(lines) if line.startswith(">>>>>>>"))
    built.write(FORM, "".join(lines[:start] + lines[start + 1 : middle] + lines[end + 1 :]))
    assert "with edits of yours" in built.run("build").stdout
    assert "high=20" in built.read(FORM)


def test_what_is_taken_out_stays_out_and_is_said_once(built: Project) -> None:
    (built.root / LIST).unlink()
    assert "--theirs" in built.run("status", code=1).stdout
    assert f"You took {LIST} out" in built.run("build").stdout
    assert "You took" not in built.run("build").stdout
    built.replace(DECLARED, "list code, keeper, frames", "list code, frames")
    built.run("build")
    assert not (built.root / LIST).exists()
    built.run("build", "--theirs", LIST)
    assert "data-label" in built.read(LIST) and "Keeper" not in built.read(LIST)


def test_a_file_that_was_moved_is_followed(built: Project) -> None:
    moved = "bees/hive/pages/all.html"
    (built.root / LIST).rename(built.root / moved)
    built.replace(moved, "New hive</a>", "Add a hive</a>")
    built.replace("bees/hive/controller.py", "hive/pages/list.html", "hive/pages/all.html")
    built.replace(DECLARED, "list code, keeper, frames", "list code, keeper, frames, opened")
    built.run("build")
    assert 'data-label="Opened"' in built.read(moved) and "Add a hive" in built.read(moved)
    assert not (built.root / LIST).exists()
    assert "all.html" in built.read("bees/hive/controller.py")
    built.replace(DECLARED, "list code, keeper, frames, opened", "list code, keeper, opened")
    built.run("build")
    assert 'data-label="Frames"' not in built.read(moved) and "Add a hive" in built.read(moved)


def test_names_are_followed_through_lines_of_ones_own(built: Project) -> None:
    model = "bees/hive/model.py"
    built.replace(
        model,
        "    def __str__(self)",
        "    @property\n    def is_full(self) -> bool:\n        return self.frames > 9\n\n"
        "    def __str__(self)",
    )
    built.replace(LIST, "<td class=\"number\" data-label=\"Frames\">{{ row.frames | show }}</td>",
                  "<td class=\"number\" data-label=\"Frames\"><b>{{ row.frames | show }}</b></td>")  # fmt: skip
    built.write(FORM, built.read(FORM) + '\nBIGGEST = "frames"\n')
    built.declare(
        built.read(DECLARED)
        .replace(
            "    frames  integer 4..24, required", "    combs  integer 4..24, was frames, required"
        )
        .replace("list code, keeper, frames", "list code, keeper, combs")
    )
    said = built.run("build").stdout
    assert "return self.combs > 9" in built.read(model)
    assert "<b>{{ row.combs | show }}</b>" in built.read(LIST)
    assert f'{FORM}:{built.read(FORM).count(chr(10))}  BIGGEST = "frames"' in said
    # Done once: another field may be called so one day.
    built.write(FORM, built.read(FORM).replace("BIGGEST", "WIDEST"))
    assert "Nothing to write" in built.run("build").stdout


def test_a_model_that_was_renamed_takes_its_edited_files_along(built: Project) -> None:
    built.replace(LIST, "New hive</a>", "Add a hive</a>")
    built.replace(
        "bees/hive/controller.py",
        '@pages.get("")',
        '@pages.get("/count")\ndef count_page() -> str:\n    return Hive.PLURAL\n\n\n@pages.get("")',
    )
    text = built.read(DECLARED)
    built.declare(
        text.replace("model Hive", "model Colony\n    was Hive")
        .replace("<- Hive.", "<- Colony.")
        .replace("40 Hive", "40 Colony")
    )
    built.run("build")
    assert not (built.root / "bees/hive").exists()
    assert "return Colony.PLURAL" in built.read("bees/colony/controller.py")
    assert "Add a colony</a>" in built.read("bees/colony/pages/list.html")
    assert "colony.edit_page" in built.read("bees/colony/pages/list.html")
    built.python("-m", "ruff", "check", "bees", "tests")


def test_a_package_that_is_called_otherwise_takes_its_edits_along(built: Project) -> None:
    built.replace(LIST, "New hive</a>", "Add a hive</a>")
    built.replace("welbik.toml", 'package = "bees"', 'package = "apiary"')
    built.run("build")
    assert "Add a hive</a>" in built.read(LIST.replace("bees/", "apiary/"))
    assert not (built.root / "bees").exists()
    built.python("-m", "ruff", "check", "apiary", "tests")
    assert "Nothing to write" in built.run("build").stdout


def test_a_project_without_its_record_is_built_all_the_same(built: Project) -> None:
    shutil.rmtree(built.root / ".welbik")
    before = built.files()
    assert "Nothing to write" in built.run("build").stdout
    assert {n: t for n, t in built.files().items() if not n.startswith(".welbik")} == before
    shutil.rmtree(built.root / ".welbik")
    built.replace(FORM, "high=24", "high=20")
    assert "nothing tells what was generated" in built.run("build", code=1).stderr
    text = built.read(FORM)
    built.run("build", "--mark", code=1)
    found = built.read(FORM)
    assert found.index("<<<<<<<") < found.index("high=20") < found.index("high=24")
    built.write(FORM, text)
    shutil.rmtree(built.root / ".welbik")
    built.run("build", "--mine", FORM)
    assert "high=20" in built.read(FORM)
    _wider(built)
    assert "yours     high=20" in built.run("build", code=1).stderr


def test_a_file_that_some_version_wrote_was_not_edited(built: Project) -> None:
    """Also where nobody knows what was generated: of what all projects share every version is known."""
    shutil.rmtree(built.root / ".welbik")
    with tarfile.open(HERE / "projects/built-by-0.4.tar.gz") as archive:
        for name in ("bees/kit/links.py", "bees/look/page.html"):
            text = archive.extractfile(f"./{name}").read().decode()  # type: ignore[union-attr]
            assert text != built.read(name)
            built.write(name, text)
    said = built.run("build").stdout
    assert "2 files brought up" in said and "bees/kit/links.py" in said


def test_two_branches_that_built_differently_are_merged_from_either(built: Project) -> None:
    def git(*words: str) -> str:
        done = subprocess.run(
            ["git", "-c", "user.name=a", "-c", "user.email=a@b.c", *words],
            cwd=built.root,
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    git("init", "-q", "-b", "main", ".")
    git("add", "-A")
    git("commit", "-qm", "begun")
    git("checkout", "-qb", "other")
    _wider(built)
    built.run("build")
    git("commit", "-qam", "wider")
    # A reviewer sees the code that changed, and of the record only that it did.
    shown = git("show", "--format=", "HEAD", "--", ".welbik")
    assert "Binary files" in shown and len(shown.splitlines()) < 40
    git("checkout", "-q", "main")
    built.replace(DECLARED, 'hint "Such as AB-1234"', 'hint "Like AB-1234"')
    built.run("build")
    git("commit", "-qam", "hint")
    git("merge", "-q", "other")
    said = built.run("build").stdout
    assert "high=30" in built.read(FORM) and 'hint="Like AB-1234"' in built.read(FORM)
    assert "Nothing to write" in said or "fingerprint" in said
    assert "yours" not in built.run("build", "--preview").stdout


def test_part_of_a_model_is_built_by_itself(built: Project) -> None:
    _wider(built)
    built.replace(DECLARED, "list code, keeper, frames", "list code, frames")
    built.run("build", "Hive", "--only", "list,form")
    assert "high=30" in built.read(FORM) and "Keeper" not in built.read(LIST)
    assert "4, 24" in built.read("bees/hive/model.py")
    assert "code" in built.run("status", code=1).stdout
    built.run("build")
    assert "4, 30" in built.read("bees/hive/model.py")
    assert "no part of a model" in built.run("build", "--only", "lists", code=2).stderr
    assert "there is no model" in built.run("build", "Hiv", code=2).stderr


def test_each_part_of_a_file_names_what_declares_it(built: Project) -> None:
    said = built.run("build", "--explain", FORM).stdout
    lines = said.splitlines()
    number = built.read(DECLARED).split("    frames ")[0].count("\n") + 1
    at = next(n for n, line in enumerate(lines) if 'fields.Integer("frames"' in line)
    assert f"{DECLARED}:{number}  frames  integer 4..24" in lines[at + 1]
    assert "same in every project" in built.run("build", "--explain", "bees/kit/forms.py").stdout
    assert "there is no file" in built.run("build", "--explain", "bees/none.py", code=1).stderr


def test_what_was_laid_out_otherwise_stays_so(built: Project) -> None:
    text = built.read("bees/hive/controller.py")
    mine = text.replace('"""', "'''", 2).replace(
        '@pages.get("")\ndef list_page', "@pages.get('')\ndef list_page"
    )
    mine = mine.replace("\n", "\r\n")
    (built.root / "bees/hive/controller.py").write_bytes(mine.encode())
    built.replace(DECLARED, "list code, keeper, frames", "list code, keeper, frames, opened")
    built.run("build")
    now = (built.root / "bees/hive/controller.py").read_bytes().decode()
    assert now.count("\r\n") == now.count("\n") and "@pages.get('')" in now
    assert '"opened": ("Opened", Hive.opened)' in now


def test_no_two_files_are_taken_for_one(tmp_path: Path, built: Project) -> None:
    # A copy of a page of one's own is no page that went.
    shutil.copy(built.root / LIST, built.root / "bees/hive/pages/mine.html")
    built.replace(DECLARED, "list code, keeper, frames", "list code, frames")
    built.run("build")
    assert "Keeper" in built.read("bees/hive/pages/mine.html")
    assert "Keeper" not in built.read(LIST)


EDITS = [
    (FORM, '"frames", "Frames"', '"frames", "Combs"'),
    (LIST, "New hive</a>", "Add a hive</a>"),
    (LIST, '        {{ lists.sort_heading(listing, "keeper", "Keeper") }}\n', ""),
    (
        LIST,
        '        <td data-label="Keeper"><a href="{{ row.keeper_id | at(\'keeper.view_page\') }}">'
        "{{ row.keeper | show }}</a></td>\n",
        "",
    ),
    (
        "bees/hive/controller.py",
        '@pages.get("")',
        '@pages.get("/count")\ndef count_page() -> str:\n    """How many hives there are."""\n'
        '    return str(session().scalar(sa.select(sa.func.count(Hive.id))))\n\n\n@pages.get("")',
    ),
    (
        "bees/hive/controller.py",
        "from .form import form",
        "from ..kit.database import session\nfrom .form import form",
    ),
    (
        "bees/hive/model.py",
        "    def __str__(self)",
        "    @property\n    def is_full(self) -> bool:\n        return self.frames > 10\n\n"
        "    def __str__(self)",
    ),
    ("bees/kit/words.py", '"""', '"""Ours: '),
]
"""What was done to the projects that earlier versions built, in `projects/`."""


@pytest.mark.parametrize("version", ["0.3", "0.4"])
def test_a_project_that_an_earlier_version_built_is_brought_up(
    tmp_path: Path, version: str
) -> None:
    old, new = Project(tmp_path / "old"), Project(tmp_path / "new")
    with tarfile.open(HERE / f"projects/built-by-{version}.tar.gz") as archive:
        archive.extractall(old.root, filter="data")
    for name in (DECLARED, "welbik.toml"):
        new.write(name, old.read(name))
    new.run("build")
    said = old.run("build").stdout
    assert "your edits kept" in said and "bees/kit/words.py" in said
    assert "PostgreSQL and MariaDB" in said
    for name, was, mine in EDITS:
        text = new.read(name)
        assert was in text
        new.write(name, text.replace(was, mine, 1))
    css = "bees/look/static/site.css"
    new.write(css, new.read(css) + "\n/* ours */\n.lead { font-style: italic; }\n")
    # As if it had been built today, and edited then.
    mine, theirs = old.files(), new.files()
    assert {name for name in mine if name.startswith("bees/")} == {
        name for name in theirs if name.startswith("bees/")
    }
    for name in theirs:
        if name.startswith(("bees/", "tests/")):
            assert mine[name].split() == theirs[name].split(), name
    assert not (old.root / ".welbik/made").exists()
    assert "Nothing to write" in old.run("build").stdout
    old.python("-m", "ruff", "check", "bees", "tests")
    old.python("-m", "ruff", "format", "--check", "bees", "tests")


def test_a_project_laid_out_by_other_rules_stays_so(built: Project, tmp_path: Path) -> None:
    """Other quotes and longer lines everywhere: what is declared since comes in those."""
    rules = '\n[tool.ruff]\nline-length = 130\n\n[tool.ruff.format]\nquote-style = "single"\n'
    built.write("pyproject.toml", built.read("pyproject.toml") + rules)
    built.python("-m", "ruff", "format", "-q", "bees", "tests")
    _wider(built)
    built.replace(DECLARED, "list code, keeper, frames", "list code, keeper, frames, opened")
    built.replace(DECLARED, "    opened ", "    weight  number 0..200\n    opened ")
    built.run("build")
    new = Project(tmp_path / "new")
    for name in (DECLARED, "welbik.toml"):
        new.write(name, built.read(name))
    new.run("build")
    new.write("pyproject.toml", new.read("pyproject.toml") + rules)
    new.python("-m", "ruff", "format", "-q", "bees", "tests")
    mine, theirs = built.files(), new.files()
    for name in theirs:
        if name.startswith(("bees/", "tests/")):
            assert mine[name].decode() == theirs[name].decode(), name


def test_what_a_project_needs_besides_is_kept(built: Project) -> None:
    built.replace("pyproject.toml", '"tzdata"]', '"tzdata", "flask-login"]')
    built.replace("welbik.toml", "sqlite:///bees.db", "postgresql://bees@localhost/bees")
    built.run("build")
    wanted = '"tzdata", "psycopg[binary]>=3.1", "flask-login"]'
    assert wanted in built.read("pyproject.toml")
