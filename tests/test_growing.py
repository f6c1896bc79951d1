"""Declarations whose meaning doubles with each line are refused with a message, or stay cheap."""

from __future__ import annotations

import os
import resource
import subprocess

import pytest
from conftest import WELBIK, Project
from growing import SHAPES

SECONDS, BYTES = 20, 2_000_000_000


def _bounded() -> None:
    resource.setrlimit(resource.RLIMIT_CPU, (SECONDS, SECONDS))
    resource.setrlimit(resource.RLIMIT_AS, (BYTES, BYTES))


@pytest.mark.parametrize("name", SHAPES)
def test_a_short_declaration_costs_little(project: Project, name: str) -> None:
    """No command uses up its processor time or memory; what `check` refuses, it refuses with a place."""
    text = SHAPES[name]
    project.declare(text)
    model = text.partition("model ")[2].split()[0]
    for command in (["check"], ["build"], ["sample", model]):
        done = subprocess.run(
            [WELBIK, *command],
            cwd=project.root,
            preexec_fn=_bounded,
            env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
            capture_output=True,
            text=True,
            check=False,
        )
        if done.returncode:
            assert command == ["check"] and done.returncode == 1, (name, done.stderr)
            assert "models/bees.welbik:" in done.stdout, done.stderr
            return
