"""Files and tables of somebody else are read within bounds, or refused with what to do."""

from __future__ import annotations

import os
import resource
import subprocess
import zipfile
from pathlib import Path

import openpyxl
import pytest
from conftest import WELBIK, Project
from servers import database

from welbik.storage.connect import connect

SECONDS, BYTES = 20, 1_500_000_000
SHEET = "xl/worksheets/sheet1.xml"
HEAD = '<worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main">'


def adopt(folder: Path, *named: str) -> subprocess.CompletedProcess[str]:
    """`welbik adopt` within bounds of processor time and memory; never a traceback."""

    def bound() -> None:
        resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
        resource.setrlimit(resource.RLIMIT_AS, (BYTES, BYTES))

    done = subprocess.run(
        [WELBIK, "adopt", *named],
        cwd=folder,
        preexec_fn=bound,
        env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
        capture_output=True,
        text=True,
        check=False,
    )
    assert "Traceback" not in done.stderr and done.returncode in (0, 1, 2), done
    return done


def spreadsheet(path: Path, rows: str, *, before: str = "", shared: str = "") -> None:
    """A spreadsheet whose only sheet is written as it stands."""
    plain = path.with_name("plain.xlsx")
    openpyxl.Workbook().save(plain)
    with zipfile.ZipFile(plain) as old, zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as new:
        for part in old.namelist():
            if part not in (SHEET, "xl/sharedStrings.xml"):
                new.writestr(part, old.read(part))
        new.writestr(SHEET, f"{HEAD}{before}<sheetData>{rows}</sheetData></worksheet>")
        strings = '<sst xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main">'
        new.writestr("xl/sharedStrings.xml", f"{strings}{shared}</sst>")
    plain.unlink()


def row(number: int, *cells: str) -> str:
    inner = "".join(
        f'<c r="{chr(65 + n)}{number}" t="inlineStr"><is><t>{text}</t></is></c>'
        for n, text in enumerate(cells)
    )
    return f'<row r="{number}">{inner}</row>'


def test_a_cell_far_below_is_told_at_once(tmp_path: Path) -> None:
    far = '<row r="1048576"><c r="XFD1048576" t="inlineStr"><is><t>x</t></is></c></row>'
    spreadsheet(tmp_path / "far.xlsx", row(1, "code") + row(2, "a") + far)
    assert "empty rows stand above it" in adopt(tmp_path, "far.xlsx", "made").stderr
    spreadsheet(tmp_path / "only.xlsx", far)
    assert adopt(tmp_path, "only.xlsx", "made").returncode == 1
    assert not (tmp_path / "made").exists()


@pytest.mark.parametrize(
    "before", ["", '<dimension ref="A1"/>', '<dimension ref="A1:XFD1048576"/>']
)
def test_how_large_a_sheet_is_said_to_be_says_nothing(tmp_path: Path, before: str) -> None:
    rows = row(1, "code", "kg") + "".join(row(n, f"H-{n}", str(n)) for n in range(2, 30))
    spreadsheet(tmp_path / "Hives.xlsx", rows, before=before)
    assert adopt(tmp_path, "Hives.xlsx", "made").returncode == 0
    told = "".join(p.read_text() for p in (tmp_path / "made/models").iterdir())
    assert "code" in told and "kg" in told and "keeper" not in told


def test_a_small_file_does_not_unpack_to_gigabytes(tmp_path: Path) -> None:
    spreadsheet(
        tmp_path / "a.xlsx", row(1, "code"), shared="<si><t>" + "a" * 400_000_000 + "</t></si>"
    )
    assert "unpacks to" in adopt(tmp_path, "a.xlsx", "made").stderr
    spreadsheet(tmp_path / "b.xlsx", row(1, "code") + row(2, "a") * 4_000_000)
    assert "unpacks to" in adopt(tmp_path, "b.xlsx", "made").stderr


@pytest.mark.parametrize("name", ["empty.xlsx", "empty.csv", "no.xlsx", "blank.csv", "zip.xlsx"])
def test_a_file_without_a_table_makes_no_project(tmp_path: Path, name: str) -> None:
    if name == "empty.xlsx":
        spreadsheet(tmp_path / name, "")
    elif name == "zip.xlsx":
        with zipfile.ZipFile(tmp_path / name, "w") as archive:
            archive.writestr("a", "b")
    else:
        (tmp_path / name).write_text("\n\n" if name == "blank.csv" else "")
    assert adopt(tmp_path, name, "made").returncode == 1
    assert not (tmp_path / "made").exists()


def test_a_table_of_very_many_columns_is_refused(tmp_path: Path) -> None:
    names = ",".join(f"c{n}" for n in range(5_000))
    (tmp_path / "wide.csv").write_text(f"{names}\n{names}\n")
    assert "5,000 columns" in adopt(tmp_path, "wide.csv", "made").stderr
    (tmp_path / "digits.csv").write_text(f"code,kg\na,{'9' * 5_000}\nb,1e999999\n")
    assert adopt(tmp_path, "digits.csv", "made").returncode == 0


CHECKS = {
    "ors": " OR ".join(f"code = 'v{n}'" for n in range(3_000)),
    "brackets": "(" * 900 + "kg > 0" + ")" * 900,
    "digits": f"kg < {'9' * 4_300}",
    "power": "kg < 1e308 AND kg > -1e308",
    "list": "code IN ({})".format(", ".join(f"'v{n}'" for n in range(3_000))),
}


@pytest.mark.parametrize("name", CHECKS)
def test_a_hostile_condition_ends_in_no_traceback(empty: Project, name: str) -> None:
    # SQLite has no such deep expressions.
    with database("postgresql" if name in ("ors", "brackets") else "sqlite", empty.root) as address:
        with connect(address, empty.root, create=True) as made:
            columns = f"code TEXT, kg NUMERIC, CHECK ({CHECKS[name]})"
            made.run(f"CREATE TABLE hive (id INTEGER PRIMARY KEY, {columns})")
        assert adopt(empty.root, address, "made").returncode == 0
    assert empty.run("check", "--project", "made").returncode == 0


SLEEPERS = {
    "postgresql": "CREATE VIEW slow AS SELECT 1 AS a, pg_sleep(100)::text AS b",
    "mariadb": "CREATE VIEW slow AS SELECT 1 AS a, sleep(100) AS b",
    "sqlite": "CREATE VIEW slow AS WITH RECURSIVE n(a) AS (SELECT 1 UNION ALL SELECT a + 1 FROM n) SELECT a FROM n WHERE a < 0",
}


@pytest.mark.parametrize("word", SLEEPERS)
def test_a_view_that_never_answers_is_left_aside(
    tmp_path: Path, word: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    from welbik.adoption.adopt import Wish
    from welbik.project import adopting

    monkeypatch.setattr(adopting, "SURVEY_SECONDS", 1)
    with database(word, tmp_path) as address:
        with connect(address, tmp_path, create=True) as made:
            made.run(SLEEPERS[word])
            made.run("CREATE TABLE hive (id INTEGER PRIMARY KEY, code VARCHAR(20) NOT NULL)")
        planned = adopting.plan(address, tmp_path / "made", Wish())
        assert "hive" in planned.found.drafts or "Hive" in planned.found.drafts


@pytest.mark.parametrize("text", ["a\0b", "a\u202eb", "a\x1bb", "a\u2066b"])
def test_a_character_that_no_form_takes_is_not_loaded(tmp_path: Path, text: str) -> None:
    (tmp_path / "Hives.csv").write_text(f"code,note\nH-1,fine\nH-2,{text}\n")
    done = adopt(tmp_path, "Hives.csv", "made", "--load")
    assert done.returncode == 1 and "row 3" in done.stderr + done.stdout, done
