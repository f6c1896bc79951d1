"""Pools of words: what is listed in `words/`, and what is put together from the lists."""

from __future__ import annotations

import re
from functools import cache, lru_cache
from importlib.resources import files
from itertools import product

import numpy as np
from numpy.typing import NDArray

_CHOICE = re.compile(r"\(([^()]*)\)")


@cache
def listed(name: str) -> tuple[str, ...]:
    """What the lines of `words/NAME.txt` stand for: `(a|b) c` is both "a c" and "b c"."""
    text = files(__package__).joinpath("words", f"{name}.txt").read_text("utf-8")
    lines = [line for line in text.splitlines() if line and not line.startswith("#")]
    return tuple(dict.fromkeys(text for line in lines for text in _each(line)))


def _each(line: str) -> list[str]:
    """A line with each choice made in each way."""
    plain = _CHOICE.split(line)
    parts = [part.split("|") if at % 2 else [part] for at, part in enumerate(plain)]
    return ["".join(words) for words in product(*parts)]


def _joined(pattern: str, *names: str) -> list[str]:
    return [pattern.format(*parts) for parts in product(*map(listed, names))]


@cache
def _pool(name: str) -> tuple[str, ...]:
    if name == "person":
        return tuple(_joined("{} {}", "given_name", "family_name"))
    if name == "town":
        return tuple(_joined("{}{}", "town_start", "town_end"))
    if name == "more_town":
        before = ("Great", "Little", "Upper", "Lower", "East", "West", "Old", "Long", "Castle")
        return tuple(f"{word} {town}" for word in before for town in _pool("town"))
    if name == "street":
        return tuple(_joined("{} {}", "street_name", "street_kind"))
    if name == "company":
        return tuple(_joined("{} {}", "family_name", "company_kind"))
    if name == "thing":
        return tuple(text.capitalize() for text in _joined("{} {}", "adjective", "noun"))
    if name == "title":
        return tuple(f"The {text}" for text in _joined("{} {}", "adjective", "noun"))
    if name == "words":
        return (*listed("noun"), *_joined("{} {}", "adjective", "noun"))
    return () if name.startswith("more_") else listed(name)


@lru_cache(maxsize=256)
def options(name: str, shortest: int, longest: int) -> NDArray[np.object_]:
    """The texts of a pool within a length, each once."""
    found = [text for text in dict.fromkeys(_pool(name)) if shortest <= len(text) <= longest]
    array = np.empty(len(found), dtype=object)
    array[:] = found
    return array
