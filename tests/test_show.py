"""`welbik show`, `welbik diagram` and `welbik add`: what was declared, seen and extended."""

from __future__ import annotations

import json
import re
from pathlib import Path
from xml.etree import ElementTree

import jsonschema
import pytest
from conftest import HIVES, Project
from declared import declarations, understand
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from welbik.data.supply import Factory
from welbik.drawing.dot import to_dot
from welbik.drawing.graph import boxes, relations
from welbik.drawing.layers import crossings, layered
from welbik.drawing.layout import arranged, lines_across
from welbik.drawing.svg import to_svg
from welbik.project.showing import as_data
from welbik.schema.form_schema import form_schema

WHOLE = (Path(__file__).parent / "projects" / "whole-language.welbik").read_text("utf-8")


def test_show_tells_what_was_not_said(project: Project) -> None:
    told = project.run("show", "Hive").stdout
    for words in (
        "/hives/<id>/edit",
        "radio buttons",
        "VARCHAR(7)",
        "other side Keeper.hives",
        "40 in the seed",
    ):
        assert words in told, words
    assert "Keeper" in project.run("show").stdout.splitlines()[0]
    assert "did you mean Hive" in project.run("show", "Hiv", code=2).stderr


def test_the_whole_language_is_shown(project: Project) -> None:
    project.declare(WHOLE)
    data = json.loads(project.run("show", "--json").stdout)
    hive = next(model for model in data["models"] if model["name"] == "Hive")
    members = {member["name"]: member for member in hive["members"]}
    assert members["total_kg"]["formula"] == "sum(harvests.kg)"
    assert members["queen"]["where"] == "retired is empty"
    assert hive["pages"]["view"] == "/hives/<code>" and hive["keeps"] == ["bin", "history", "times"]
    assert {rule["rule"] for rule in hive["rules"]} >= {
        "closed >= opened",
        "reason is given when closed is given",
    }
    assert data["profiles"]["load"]["Inspection"] == 1_000_000
    assert data == json.loads(json.dumps(as_data(understand(WHOLE)[0])))
    assert "reason is given when closed is given" in project.run("show", "Hive").stdout


def _json(value: object) -> object:
    plain = isinstance(value, str | int | float | bool | list | dict) or value is None
    if plain:
        return value
    return (
        float(str(value))
        if type(value).__name__ == "Decimal"
        else getattr(value, "isoformat", value.__str__)()
    )


@given(declarations(), st.integers(1, 50))
@settings(max_examples=40)
def test_made_up_values_fit_the_json_schema_of_their_form(text: str, seed: int) -> None:
    schema, problems = understand(text)
    assume(not problems)
    factory = Factory(schema, seed)
    for model in schema:
        found = form_schema(schema, model)
        jsonschema.Draft202012Validator.check_schema(found)
        values = factory.values(model.name)
        held = {k: v._asdict() if hasattr(v, "_asdict") else v for k, v in values.items()}
        row = {f.name: _json(held.get(f.attribute)) for f in model.fields if not f.internal}
        row |= {r.name: 1 for r in model.references} | {
            m.name: [] for m in model.many if m.declares
        }
        # A float times ten to a power is not always a float's multiple of it.
        loose = json.loads(re.sub(r'"multipleOf": [^,}]+', '"minimum": -1e18', json.dumps(found)))
        jsonschema.validate(row, loose)
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate(row | {"nothing_like_it": 1}, loose)


@given(declarations())
@settings(max_examples=60)
def test_no_line_of_a_diagram_crosses_a_box(text: str) -> None:
    schema = understand(text)[0]
    shown = boxes(schema)
    related = relations(schema, list(shown))
    diagram = arranged(shown, related)
    assert not lines_across(diagram)
    assert len(diagram.boxes) == len(schema.models) and len(diagram.lines) == len(related)
    ElementTree.fromstring(to_svg(diagram, "a <title> & more"))
    for one in diagram.boxes:
        for other in diagram.boxes:
            apart = one.x + one.box.width <= other.x or other.x + other.box.width <= one.x
            assert (
                one is other
                or apart
                or one.y + one.box.height <= other.y
                or other.y + other.box.height <= one.y
            )


def _many(count: int, links: list[int]) -> str:
    """So many models that refer to earlier ones."""
    lines = []
    for number in range(count):
        lines.append(f"model Thing{number}\n    name text 40\n")
        for at in range(min(number, links[number % len(links)])):
            lines.append(f"    rel_{at} -> Thing{(number * 7 + at * 13) % number}\n")
    return "".join(lines)


@given(st.lists(st.integers(0, 3), min_size=3, max_size=9))
@settings(max_examples=12)
def test_sixty_models_stay_legible(links: list[int]) -> None:
    schema = understand(_many(60, links))[0]
    shown = boxes(schema)
    related = relations(schema, list(shown))
    diagram = arranged(shown, related)
    assert not lines_across(diagram)
    # Lines that pass a row take room in it: so much wider than the boxes alone, and no more.
    found = layered(shown, related)
    packed = max(
        sum(shown[i].width + 34 if isinstance(i, str) else 48 for i in layer)
        for layer in found.layers
    )
    assert diagram.width < 2.5 * packed + 500 and diagram.height < 6000
    # Few cross: far fewer than pairs of lines there are.
    assert crossings(found) <= len(related) ** 2 / 12 + 1


def test_the_demo_has_next_to_no_crossing() -> None:
    schema = understand(WHOLE)[0]
    shown = boxes(schema)
    assert crossings(layered(shown, relations(schema, list(shown)))) <= 1


def test_the_diagram_is_written_in_three_ways(project: Project) -> None:
    project.declare(WHOLE)
    for name, mark in (("m.svg", b"<svg"), ("m.png", b"\x89PNG"), ("m.dot", b"digraph")):
        assert f"wrote {name}" in project.run("diagram", "-o", name).stdout
        assert (project.root / name).read_bytes().startswith(mark)
    only = project.run("diagram", "Hive", "Apiary", "--output", "few.dot") and project.read(
        "few.dot"
    )
    assert '"Hive" -> "Apiary"' in only and 'Queen"' not in only
    assert "ends in none" in project.run("diagram", "-o", "m.gif", code=2).stderr
    assert "no folder" in project.run("diagram", "-o", "none/m.svg", code=1).stderr
    assert "did you mean" in project.run("diagram", "Hivee", code=2).stderr
    shown = boxes(understand(WHOLE)[0])
    assert to_dot(shown, [], 'a "b"').startswith('digraph "a \\"b\\""')


def test_add_extends_a_model_where_its_fields_are(project: Project) -> None:
    project.declare(HIVES.replace("    list code", "    # how it is listed\n    list code"))
    told = project.run("add", "Hive", 'weight decimal 0..90.0, unit "kg"', "rule weight > 3").stdout
    assert told == "added to Hive 2 lines in models/bees.welbik\n"
    text = project.read("models/bees.welbik")
    assert text.index("opened ") < text.index("weight") < text.index("# how it is listed")
    assert "no problems" in project.run("check").stdout


def test_add_makes_a_model(project: Project, empty: Project) -> None:
    project.run(
        "add", "Swarm", "seen datetime ..now, required", "hive -> Hive", "--about", 'A "wild" one'
    )
    assert project.read("models/bees.welbik").endswith(
        '\n\nmodel Swarm "A \\"wild\\" one"\n    seen        datetime ..now, required\n    hive        -> Hive\n'
    )
    project.write("models/more.welbik", "model Queen\n    mark text 9\n")
    project.run("add", "HiveVisit", "held date")
    assert project.read("models/hive_visit.welbik") == "model HiveVisit\n    held        date\n"


@pytest.mark.parametrize(
    "line", ["x txt", "x text 0", "apiary -> Apiary", "code text 9", "rule a > 1", ""]
)
def test_what_makes_problems_is_not_added(project: Project, line: str) -> None:
    before = project.files()
    project.run("add", "Hive", line, code=1 if line else 2)
    assert project.files() == before
