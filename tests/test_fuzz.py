"""No input whatever breaks the reader: tens of thousands of damaged files; a million with make fuzz."""

from __future__ import annotations

import sys

import pytest
from conftest import HERE

sys.path.insert(0, str(HERE.parent / "bench"))


@pytest.mark.parametrize("seed", range(4))
def test_damaged_declarations_are_read_and_explained(seed: int) -> None:
    from language import fuzzed

    assert fuzzed(5_000, seed) > 3_000
