"""Patterns: read as Python reads them, and their texts numbered without gap or double."""

from __future__ import annotations

import re

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from welbik.data.strings import take
from welbik.rules.patterns import PatternError, parse_pattern
from welbik.rules.strings import FULL, Strings

_ATOMS = st.sampled_from(
    ["a", "b", "[a-c]", "[^a-y]", r"\d", r"\w", ".", r"\.", "-", "[A-Z0-9_]", "é", r"[\]\-x]", "/"]
)
_REPEATS = st.sampled_from(["", "", "", "?", "*", "+", "{2}", "{1,3}", "{2,}"])


def _group(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    joined = st.lists(inner, min_size=1, max_size=3).map("".join)
    either = st.lists(joined, min_size=1, max_size=3).map("|".join)
    return st.tuples(either, _REPEATS).map(lambda pair: f"({pair[0]}){pair[1]}")


_PATTERN = st.lists(
    st.recursive(st.tuples(_ATOMS, _REPEATS).map("".join), _group, max_leaves=6),
    min_size=1,
    max_size=4,
).map("".join)


def _strings(text: str, low: int, high: int) -> Strings:
    """Skips what needs too large an automaton: that is refused, and said."""
    try:
        return Strings(parse_pattern(text), low, high)
    except PatternError as error:
        assert "too large" in error.message
        assume(False)
        raise


@given(_PATTERN, st.text("abxyz019_.-é/]A\n", max_size=8))
@settings(max_examples=300)
def test_a_text_matches_as_python_says(text: str, value: str) -> None:
    pattern = parse_pattern(text)
    expected = re.fullmatch(text, value, re.ASCII) is not None
    assert (re.fullmatch(pattern.text, value) is not None) == expected
    assert _strings(text, 0, 8).matches(value) == expected


@given(_PATTERN, st.integers(0, 3), st.integers(3, 8), st.randoms(use_true_random=False))
@settings(max_examples=200)
def test_every_number_has_its_own_matching_text(
    text: str, low: int, high: int, random: object
) -> None:
    strings = _strings(text, low, high)
    assume(strings.size)
    some = sorted({random.randrange(min(strings.size, FULL - 1)) for _ in range(60)})  # type: ignore[attr-defined]
    texts = take(strings, np.array(some), np.arange(len(some), dtype=np.uint64) * 977).tolist()
    assert len(set(texts)) == len(some)
    for value in texts:
        assert low <= len(value) <= high
        assert re.fullmatch(text, value, re.ASCII)
    if strings.size < FULL:
        assert texts == [strings.text(number) for number in some]


def test_texts_are_counted() -> None:
    assert Strings(parse_pattern("[ab]{2}c?"), 1, 9).size == 8
    assert Strings(parse_pattern("[A-Z]{2}-[0-9]{4}"), 7, 7).size == 26 * 26 * 10_000
    assert Strings(parse_pattern("a*"), 3, 5).size == 3
    assert Strings(parse_pattern("[a-z]{5}"), 1, 3).size == 0


def test_texts_of_an_endless_pattern_differ_from_their_start() -> None:
    strings = Strings(parse_pattern("[a-z0-9]{40}"), 1, 100)
    texts = take(
        strings, np.arange(500), np.random.default_rng(1).integers(0, 2**63, 500, dtype=np.uint64)
    )
    assert len(set(texts)) == 500
    assert len({text[:6] for text in texts}) > 450


@pytest.mark.parametrize(
    "text",
    [
        "(a",
        "a)",
        "[a",
        "a{2,1}",
        "a{3",
        "*a",
        "a**?",
        r"\1",
        r"\b",
        "(?i)a",
        "(?=a)",
        "a$b",
        "[z-a]",
        "\\",
        "a{5000}",
    ],
)
def test_what_engines_read_differently_is_refused(text: str) -> None:
    with pytest.raises(PatternError) as caught:
        Strings(parse_pattern(text), 1, 50)
    assert caught.value.message
