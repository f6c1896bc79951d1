"""Made-up texts and e-mail addresses: believable, within bounds, different where they must be."""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..rules.patterns import Pattern, parse_pattern
from ..rules.strings import Strings
from ..schema.model import Field, Model
from .meaning import is_person, meaning_of
from .streams import RowStream, permuted
from .strings import take
from .wordlists import options

Texts = NDArray[np.object_]

_DOMAINS = ("example.org", "example.com", "example.net")
"""Reserved for examples by RFC 2606: no made-up address is anybody's."""

_PROSE = 4000
"""The longest text worth making of sentences, where so much must be said."""

_NUMBERED = 8
"""Characters kept free for " 123456", which sets repeated names apart."""


@lru_cache(maxsize=64)
def _strings(pattern: Pattern, shortest: int, longest: int | None) -> Strings:
    return Strings(pattern, shortest, longest)


@lru_cache(maxsize=8)
def _letters() -> Pattern:
    return parse_pattern("[a-z]+")


def draw_texts(
    stream: RowStream, model: Model, field: Field, shortest: int, longest: int | None
) -> Texts:
    """Texts of `shortest` to `longest` characters that suit the field."""
    if field.pattern is not None:
        return _matching(stream, _strings(field.pattern, shortest, longest), field.unique)
    meaning = meaning_of(model, field)
    most = 10_000 if longest is None else longest
    if meaning.pattern:
        strings = _strings(parse_pattern(meaning.pattern), shortest, most)
        if strings.size:
            return _matching(stream, strings, field.unique)
    if meaning.sentences:
        return _sentences(stream, meaning.sentences, shortest, most, field.unique)
    if field.unique:
        return _distinct(stream, meaning.pool, shortest, most)
    pool = options(meaning.pool, shortest, most)
    if len(pool):
        return stream.pick(pool)
    return _matching(stream, _strings(_letters(), shortest, most), False)


def _matching(stream: RowStream, strings: Strings, unique: bool) -> Texts:
    numbers = stream.integers(0, strings.size - 1, unique=unique)
    return take(strings, numbers, stream.words("noise"))


def _distinct(stream: RowStream, pool_name: str, shortest: int, most: int) -> Texts:
    """Each text of the pool once in a shuffled order, then each again with a number behind it."""
    pool = options(pool_name, shortest, most - _NUMBERED)
    if not len(pool):
        return _matching(stream, _strings(_letters(), shortest, most), True)
    rounds, places = np.divmod(stream.index, len(pool))
    texts = pool[permuted(places, len(pool), stream.key("order"))]
    again = rounds > 0
    texts[again] = [
        f"{text} {n + 1}" for text, n in zip(texts[again], rounds[again].tolist(), strict=True)
    ]
    return texts


def _sentences(
    stream: RowStream, count: tuple[int, int], shortest: int, most: int, unique: bool
) -> Texts:
    pool = options("sentences", 1, most)
    if not len(pool):
        return _matching(stream, _strings(_letters(), shortest, most), unique)
    if shortest > _PROSE:
        return _endless(stream, pool, shortest)
    texts = stream.pick(pool, purpose="sentence 1")
    wanted = stream.integers(count[0], count[1], purpose="sentences")
    for number in range(2, count[1] + 4 + shortest // 12):
        more = stream.pick(pool, purpose=f"sentence {number}")
        lengths = np.fromiter(map(len, texts), dtype=np.int64, count=len(texts))
        added = np.fromiter(map(len, more), dtype=np.int64, count=len(more)) + 1
        if number > count[1] and not (lengths < shortest).any():
            break
        grows = ((wanted >= number) | (lengths < shortest)) & (lengths + added <= most)
        texts[grows] = [f"{a} {b}" for a, b in zip(texts[grows], more[grows], strict=True)]
    short = np.fromiter((len(text) < shortest for text in texts), dtype=bool, count=len(texts))
    texts[short] = [text.ljust(shortest, ".") for text in texts[short]]
    if unique:
        numbered = (
            f"{n} {text}"[:most] for n, text in zip(stream.index.tolist(), texts, strict=True)
        )
        texts[:] = [text if text[-1] != " " else f"{text[:-1]}." for text in numbered]
    return texts


def _endless(stream: RowStream, pool: Texts, length: int) -> Texts:
    """Very long texts: the row's number, then a sentence over and over."""
    texts = stream.pick(pool)
    for at, number in enumerate(stream.index.tolist()):
        repeated = f"{number} " + f"{texts[at]} " * (length // len(texts[at]) + 1)
        texts[at] = f"{repeated[: length - 1]}."
    return texts


def name_field(model: Model) -> Field | None:
    """The field that holds the name of a person, where there is one."""
    return next((f for f in model.fields if f.kind.textual and is_person(model, f)), None)


def draw_emails(stream: RowStream, names: Texts | None, unique: bool) -> Texts:
    """Addresses made of the rows' own names, where they have some, at reserved domains."""
    if names is None:
        names = stream.pick(options("person", 1, 60), purpose="person")
    domains = stream.pick(_DOMAINS, purpose="domain").tolist()
    numbers = stream.index.tolist() if unique else [""] * len(domains)
    out = np.empty(len(domains), dtype=object)
    out[:] = [
        f"{_local(name)}{n}@{domain}"
        for name, n, domain in zip(names, numbers, domains, strict=True)
    ]
    return out


@lru_cache(maxsize=50_000)
def _local(name: str) -> str:
    """A name as the part before the @: small ASCII letters and dots, no digit at its end."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    # Digits go: the number that sets addresses apart must not run into them.
    return re.sub(r"[^a-z]+", ".", plain).strip(".")[:40] or "someone"


def _plain(name: str) -> str:
    """A text as small ASCII words with dashes."""
    text = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    return re.sub(r"[^a-z0-9]+", "-", text).strip("-")


def draw_addresses(stream: RowStream, unique: bool) -> Texts:
    """Web addresses below reserved domains; with the row's number where they must differ."""
    words = stream.pick(options("words", 1, 40))
    domains = stream.pick(_DOMAINS, purpose="domain")
    numbers = stream.index.tolist() if unique else [""] * len(words)
    out = np.empty(len(words), dtype=object)
    out[:] = [
        f"https://{domain}/{_plain(word)}{'-' if unique else ''}{n}"
        for word, domain, n in zip(words, domains, numbers, strict=True)
    ]
    return out


def draw_phones(stream: RowStream, unique: bool) -> Texts:
    """Numbers of ranges kept for drama; with an extension where they must differ."""
    # Ofcom keeps 01632 960000 to 960999 free for this.
    ends = stream.integers(0, 999)
    out = np.empty(len(ends), dtype=object)
    out[:] = [f"+44 1632 960{end:03}" for end in ends.tolist()]
    if unique:
        out[:] = [f"{text} x{n}" for text, n in zip(out, stream.index.tolist(), strict=True)]
    return out


def draw_slugs(stream: RowStream, words: Texts | None, longest: int) -> Texts:
    """The rows' own texts as words, each one's number behind it so that all differ."""
    if words is None:
        words = stream.pick(options("words", 1, 40))
    out = np.empty(len(words), dtype=object)
    out[:] = [
        f"{_plain(str(word))[: longest - 12].strip('-') or 'row'}-{n + 1}"
        for word, n in zip(words, stream.index.tolist(), strict=True)
    ]
    return out
