"""`sample`: values with a distribution of their own, and relations with a fan-out."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from ..kinds.base import Array
from ..kinds.text import POOLS
from ..rules.tree import Aggregate, Apply, Const, Node, Value, plain
from ..schema.model import Field, Model, Reference, Schema, Term
from .field_stream import FieldStream
from .fixed import encoded
from .meaning import meaning_of
from .people import names_of
from .prose import reasons, sentences
from .sharing import Law
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


def law_of(schema: Schema, reference: Reference) -> Law:
    """How many rows each parent may get, as `sample` says and as its rules allow."""
    words = {term.word: term for term in reference.sample}
    if "per" in words:
        low, high, _ = words["per"].arguments
        return Law("range", int(low), int(high))  # type: ignore[call-overload]
    word = "evenly" if "evenly" in words else "skewed" if "skewed" in words else "any"
    low, high = 0, None
    for least, most in _counted(schema, reference):
        low = max(low, least)
        high = most if high is None else high if most is None else min(high, most)
    return Law(word, low, high if high is None else max(low, high))


def _counted(schema: Schema, reference: Reference) -> Iterator[tuple[int, int | None]]:
    """What the rules of its target say of how many rows lead to one."""
    target = schema.models[reference.target]
    for rule in target.rules:
        node = rule.node
        if not isinstance(node, Apply) or node.word not in ("<", "<=", "="):
            continue
        for side, other in ((0, 1), (1, 0)):
            count, bound = plain(node.operands[side]), plain(node.operands[other])
            if not isinstance(count, Aggregate) or count.function != "count" or count.path:
                continue
            if [(h.model, h.via) for h in count.hops] != [(reference.model, reference.name)]:
                continue
            strict = int(node.word == "<")
            least, most = _ends(target, bound)
            if side == 0 or node.word == "=":
                yield 0, None if most is None else max(0, most - strict)
            if (side == 1 or node.word == "=") and count.where is None and least is not None:
                yield max(0, least + strict), None


def _ends(target: Model, node: Node) -> tuple[int | None, int | None]:
    """The least that a bound of counts is for sure, and the most it can be."""
    if isinstance(node, Const) and isinstance(node.value, int):
        return node.value, node.value
    if isinstance(node, Value) and not node.path:
        bounds = getattr(getattr(target.by_name.get(node.name), "kind", None), "bounds", None)
        if bounds is not None and (bounds.high is None or isinstance(bounds.high, int)):
            return None, bounds.high
    return None, None
