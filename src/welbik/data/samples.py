"""`sample`: values with a distribution of their own, and relations with a fan-out."""

from __future__ import annotations

from collections.abc import Container, Sequence

import numpy as np
from numpy.typing import NDArray

from ..kinds.base import Array
from ..kinds.text import POOLS
from ..rules.arrays import Arrays, Rows
from ..rules.tree import Node
from ..schema.fan_outs import fan_outs, fewest
from ..schema.model import Field, Reference, Schema, Term
from .field_stream import FieldStream
from .fixed import encoded
from .meaning import meaning_of
from .people import names_of
from .prose import reasons, sentences
from .sharing import NO_END, Law
from .wordlists import options


def empty_share(terms: Sequence[Term], usual: float) -> float:
    """The share of rows without a value."""
    for term in terms:
        if term.word == "empty":
            return float(term.arguments[0])  # type: ignore[arg-type]
    return 0.0 if any(term.word not in ("per",) for term in terms) else usual


def draw(field: Field, stream: FieldStream) -> Array:
    """A value for each row: as `sample` says, else as the field's kind draws it."""
    for term in field.sample:
        if term.word == "weights":
            return _weighted(field, term, stream)
        if term.word == "person" and not field.unique:
            people = names_of(stream, "" if field.name == "name" else field.name)
            if _fitting(field, people):
                return people
        if term.word in POOLS and not field.unique:
            found = _from_pool(field, term.word, stream)
            if found is not None:
                return found
        if term.word in ("words", "sentences") and not field.unique:
            return _prose(field, term, stream)
        if term.word == "from":
            return _listed(field, term, stream)
    return field.kind.draw(field, stream)


def _fitting(field: Field, texts: Array) -> bool:
    shortest = getattr(field.kind, "shortest", 1)
    longest = getattr(field.kind, "longest", None) or 10_000
    return all(shortest <= len(text) <= longest for text in texts.tolist())


def _weighted(field: Field, term: Term, stream: FieldStream) -> Array:
    weights = np.array(term.arguments, dtype=np.float64)
    chosen = np.searchsorted(np.cumsum(weights) / weights.sum(), stream.fractions(), side="right")
    names = list(field.kind.labels())
    if not names:
        return chosen == 0
    pool = np.empty(len(names), dtype=object)
    pool[:] = names
    return pool[np.minimum(chosen, len(names) - 1)]


def _from_pool(field: Field, word: str, stream: FieldStream) -> Array | None:
    shortest = getattr(field.kind, "shortest", 1)
    longest = getattr(field.kind, "longest", None) or 10_000
    pool = options(word, shortest, longest)
    return stream.pick(pool) if len(pool) else None


def _prose(field: Field, term: Term, stream: FieldStream) -> Array:
    """So many words or sentences, cut where they would be too long."""
    given = term.arguments[0]
    low, high = given if isinstance(given, tuple) else (int(given), int(given))  # type: ignore[call-overload]
    longest = getattr(field.kind, "longest", None) or 10_000
    shortest = getattr(field.kind, "shortest", 1)
    if term.word == "words":
        why = meaning_of(stream.model, field).why
        told = reasons(stream, longest, (low, high)) if why and shortest <= 8 else None
        if told is not None:
            return told
        parts = _words(stream, high, longest)
    else:
        parts = [
            found
            for n in range(high)
            if (found := sentences(stream, stream.model, longest, f"part {n}")) is not None
        ]
    if not parts:
        return field.kind.draw(field, stream)
    wanted = stream.integers(low, high, purpose="how many")
    backwards = term.word == "words"
    first, *others = parts[::-1] if backwards else parts
    out = first.astype(object)
    lengths = _lengths(out)
    for number, part in enumerate(others, 2):
        longer = lengths + 1 + _lengths(part)
        more = (wanted >= number) & (longer <= longest)
        out[more] = part[more] + " " + out[more] if backwards else out[more] + " " + part[more]
        lengths = np.where(more, longer, lengths)
    if backwards:
        out[:] = [text[:1].upper() + text[1:] for text in out]
    for at in np.flatnonzero(lengths < shortest):
        out[at] = out[at].ljust(shortest, ".")
    return out


def _lengths(texts: Array) -> NDArray[np.int64]:
    return np.fromiter(map(len, texts), dtype=np.int64, count=len(texts))


def _words(stream: FieldStream, most: int, longest: int) -> list[Array]:
    """A noun at last, and before it words that go with it."""
    found = []
    for number in range(most):
        last = number == most - 1
        pool = options("noun" if last or (most - number) % 3 == 0 else "adjective", 1, longest)
        if len(pool):
            found.append(stream.pick(pool, purpose=f"part {number}"))
    return found


def _listed(field: Field, term: Term, stream: FieldStream) -> Array:
    """One of the values that are listed, as columns hold it."""
    told = dict.fromkeys(term.arguments) if field.unique else term.arguments
    values = [encoded(field, value, stream.here) for value in told]
    pool = np.array(values) if not isinstance(values[0], str) else np.array(values, dtype=object)
    return pool[stream.integers(0, len(pool) - 1, unique=field.unique)]


def law_of(schema: Schema, reference: Reference, kinds: Container[Node] = ()) -> Law:
    """How many rows each parent may get, as `sample` says and as its rules allow.

    Rows of these `kinds` are no more than rules let be, however many rows there are.
    """
    words = {term.word: term for term in reference.sample}
    asked = list(fan_outs(schema, reference))
    low = fewest(asked)
    ends = [
        one.end
        for one in asked
        if one.upper and one.end is not None
        if one.where is None or one.where not in kinds and "per" not in words
    ]
    high = min(ends, default=None)
    if "per" in words:
        least, most, _ = words["per"].arguments
        low = max(low, int(least))  # type: ignore[call-overload]
        high = min(int(most), int(most) if high is None else high)  # type: ignore[call-overload]
        return Law("range", low, max(low, high))
    word = "evenly" if "evenly" in words else "skewed" if "skewed" in words else "any"
    return Law(word, low, high if high is None else max(low, high))


def ends_of_each(
    schema: Schema, reference: Reference, rows: Rows, arrays: Arrays
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """How many rows may lead to each of some stored rows by a reference, as rules over them say."""
    least = np.zeros(rows.size, dtype=np.int64)
    most = np.full(rows.size, NO_END)
    for asked in fan_outs(schema, reference):
        if asked.upper and asked.where is not None:
            continue
        given = arrays.evaluate(asked.bound, rows)
        ends = given.values.astype(np.float64)
        if asked.bound.type.exact:
            ends /= 10.0**asked.bound.type.places
        ends /= asked.each
        if asked.upper:
            ends = np.ceil(ends) - 1 if asked.strict else np.floor(ends)
            most = np.where(given.empty, most, np.minimum(most, ends)).astype(np.int64)
        else:
            ends = np.floor(ends) + 1 if asked.strict else np.ceil(ends)
            least = np.where(given.empty, least, np.maximum(least, ends)).astype(np.int64)
    return least, np.maximum(most, 0)
