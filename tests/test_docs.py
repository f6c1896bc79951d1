"""What the documents say is so."""

from __future__ import annotations

import re

import pytest
from conftest import HERE
from declared import understand

from welbik.cli.main import COMMANDS

DOCUMENTS = ["README.md", "docs/language.md", "CONTRIBUTING.md"]
ROOT = HERE.parent


@pytest.mark.parametrize("document", DOCUMENTS)
def test_every_example_is_understood(document: str) -> None:
    text = (ROOT / document).read_text("utf-8")
    for example in re.findall(r"```welbik\n(.*?)```", text, re.DOTALL):
        problems = understand(
            example + ("\nmodel Apiary\n    name text 9\n" if "-> Apiary" in example else "")
        )[1]
        assert not problems, problems


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
    assert not problems
    assert {field.kind.word for model in schema for field in model.fields} >= {
        "text",
        "integer",
        "decimal",
        "number",
        "date",
        "datetime",
        "one",
        "email",
    }
    assert {r.removal for model in schema for r in model.references} == {
        "refuse",
        "clear",
        "remove",
    }
