"""Made-up texts and e-mail addresses: believable, within bounds, different where they must be."""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..rules.patterns import Pattern, parse_pattern
from ..rules.strings import Strings
from ..rules.tree import walk
from ..schema.model import Field, Model
from .meaning import Meaning, is_person, meaning_of
from .people import emails_of, names_of, told_apart, usernames_of
from .prose import reasons, sentences
from .streams import RowStream, permuted, permuted_each
from .strings import take
from .wordlists import options

Texts = NDArray[np.object_]

_DOMAINS = ("example.org", "example.com", "example.net")
"""Reserved for examples by RFC 2606: no made-up address is anybody's."""

_PROSE = 4000
"""The longest text worth making of sentences, where so much must be said."""

_IN_TURN = ("thing", "title", "company")
"""The lists of what things are called: most are called differently, also where they need not be."""

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
        return _sentences(stream, model, meaning, shortest, most, field.unique)
    person = _person(stream, field, meaning, shortest, most)
    if person is not None:
        return person
    if meaning.pool == "street":
        streets = _streets(stream, shortest, most, field.unique)
        if streets is not None:
            return streets
    if field.unique:
        return _distinct(stream, meaning.pool, shortest, most)
    pool = options(meaning.pool, shortest, most)
    if len(pool) and meaning.pool in _IN_TURN:
        return _in_turn(stream, pool)
    if len(pool):
        return stream.pick(pool)
    return _matching(stream, _strings(_letters(), shortest, most), False)


def _in_turn(stream: RowStream, pool: Texts) -> Texts:
    """Every text of a list once, in a shuffled order, then each again in another."""
    rounds, places = np.divmod(stream.index, len(pool))
    sizes = np.full(len(places), len(pool), dtype=np.int64)
    return pool[permuted_each(places, sizes, rounds, stream.key("order"))]


def turns(model: Model, field: Field, index: NDArray[np.int64]) -> NDArray[np.int64] | None:
    """How often the texts of a field have all come before each row; None where that is not known."""
    meaning, kind = meaning_of(model, field), field.kind
    ruled = {part.name for rule in model.rules for part in walk(rule.node) if hasattr(part, "name")}
    grouped = {name for group in model.uniques for name in group.names}
    plain = meaning.plain and meaning.pool in _IN_TURN and not (field.sample or field.pattern)
    if not plain or field.unique or field.name in ruled | grouped:
        return None
    longest = getattr(kind, "longest", None)
    pool = options(
        meaning.pool, getattr(kind, "shortest", 1), 10_000 if longest is None else longest
    )
    return index // len(pool) if len(pool) else None


def _matching(stream: RowStream, strings: Strings, unique: bool) -> Texts:
    numbers = stream.integers(0, strings.size - 1, unique=unique)
    return take(strings, numbers, stream.words("noise"))


def _distinct(stream: RowStream, pool_name: str, shortest: int, most: int) -> Texts:
    """Each text of the pool once in a shuffled order, then each again with a number behind it."""
    near = options(pool_name, shortest, most - _NUMBERED)
    pool = np.concatenate([near, options(f"more_{pool_name}", shortest, most - _NUMBERED)])
    if not len(pool):
        return _matching(stream, _strings(_letters(), shortest, most), True)
    first = len(near) or len(pool)
    rounds, places = np.divmod(stream.index, len(pool))
    # The plain ones of a list come first, then those that are made of them.
    soon = places < first
    order = np.empty(len(places), dtype=np.int64)
    order[soon] = permuted(places[soon], first, stream.key("order"))
    if first < len(pool):
        more = permuted(places[~soon] - first, len(pool) - first, stream.key("order"))
        order[~soon] = first + more
    texts = pool[order]
    again = rounds > 0
    texts[again] = [
        f"{text} {n + 1}" for text, n in zip(texts[again], rounds[again].tolist(), strict=True)
    ]
    return texts


def _person(
    stream: RowStream, field: Field, meaning: Meaning, shortest: int, most: int
) -> Texts | None:
    """Names of people, or parts of them; those that are not short or long enough are others."""
    parts = {"person": "whole", "given_name": "given", "family_name": "family", "user": "whole"}
    if meaning.pool not in parts:
        return None
    if field.unique and meaning.pool in ("given_name", "family_name"):
        return None
    names = names_of(stream, meaning.whose, parts[meaning.pool])
    if meaning.pool == "user":
        numbers = None if told_apart() and most >= 40 or not field.unique else stream.index.tolist()
        names = usernames_of(names, most, numbers)
    wrong = np.array([not shortest <= len(name) <= most for name in names], dtype=bool)
    if not wrong.any():
        return names
    pool = options("given_name" if meaning.pool == "user" else meaning.pool, shortest, most)
    if field.unique or not len(pool):
        return None
    names[wrong] = stream.pick(pool, purpose="of the right length")[wrong]
    return names


def _streets(stream: RowStream, shortest: int, most: int, unique: bool) -> Texts | None:
    """A street and a number of it, low ones more often."""
    pool = options("street", max(1, shortest - 2), most - 4)
    if not len(pool):
        return None
    if unique:
        rounds, places = np.divmod(stream.index, len(pool))
        streets = pool[permuted(places, len(pool), stream.key("order"))]
        numbers = rounds + 1
    else:
        streets = stream.pick(pool)
        numbers = 1 + (stream.fractions("number") ** 2 * 180).astype(np.int64)
    texts = _texts([f"{n} {street}" for n, street in zip(numbers.tolist(), streets, strict=True)])
    short = all(shortest <= len(text) <= most for text in texts)
    return texts if short else None


def _sentences(
    stream: RowStream, model: Model, meaning: Meaning, shortest: int, most: int, unique: bool
) -> Texts:
    """As many sentences as are wanted, more where a text must be longer."""
    count = meaning.sentences or (1, 1)
    texts = None
    if meaning.why and shortest <= 20:
        texts = reasons(stream, most)
        count = 1, 1
    if texts is None:
        texts = sentences(stream, model, most, "sentence 1")
    if texts is None:
        return _matching(stream, _strings(_letters(), shortest, most), unique)
    if shortest > _PROSE:
        return _endless(stream, texts, shortest)
    wanted = stream.integers(count[0], count[1], purpose="sentences")
    for number in range(2, count[1] + 4 + shortest // 12):
        lengths = np.fromiter(map(len, texts), dtype=np.int64, count=len(texts))
        if number > count[1] and not (lengths < shortest).any():
            break
        more = sentences(stream, model, most, f"sentence {number}")
        if more is None:
            break
        added = np.fromiter(map(len, more), dtype=np.int64, count=len(more)) + 1
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


def _endless(stream: RowStream, texts: Texts, length: int) -> Texts:
    """Very long texts: the row's number, then a sentence over and over."""
    for at, number in enumerate(stream.index.tolist()):
        repeated = f"{number} " + f"{texts[at]} " * (length // len(texts[at]) + 1)
        texts[at] = f"{repeated[: length - 1]}."
    return texts


def name_field(model: Model) -> Field | None:
    """The field that holds the name of a person, where there is one."""
    return next((f for f in model.fields if f.kind.textual and is_person(model, f)), None)


def is_ours(named: Field) -> bool:
    """Whether the names of a field are made of our lists, and nothing else is said of them."""
    own = all(term.word in ("person", "town", "empty") for term in named.sample)
    return named.pattern is None and own


def draw_emails(stream: RowStream, model: Model, names: Texts | None, unique: bool) -> Texts:
    """Addresses made of the rows' own names, where they have some, at reserved domains."""
    named = name_field(model)
    ours = named is None or is_ours(named)
    if names is None or ours:
        names, ours = names_of(stream, ""), True
    return emails_of(stream, names, unique, ours and told_apart())


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


_DIALLED = (
    *(f"01632 960{n:03}" for n in range(1000)),
    *(f"0{area} 496 0{n:03}" for area in (113, 114, 115, 116, 117, 118) for n in range(1000)),
    *(f"0{area} 496 0{n:03}" for area in (121, 131, 141, 151, 161) for n in range(1000)),
    *(f"020 7946 0{n:03}" for n in range(1000)),
    *(f"07700 900{n:03}" for n in range(1000)),
)
"""Numbers that Ofcom keeps free for drama: nobody has them."""


def draw_phones(stream: RowStream, unique: bool) -> Texts:
    """Numbers of ranges kept for drama; with an extension where all have come once."""
    if not unique:
        ends = stream.integers(0, len(_DIALLED) - 1).tolist()
        return _texts([f"+44 {_DIALLED[end][1:]}" for end in ends])
    rounds, at = np.divmod(stream.index, len(_DIALLED))
    order = permuted(at, len(_DIALLED), stream.key("order")).tolist()
    return _texts(
        [
            f"+44 {_DIALLED[end][1:]}" + (f" x{again}" if again else "")
            for end, again in zip(order, rounds.tolist(), strict=True)
        ]
    )


def _texts(values: list[str]) -> Texts:
    out = np.empty(len(values), dtype=object)
    out[:] = values
    return out


def draw_slugs(
    stream: RowStream,
    words: Texts | None,
    longest: int,
    turns: NDArray[np.int64] | None = None,
) -> Texts:
    """The rows' own texts as words.

    Each has a number behind it: how often it came before, where `turns` tells that and it did;
    else that of its row.
    """
    if words is None:
        words = stream.pick(options("words", 1, 40))
    numbers = stream.index + 1 if turns is None else np.where(turns > 0, turns + 1, 0)
    found = []
    for word, n in zip(words, numbers.tolist(), strict=True):
        behind = f"-{n}" if n else ""
        found.append((_plain(str(word))[: longest - len(behind)].strip("-") or "row") + behind)
    return _texts(found)
