"""Stored rows on the screen: what people read, the same from each database."""

from __future__ import annotations

import csv
import io
import json
from decimal import Decimal
from pathlib import Path

import pytest
import servers
from click.testing import CliRunner
from conftest import Project
from servers import WORDS

from welbik.cli import peek
from welbik.problems import WelbikError

DECLARED = """\
model Yard
    name    text 2..20, required, unique
    county  -> County, required
    crates  <- Crate.yard
    shown as "{name}, {county}"

model County
    name    text 2..20, required, unique

model Crate
    code    text 4..4, required, unique, matches "[A-Z]{2}[0-9]{2}"
    yard    -> Yard, required
    spare   -> Yard, sample 40% empty
    kind    one of long | warre "Warré", sample 20% empty
    weight  decimal 0.0..90.0, sample 20% empty
    seen    datetime 2025-01-01T00:00..2025-12-31T23:59, required
    took    duration 0..8 hours
    sound   boolean, required
    mark    uuid
    double  decimal = weight * 2
    labels  <-> Label, sample 0..3 per crate
    sort -weight
    keep bin

model Label
    token   uuid, required, unique
    word    text 2..20, required, unique
    crates  <-> Crate.labels
    key token
    keep bin
seed
    9 Label
    3 County
    6 Yard
    40 Crate
"""


@pytest.fixture(scope="module", params=WORDS)
def project(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> object:
    project = Project(tmp_path_factory.mktemp("peek"))
    project.write("models/crates.welbik", DECLARED)
    with servers.database(request.param, project.root) as address:
        project.write(
            "welbik.toml",
            f'package = "crates"\ndatabase = "{address}"\ntimezone = "Europe/Lisbon"\n',
        )
        for command in ("migrate", "fill"):
            project.run(command)
        yield project


def _rows(project: Project, *arguments: str) -> list[dict[str, object]]:
    found: list[dict[str, object]] = json.loads(_said(project, "--format", "json", *arguments))
    return found


def _said(project: Project, *arguments: str) -> str:
    """What the command prints, called within this process: it is called often."""
    asked = ["Crate", "--rows", "100", *arguments, "--project", str(project.root)]
    done = CliRunner().invoke(peek.command, asked, catch_exceptions=False)
    assert done.exit_code == 0
    return done.stdout


def test_related_rows_have_names_and_values_are_what_was_made_up(project: Project) -> None:
    rows = _rows(project)
    assert len(rows) == 40
    made = json.loads(project.run("sample", "Crate", "--rows", "40", "--format", "json").stdout)
    by_code = {row["code"]: row for row in rows}
    for one in made:
        row = by_code[one["code"]]
        for name in ("kind", "weight", "sound", "mark", "took"):
            assert row[name] == one[name], name
        doubled = None if one["weight"] is None else str(Decimal(one["weight"]) * 2)
        assert row["double"] == doubled
    yards = {row["yard"] for row in rows}
    assert len(yards) > 1 and all(", " in str(yard) for yard in yards)
    assert any(row["spare"] is None for row in rows) and any(row["spare"] in yards for row in rows)
    # Heaviest first, as declared, and those without a weight last.
    weights = [row["weight"] for row in rows]
    given = [Decimal(str(weight)) for weight in weights if weight is not None]
    assert given == sorted(given, reverse=True) and weights[len(given) :] == [None] * (
        40 - len(given)
    )


def test_rows_of_relations_to_many_are_told_by_name_where_they_are_asked_for(
    project: Project,
) -> None:
    rows = _rows(project, "--columns", "code,labels")
    sizes = [len(row["labels"]) for row in rows]  # type: ignore[arg-type]
    assert {0, 3} <= {*sizes} and max(sizes) == 3
    counted = _rows(project, "--columns", "code", "--where", "count(labels) = 3")
    assert [row["code"] for row in rows if len(row["labels"]) == 3] == [  # type: ignore[arg-type]
        row["code"] for row in counted
    ]
    words = {word for row in rows for word in row["labels"]}  # type: ignore[attr-defined]
    labels = CliRunner().invoke(
        peek.command,
        ["Label", "--columns", "word,crates", "--format", "json", "--project", str(project.root)],
    )
    back = {row["word"]: row["crates"] for row in json.loads(labels.stdout)}
    assert words <= back.keys()
    assert sum(map(len, back.values())) == sum(sizes)


@pytest.mark.parametrize(
    "condition",
    [
        "weight > 20.5 and sound",
        "kind = warre or kind is empty",
        "count(yard.crates) > 5",
        "seen >= 2025-06-01T00:00 and length(yard.county.name) > 3",
        "double <= 60 and spare is given",
        "took > 1:30",
    ],
)
def test_a_condition_is_asked_of_the_database(project: Project, condition: str) -> None:
    some, rest = (
        _rows(project, "--where", condition),
        _rows(project, "--where", f"not ({condition})"),
    )
    known = {str(row["code"]) for row in _rows(project)}
    codes = [{str(row["code"]) for row in rows} for rows in (some, rest)]
    assert some and not codes[0] & codes[1] and codes[0] | codes[1] <= known


def test_columns_are_paths_and_rows_in_the_bin_are_left_out(
    project: Project, tmp_path: Path
) -> None:
    asked = ("--columns", "code,yard.county,seen", "--sort", "yard.county,-code")
    rows = _rows(project, *asked)
    assert [*rows[0]] == ["code", "yard.county", "seen"]
    keys = [(str(row["yard.county"]), str(row["code"])) for row in rows]
    assert keys == sorted(keys, key=lambda key: (key[0], [-ord(c) for c in key[1]]))
    said = _said(project, *asked, "--format", "csv")
    assert [row[0] for row in csv.reader(io.StringIO(said))][1:] == [row["code"] for row in rows]
    from welbik.project.database import open_database
    from welbik.project.settings import read_settings

    with open_database(read_settings(project.root)) as database:
        stored = (
            "SELECT crate.code, county.name FROM crate JOIN yard ON yard.id = crate.yard_id "
            "JOIN county ON county.id = yard.county_id"
        )
        counties = dict(database.run(stored))
        assert {row["code"]: row["yard.county"] for row in rows if row["yard.county"]} == counties
        database.run("UPDATE crate SET removed_at = seen WHERE id = 3")
        left = _said(project, "--rows", "5")
        database.run("UPDATE crate SET removed_at = NULL WHERE id = 3")
    assert "5 rows, 34 more are there." in left


def test_what_can_not_be_asked_is_told(project: Project) -> None:
    for arguments, message in (
        (("--where", "weigth > 3"), "did you mean weight?"),
        (("--where", "weight > 3 )"), "--where:"),
        (("--where", "weight"), "--where:"),
        (("--columns", "yard.nam"), "did you mean name?"),
        (("--columns", "code.name"), "no field 'code'"),
        (("--sort", "-wight"), "did you mean weight?"),
    ):
        with pytest.raises(WelbikError) as told:
            _said(project, *arguments)
        assert message in f"{told.value.message} {told.value.remedy}" and told.value.status == 2


def test_a_model_that_is_not_there(project: Project) -> None:
    assert "did you mean Crate?" in project.run("peek", "Crat", code=2).stderr
