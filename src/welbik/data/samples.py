"""`sample`: values with a distribution of their own, and relations with a fan-out."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from ..kinds.base import Array
from ..kinds.bounds import Bounds, FromNow
from ..kinds.text import POOLS
from ..schema.model import Field, Reference, Term
from .field_stream import FieldStream
from .fixed import encoded
from .streams import RowStream, permuted
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
        if term.word in ("normal", "lognormal"):
            return _spread(field, term, stream)
        if term.word == "weights":
            return _weighted(field, term, stream)
        if term.word in POOLS and not field.unique:
            found = _from_pool(field, term.word, stream)
            if found is not None:
                return found
        if term.word in ("words", "sentences") and not field.unique:
            return _prose(field, term, stream)
        if term.word == "within":
            return _within(field, term, stream)
        if term.word == "from" and not field.unique:
            return _listed(field, term, stream)
    return field.kind.draw(field, stream)


def _normal(stream: RowStream) -> Array:
    """Standard normal values by the Box-Muller transform (1958)."""
    first = 1.0 - stream.fractions("normal a")
    second = stream.fractions("normal b")
    return np.sqrt(-2.0 * np.log(first)) * np.cos(2.0 * math.pi * second)


def _spread(field: Field, term: Term, stream: FieldStream) -> Array:
    """Normal or lognormal values, brought within the field's bounds."""
    middle, spread = (float(a) for a in term.arguments)  # type: ignore[arg-type]
    if field.unique:
        return field.kind.draw(field, stream)
    if term.word == "normal":
        values = middle + spread * _normal(stream)
    else:
        values = middle * np.exp(math.log(spread) * _normal(stream))
    bounds: Bounds[Any] = getattr(field.kind, "bounds", Bounds())
    low = -math.inf if bounds.low is None else encoded(field, bounds.low, stream.here)
    high = math.inf if bounds.high is None else encoded(field, bounds.high, stream.here)
    type_ = field.kind.value_type()
    if type_.name == "number":
        return values.round(4).clip(low, high)
    most = 2.0**31 - 1 if field.kind.stored().type in ("integer", "seconds") else 10.0**15
    low, high = max(low, -most), min(high, most)
    whole = np.rint(values * 10.0**type_.places / field.kind.grain) * field.kind.grain
    return whole.clip(low, high).astype(np.int64)


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
    pool = options("noun" if term.word == "words" else "sentences", 1, longest)
    if not len(pool):
        return field.kind.draw(field, stream)
    wanted = stream.integers(low, high, purpose="how many").tolist()
    parts = [stream.pick(pool, purpose=f"part {n}").tolist() for n in range(high)]
    out = np.empty(len(wanted), dtype=object)
    for at, count in enumerate(wanted):
        text = parts[0][at]
        for column in parts[1:count]:
            if len(text) + 1 + len(column[at]) <= longest:
                text = f"{text} {column[at]}"
        text = text[:1].upper() + text[1:]
        out[at] = text.ljust(shortest, ".")
    return out


def _within(field: Field, term: Term, stream: FieldStream) -> Array:
    """Days back from today, evenly, within the field's own bounds."""
    days = term.arguments[0]
    assert isinstance(days, dt.timedelta)
    bounds: Bounds[Any] = Bounds(FromNow("today", -days.days), FromNow("today", 0))
    kind = replace(field.kind, bounds=bounds)  # type: ignore[type-var]
    return kind.draw(field, stream)


def _listed(field: Field, term: Term, stream: FieldStream) -> Array:
    """One of the values that are listed, as columns hold it."""
    values = [encoded(field, value, stream.here) for value in term.arguments]
    pool = np.array(values) if not isinstance(values[0], str) else np.array(values, dtype=object)
    return pool[stream.integers(0, len(pool) - 1)]


def positions(stream: RowStream, reference: Reference, have: int, rows: int) -> Array:
    """Which parent each row gets, of `have`; `rows` is how many rows there are in all."""
    if reference.unique:
        return stream.integers(0, have - 1, unique=True)
    words = {term.word: term for term in reference.sample}
    if "per" in words and not stream.attempt:
        low, high, _ = words["per"].arguments
        return _shared(stream, have, rows, int(low), int(high))  # type: ignore[call-overload]
    if "evenly" in words:
        return permuted(stream.index % have, have, stream.key("order"))
    if "skewed" in words:
        return np.minimum((stream.fractions() ** 3 * have).astype(np.int64), have - 1)
    return stream.integers(0, have - 1)


def _shared(stream: RowStream, have: int, rows: int, low: int, high: int) -> Array:
    """Rows shared out by the weight of each parent, `low` to `high`, in a shuffled order."""
    parents = RowStream(stream.seed, *stream.names, 0, have)
    weights = parents.integers(low, high, purpose="weights").astype(np.float64)
    if not weights.sum():
        weights += 1
    ends = np.cumsum(weights)
    size = max(rows, stream.stop)
    order = permuted(stream.index, size, stream.key("shuffle"))
    at = (order + 0.5) / size * ends[-1]
    return np.minimum(np.searchsorted(ends, at, side="right"), have - 1)
