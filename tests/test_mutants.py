"""Breakages of code are found by its syntax, and a sample of them does not get past the demo's own tests."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest
from conftest import HERE, Project
from mutants.demo import groups
from mutants.mutations import of_python, of_template
from mutants.trial import Mutant, outcomes, sample

KIT = HERE.parent / "src" / "welbik" / "blueprint" / "kit"
SAMPLE = {"models": 1, "controllers": 1, "templates": 1, "kit": 1}


@pytest.mark.parametrize("path", sorted(KIT.glob("*.py")), ids=lambda path: path.name)
def test_every_breakage_is_another_program(path: Path) -> None:
    source = path.read_text("utf-8")
    whole = ast.dump(ast.parse(source))
    found = list(of_python(source))
    for mutation in found[:: max(1, len(found) // 25)]:
        assert ast.dump(ast.parse(mutation.text)) != whole, mutation
    assert len({mutation.text for mutation in found}) == len(found) or path.name in ("__init__.py",)


def test_breakages_are_those_that_the_syntax_has() -> None:
    source = "def f(a, b=2):\n    if a < b and not a:\n        g(a, c=1)\n    return a\n"
    texts = {mutation.text.replace("(", "").replace(")", "") for mutation in of_python(source)}
    for changed in ("a <= b", "or not a", "and a:", "not a < b", "b=3", "return None", "pass"):
        assert any(changed in text for text in texts), changed
    assert list(of_python("x: int\nimport y\n")) == []
    page = '{% if a %}<a href="x">{{ b }}</a>{% endif %}'
    assert {mutation.text for mutation in of_template(page)} == {
        '{% if not (a) %}<a href="x">{{ b }}</a>{% endif %}',
        '{% if a %}<a href="x"></a>{% endif %}',
        "{% if a %}<a>{{ b }}</a>{% endif %}",
    }


def test_a_sample_is_noticed_by_the_demos_own_tests(empty: Project) -> None:
    empty.run("init", "register", "--package", "beekeepers")
    project = Project(empty.root / "register")
    # What no declaration uses no test can notice: decimals stand in the kit's columns all the same.
    field = "    frames      integer"
    project.replace("models/beekeepers.welbik", field, f"    weight decimal 0.0..90.0\n{field}")
    for command in ("build", "migrate"):
        project.run(command)
    tried = sample(groups(project.root), SAMPLE, seed=14)

    def tests(mutant: Mutant) -> list[str]:
        if "/kit/" in mutant.path:
            return ["tests"]
        own = f"tests/test_{mutant.path.split('/')[1]}.py"
        first = own if (project.root / own).exists() else "tests/test_hive.py"
        return [first, "tests/test_tables.py"]

    found = outcomes(project.root, tried, tests)
    assert [str(mutant) for mutant, caught in found if not caught] == []
