"""No input whatever breaks the reader, and no request the site: for an hour with make fuzz."""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator

import pytest
from conftest import HERE
from fuzzing import WHOLE, Requests, Site, site
from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st
from servers import WORDS

sys.path.insert(0, str(HERE.parent / "bench"))

ROUNDS = int(os.environ.get("FUZZ_ROUNDS", "15"))
SEED = int(os.environ.get("FUZZ_SEED", "0"))


@pytest.mark.parametrize("seed", range(4))
def test_damaged_declarations_are_read_and_explained(seed: int) -> None:
    from language import fuzzed

    assert fuzzed(1_200, seed) > 700


@pytest.fixture(scope="module", params=WORDS)
def opened(request: pytest.FixtureRequest) -> Iterator[Site]:
    with site(WHOLE, request.param) as found:
        yield found


@pytest.mark.parametrize("part", range(2))
def test_no_request_breaks_the_site_or_a_row(opened: Site, part: int) -> None:
    """Bounds on time, memory, bytes sent and logged; rows that keep all; no change lost."""
    requests = Requests(opened)

    @seed(2 * SEED + part)
    @given(st.data())
    @settings(
        # Most rounds go to the one that is brought back to its first rows.
        max_examples=ROUNDS if opened.empty else max(4, ROUNDS // 3),
        stateful_step_count=20,
        phases=[Phase.generate, Phase.shrink],
        suppress_health_check=list(HealthCheck),
        database=None,
    )
    def round_of_requests(data: st.DataObject) -> None:
        opened.restore()
        for _ in range(data.draw(st.integers(1, 12))):
            requests.step(data.draw)
        opened.check()

    round_of_requests()
