"""CONTRIBUTING's walk-through: a field type added in one file works in every artefact."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from declared import understand
from loaded import application

import welbik.kinds

SHADE = '''
"""A shade of grey, from 0 to 255, entered as a number."""

from dataclasses import dataclass
from typing import ClassVar

from welbik.kinds.base import Case, Control, Kind, Stored, no_range, wants


@dataclass(frozen=True, eq=False)
class Shade(Kind):
    word: ClassVar[str] = "shade"
    annotation: ClassVar[str] = "int"
    numeric: ClassVar[bool] = True

    @classmethod
    def read(cls, node, report):
        no_range(node, report)
        return cls()

    def stored(self):
        return Stored("integer", range="0..255")

    def default(self, given, report):
        literal = wants(given, ("number",), "whole number", report)
        return None if literal is None else int(literal.text)

    def control(self, field):
        return Control("Integer", {"low": "0", "high": "255"})

    def size(self):
        return 256

    def draw(self, field, stream):
        return stream.integers(0, 255, unique=field.unique)

    def cases(self, field):
        return [Case('"255"', True, "lightest"), Case('"256"', False, "too light")]
'''


@pytest.fixture
def shade(tmp_path: Path) -> Iterator[None]:
    (tmp_path / "shade.py").write_text(SHADE)
    welbik.kinds.__path__.append(str(tmp_path))
    welbik.kinds.kinds.cache_clear()
    yield
    welbik.kinds.__path__.remove(str(tmp_path))
    sys.modules.pop("welbik.kinds.shade", None)
    welbik.kinds.kinds.cache_clear()


DECLARED = (
    "model Tile\n    tone shade, required, unique, default 7\n    list name, tone\n"
    "    name text 9\nseed\n    40 Tile\n"
)


def test_a_type_in_one_file_reaches_everything(shade: None) -> None:
    with application(DECLARED) as app:
        page = app.client.get("/tiles/new").text
        assert 'min="0" max="255"' in page and 'value="7"' in page
        assert app.post("/tiles/new", {"tone": "256"}).status_code == 422
        taken = {int(number) for number in range(256)} - _stored(app.root)
        assert app.post("/tiles/new", {"tone": str(min(taken))}).status_code == 303
        assert 'class="number"' in app.client.get("/tiles").text


def _stored(root: Path) -> set[int]:
    import sqlite3

    with sqlite3.connect(root / "bees.db") as connection:
        found = {tone for (tone,) in connection.execute("SELECT tone FROM tile")}
    assert len(found) == 40
    return found


def test_without_the_file_there_is_no_such_type() -> None:
    assert [problem.code for problem in understand(DECLARED)[1]][:1] == ["unknown-type"]
