"""People: whose name, parts of it, e-mail address and user name belong together.

Nobody's name comes twice before all have come once; then a letter, and a number, stand between.
"""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from .streams import RowStream, key_of, permuted
from .wordlists import listed

Texts = NDArray[np.object_]
_DOMAINS = ("example.org", "example.com", "example.net")
"""Reserved for examples by RFC 2606: no made-up address is anybody's."""
_LETTERS = "ABCDEFGHIJKLMNOPRSTVW"


def names_of(stream: RowStream, whose: str, part: str = "whole") -> Texts:
    """The names of the people of a model's rows: whole, given or family.

    `whose` tells several people of one row apart; empty for the one that the row stands for.
    """
    given, family = listed("given_name"), listed("family_name")
    size = len(given) * len(family)
    rounds, at = np.divmod(stream.index, size)
    order = permuted(at, size, key_of(stream.seed, stream.names[0], whose, "person")).tolist()
    names: list[str] = []
    for person, again in zip(order, rounds.tolist(), strict=True):
        first, last = given[person % len(given)], family[person // len(given)]
        if part == "given":
            names.append(first)
        elif part == "family":
            names.append(last)
        else:
            names.append(f"{first} {_between(again)}{last}")
    return _objects(names)


def _between(again: int) -> str:
    """What sets a name apart from the same one before it."""
    if not again:
        return ""
    number, letter = divmod(again - 1, len(_LETTERS))
    return f"{_LETTERS[letter]}.{number + 1 if number else ''} "


def emails_of(stream: RowStream, names: Texts, unique: bool, distinct: bool) -> Texts:
    """Addresses made of names at reserved domains; with a number where names may be the same."""
    numbers = stream.index.tolist() if unique and not distinct else [""] * len(names)
    if unique:
        # One domain for all: what differs is the name.
        domains = [_DOMAINS[0]] * len(names)
    else:
        domains = [
            _DOMAINS[int(at)] for at in (stream.fractions("domain") * len(_DOMAINS)).astype(int)
        ]
    return _objects(
        [
            f"{local(name)}{n}@{domain}"
            for name, n, domain in zip(names, numbers, domains, strict=True)
        ]
    )


def usernames_of(names: Texts, longest: int, numbers: list[int] | None) -> Texts:
    """User names made of names, as short as they must be; with a number where they must differ."""
    ends = [""] * len(names) if numbers is None else [str(n + 1) for n in numbers]
    return _objects(
        [
            f"{local(name)[: longest - len(n)].strip('.')}{n}"
            for name, n in zip(names, ends, strict=True)
        ]
    )


@lru_cache(maxsize=50_000)
def local(name: str) -> str:
    """A name as the part before the @: small ASCII letters and dots, and a number that it has."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    return re.sub(r"[^a-z0-9]+", ".", plain).strip(".")[:40] or "someone"


@lru_cache(maxsize=1)
def told_apart() -> bool:
    """Whether all names still differ as addresses have them."""
    return all(
        len({local(name) for name in listed(pool)}) == len(listed(pool))
        for pool in ("given_name", "family_name")
    )


def _objects(values: list[str]) -> Texts:
    array = np.empty(len(values), dtype=object)
    array[:] = values
    return array
