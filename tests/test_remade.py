"""Files of models of which nothing changed are taken from the last build: just what would be made."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from importlib.resources import files
from pathlib import Path
from unittest.mock import patch

import pytest
from changed import changed
from conftest import Project
from declared import understand
from hypothesis import Phase, assume, given, settings

from welbik.codegen import files as generation
from welbik.codegen.made import Made
from welbik.codegen.made_from import Earlier
from welbik.project.settings import Settings
from welbik.schema.model import Model, Schema

DEMO = (files("welbik.demo") / "hives.welbik").read_text("utf-8")
SETTINGS = Settings(Path("bees"), package="bees").for_build()


def _built(
    schema: Schema, made: Mapping[str, Made], before: Mapping[str, str]
) -> tuple[dict[str, str], dict[str, Made], set[str]]:
    """The files of a schema beside those of an earlier build; the models that were taken from it."""
    taken = set()

    def texts_of(model: Model, digest: str) -> dict[str, Callable[[], str]]:
        taken.add(model.name)
        places = (f"bees/{model.folder}/", model.tests)
        return {n: partial(str, text) for n, text in before.items() if n.startswith(places)}

    earlier = Earlier(made, texts_of)
    with patch.object(generation, "formatted", lambda found, known: dict(found)):
        found = generation.application_files(schema, SETTINGS, earlier=earlier)
    return dict(found), dict(earlier.now), taken


def test_after_any_change_all_files_are_what_they_are_without_an_earlier_build() -> None:
    reused, all_of_them = [], []

    @settings(max_examples=25, deadline=None, phases=[Phase.explicit, Phase.generate])
    @given(changed())
    def holds(texts: tuple[str, str]) -> None:
        (old, first), (new, second) = (understand(text) for text in texts)
        assume(not first and not second)
        before, made, _ = _built(old, {}, {})
        found, now, taken = _built(new, made, before)
        fresh, noted, _ = _built(new, {}, {})
        assert found == fresh
        assert now == noted
        reused.extend(taken)
        all_of_them.extend(new.models)

    holds()
    assert len(all_of_them) // 20 < len(reused) < len(all_of_them)


@pytest.mark.parametrize(
    ("old", "new", "kept"),
    [
        # Whoever looks at a model looks at all of it.
        (
            "text 4000, sample sentences(1..3)",
            "text 5000, sample sentences(1..3)",
            {"Queen", "Finding", "Harvest"},
        ),
        ('shown as "{mark}"', 'shown as "{mark} of {line}"', {"Apiary", "Finding"}),
    ],
)
def test_what_a_change_does_not_concern_is_not_made_anew(
    old: str, new: str, kept: set[str]
) -> None:
    text = DEMO
    assert old in text
    (schema, _), (changed_schema, problems) = understand(text), understand(text.replace(old, new))
    assert not problems
    before, made, _ = _built(schema, {}, {})
    found, _, taken = _built(changed_schema, made, before)
    assert found == _built(changed_schema, {}, {})[0]
    assert kept <= taken < schema.models.keys()


def test_what_was_edited_or_taken_out_goes_on_as_it_did(make: Callable[[str], Project]) -> None:
    text = "model Yard\n    name text 20, required\nmodel Crate\n    code text 9, required\n"
    called = text.replace("text 20", 'text 20, label "Called"')
    project = make(text)
    project.run("build")
    page = project.read("bees/yard/pages/list.html")
    project.write("bees/yard/model.py", project.read("bees/yard/model.py") + "\n\nMINE = 1\n")
    (project.root / "bees/yard/pages/list.html").unlink()
    for said in (text.replace("text 9", "text 8"), called, called.replace("text 9", "text 7")):
        project.declare(said)
        assert "brought up" in project.run("build").stdout
        assert project.read("bees/yard/model.py").endswith("MINE = 1\n")
        assert not (project.root / "bees/yard/pages/list.html").exists()
    # What the page did not hear of while it was away it gets on the day that it is back.
    project.write("bees/yard/pages/list.html", page)
    project.declare(called)
    project.run("build")
    fresh = make(called)
    fresh.run("build")
    for name in ("bees/yard/pages/list.html", "tests/test_yard.py", "bees/crate/form.py"):
        assert project.read(name) == fresh.read(name), name


def test_a_damaged_or_doubled_record_is_no_source_of_files(make: Callable[[str], Project]) -> None:
    text = "model Yard\n    name text 20, required\nmodel Crate\n    code text 9, required\n"
    project = make(text)
    project.run("build")
    wanted = project.read("bees/yard/form.py")
    pack = ".welbik/base/bees/yard.pack"
    lines = project.read(pack).splitlines(keepends=True)
    at = next(n for n, line in enumerate(lines) if line.startswith("form.py"))
    name, digest, packed, *more = lines[at].split("\t")
    for damaged in (
        [*lines[:at], "\t".join([name, digest, packed[:-9], *more]), *lines[at + 1 :]],
        [*lines, "\t".join([name, "0" * 16, packed, *more])],
        [*lines[:at], *lines[at + 1 :]],
    ):
        project.write(pack, "".join(damaged))
        (project.root / "bees/yard/form.py").write_text(wanted, "utf-8")
        text = (
            text.replace("text 9", "text 8")
            if "text 9" in text
            else text.replace("text 8", "text 9")
        )
        project.declare(text)
        project.run("build")
        assert project.read("bees/yard/form.py") == wanted


def test_files_follow_a_model_that_comes_to_be_called_otherwise(
    make: Callable[[str], Project],
) -> None:
    text = (
        "model HIVES\n    name text 9\nmodel Apiary\n    home -> HIVES\n    hives <- Box.apiary\n{}"
        "model Box\n    apiary -> Apiary\n    closed date\nmodel Other\n    it -> HIVES\n"
    )
    project = make(text.format(""))
    project.run("build")
    # Now a module has two things of that name: the class gets another, wherever it is told of.
    rules = '    rule count(hives where closed is empty) < 9\n    rule home.name != "x"\n'
    project.declare(text.format(rules))
    project.run("build")
    fresh = make(text.format(rules))
    fresh.run("build")
    assert "HIVES_" in fresh.read("bees/other/model.py")
    for name in ("bees/other/model.py", "bees/other/form.py", "tests/test_other.py"):
        assert project.read(name) == fresh.read(name), name
