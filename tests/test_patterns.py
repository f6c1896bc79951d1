"""Patterns: read as Python reads them, and their texts numbered without gap or double."""

from __future__ import annotations

import re
from collections.abc import Iterator

import numpy as np
import pytest
from declared import understand
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from welbik.data.strings import take
from welbik.rules.ambiguity import worst_steps
from welbik.rules.patterns import Either, Node, PatternError, Repeat, Sequence, Set, parse_pattern
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


class _Backtracker:
    """Reads a text as engines do that go back and try again, and counts what it reads."""

    def __init__(self, text: str) -> None:
        self.text, self.reads = text, 0

    def ends(self, node: Node, at: int) -> Iterator[int]:
        if isinstance(node, Set):
            code = ord(self.text[at]) if at < len(self.text) else -1
            if any(low <= code <= high for low, high in node.intervals):
                self.reads += 1
                yield at + 1
        elif isinstance(node, Sequence):
            yield from self.sequence(node.parts, at)
        elif isinstance(node, Either):
            for way in node.ways:
                yield from self.ends(way, at)
        else:
            yield from self.repeated(node, at, 0)

    def sequence(self, parts: tuple[Node, ...], at: int) -> Iterator[int]:
        if not parts:
            yield at
            return
        for end in self.ends(parts[0], at):
            yield from self.sequence(parts[1:], end)

    def repeated(self, node: Repeat, at: int, times: int) -> Iterator[int]:
        if node.high is None or times < node.high:
            for end in self.ends(node.part, at):
                if end > at or times < node.low:
                    yield from self.repeated(node, end, times + 1)
        if times >= node.low:
            yield at


@given(_PATTERN, st.text("ab0.-", max_size=12))
@settings(max_examples=300)
def test_no_text_takes_more_steps_than_are_counted(text: str, value: str) -> None:
    pattern = parse_pattern(text)
    try:
        bound = worst_steps(pattern, len(value) + 1)[-1]
    except PatternError:
        assume(False)
        raise
    engine = _Backtracker(value + "!")
    for _ in engine.ends(pattern.tree, 0):
        if engine.reads > 50_000:
            break
    assert engine.reads <= bound or bound > 50_000


SLOW = ["([a-z]+ ?)+", "(a|aa)+", "(a*)*", "(a?){30}", "(a|b|ab)*c", "(a{10}|a{20})*"]
FAST = ["[A-Z]{2}-[0-9]{4}", "[a-z0-9]+(-[a-z0-9]+)*", r"\w+( \w+)*", "[^,]+,[^,]+", "(ab?)*c"]


@pytest.mark.parametrize("pattern", SLOW)
def test_what_could_hold_up_a_worker_is_refused(pattern: str) -> None:
    for place in (
        f'code text 1..900, matches "{pattern}"',
        f'code text 1..900\n    rule code matches "{pattern}"',
    ):
        (problem,) = understand(f"model Hive\n    {place}\n")[1]
        assert problem.code == "bad-pattern" and "900 characters" in problem.message


@pytest.mark.parametrize("pattern", FAST)
def test_what_reads_a_text_in_one_way_is_taken(pattern: str) -> None:
    shown = pattern.replace("\\", "\\\\")
    assert not understand(f'model Hive\n    code text, matches "{shown}"\n')[1]


def test_the_length_of_a_text_decides_where_ways_are_few() -> None:
    for length, count in (("1..90", 0), ("", 1)):
        text = f'model Hive\n    code text {length}, matches "[a-z]*[a-z0-9]*"\n'
        assert len(understand(text)[1]) == count


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
