"""Every kind of problem: explained, found, mended where it can be, and told to other programs."""

from __future__ import annotations

import ast
import json
from pathlib import Path

import jsonschema
import pytest
from conftest import Project
from declared import understand

import welbik
from welbik.language.catalogue import CATALOGUE
from welbik.language.reports import as_markdown

ROOT = Path(__file__).parent.parent
SOURCES = Path(welbik.__file__).parent
BY_FILE = {"not-utf-8", "no-such-file"}
"""Problems of whole files, which one text alone can't have."""


def _codes() -> set[str]:
    """Every code that the sources report: the first argument of what adds a problem."""
    found = set()
    for path in SOURCES.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            name = getattr(getattr(node, "func", None), "attr", "")
            if name in ("add", "fail", "wrong") and isinstance(node, ast.Call) and node.args:
                for part in ast.walk(node.args[0]):
                    if isinstance(part, ast.Constant) and "-" in str(part.value):
                        found.add(str(part.value))
    return {code for code in found if " " not in code}


def test_every_code_is_explained() -> None:
    assert _codes() - set(CATALOGUE) == set()


@pytest.mark.parametrize("code", sorted(set(CATALOGUE) - BY_FILE))
def test_the_wrong_way_is_wrong_and_the_right_way_right(code: str) -> None:
    entry = CATALOGUE[code]
    assert code in {problem.code for problem in understand(entry.wrong)[1]}
    assert not understand(entry.right)[1]


def test_the_page_of_problems_is_current() -> None:
    assert (ROOT / "docs/problems.md").read_text("utf-8") == as_markdown()


def test_a_code_is_explained_anywhere(empty: Project) -> None:
    told = empty.run("check", "--explain", "unknown-type").stdout
    assert "Wrong:" in told and "frames int\n" in told and "frames integer" in told
    assert (
        "did you mean unknown-type"
        in empty.run("check", "--explain", "unknown-tipe", code=2).stderr
    )


BROKEN = """\
modle Keeper
    name text 40, required

model Hive "A colony"
    code text 7..7 required, unique
    Frames integr 24..4, requird
    kind one of national | Long
    opened date, fixed, fixed
    open boolean, matches "x"
    keeper -> Keper
"""


def test_fix_mends_what_is_mechanical_and_nothing_else(project: Project) -> None:
    project.declare(BROKEN)
    told = project.run("check", "--fix").stdout
    assert told.count("mended:") >= 8 and "no problems" in told
    assert project.read("models/bees.welbik") == (
        BROKEN.replace("modle", "model")
        .replace("7..7 required", "7..7, required")
        .replace("Frames integr 24..4, requird", "frames integer 4..24, required")
        .replace("Long", 'long "Long"')
        .replace(", fixed, fixed", ", fixed")
        .replace(', matches "x"', "")
        .replace("Keper", "Keeper")
    )
    assert "mended" not in project.run("check", "--fix").stdout


def test_fix_leaves_what_it_can_t_mend(project: Project) -> None:
    text = "model Hive\n    code text 7, sam wrong\n    frames integer 9..4\n"
    project.declare(text)
    told = project.run("check", "--fix", code=1).stdout
    assert "unknown-modifier" not in told and "is no modifier" in told
    assert project.read("models/bees.welbik") == text.replace("9..4", "4..9")


def test_problems_as_json_can_be_applied(project: Project) -> None:
    project.declare("model Hive\n    code txt 7\n")
    problem = json.loads(project.run("check", "--format", "json", code=1).stdout)[0]
    assert (problem["code"], problem["line"], problem["column"]) == ("unknown-type", 2, 10)
    assert problem["edits"][0]["text"] == "text" and problem["file"] == "models/bees.welbik"
    assert json.loads(project.run("check", "--format", "json", "--fix").stdout) == []


def test_sarif_is_valid(project: Project) -> None:
    project.declare(BROKEN + "    code text 9\n")
    log = json.loads(project.run("check", "--format", "sarif", code=1).stdout)
    schema = json.loads((Path(__file__).parent / "sarif-2.1.0.json").read_text("utf-8"))
    jsonschema.Draft202012Validator.check_schema(schema)
    jsonschema.validate(log, schema)
    results = log["runs"][0]["results"]
    assert any("fixes" in result for result in results)
    assert any("relatedLocations" in result for result in results)
    rules = log["runs"][0]["tool"]["driver"]["rules"]
    assert all(rules[r["ruleIndex"]]["id"] == r["ruleId"] for r in results)
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**log, "version": "2.0"}, schema)
    project.declare("model Hive\n    code text 7\n")
    jsonschema.validate(json.loads(project.run("check", "--format", "sarif").stdout), schema)
