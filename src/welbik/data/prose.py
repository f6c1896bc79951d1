"""Sentences that speak of a model: its rows, their fields, what was seen and what is to be done.

A handful of forms are filled from our own lists; each form is as likely as its share.
"""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field, Model
from .meaning import is_coordinate
from .streams import RowStream
from .wordlists import listed

Texts = NDArray[np.object_]


class _Forms(NamedTuple):
    """Sentences by form: all of them, where each form begins, how many it has, and its share."""

    texts: Texts
    begins: NDArray[np.int64]
    sizes: NDArray[np.int64]
    shares: NDArray[np.float64]


def sentences(stream: RowStream, model: Model, longest: int, purpose: str) -> Texts | None:
    """A sentence for each row; None where not one is short enough."""
    return _picked(stream, _forms(model.singular, _parts(model), longest), purpose)


def reasons(stream: RowStream, longest: int, words: tuple[int, int] | None = None) -> Texts | None:
    """Why something is so, for each row; of so many words where those are told."""
    return _picked(stream, _causes(longest, words), "reason")


def _picked(stream: RowStream, forms: _Forms | None, purpose: str) -> Texts | None:
    if forms is None:
        return None
    ends = np.cumsum(forms.shares) / forms.shares.sum()
    form = np.searchsorted(ends, stream.fractions(f"{purpose} form"), side="right")
    form = np.minimum(form, len(ends) - 1)
    at = (stream.fractions(purpose) * forms.sizes[form]).astype(np.int64)
    found: Texts = forms.texts[forms.begins[form] + at]
    return found


def _parts(model: Model) -> tuple[str, ...]:
    """What of a row can be spoken of."""
    found = [
        member.label
        for member in model.members
        if not isinstance(member, Field) or _is_seen(member)
    ]
    return tuple(found[:12])


def _is_seen(member: Field) -> bool:
    """Whether somebody would look at a field's value and say how it is."""
    type_ = member.kind.value_type().name
    seen = member.kind.labels() or type_ in ("integer", "decimal", "number", "duration", "other")
    plain = not (member.unique or member.kind.upload or member.kind.self_made or member.internal)
    return bool(seen) and plain and not is_coordinate(member.name)


@lru_cache(maxsize=256)
def _forms(singular: str, parts: tuple[str, ...], longest: int) -> _Forms | None:
    state, when, finding = listed("state"), listed("when"), listed("finding")
    thing = singular[:1].lower() + singular[1:] if not singular.isupper() else singular
    people = listed("given_name")[::6]
    forms = [
        (4, [f"{_begin(w)} the {thing} was {s}." for w in when for s in state]),
        (3, [f"Checked {w}; {f}." for w in when for f in finding]),
        (3, [f"The {thing} is {s}, and {f}." for s in state for f in finding]),
        (4, [f"{part}: {s}." for part in parts for s in state]),
        (2, [f"{aside}." for aside in listed("aside")]),
        (2, [f"{todo}." for todo in listed("todo")]),
        (1, [f"{todo}; {f}." for todo in listed("todo") for f in finding]),
        (1, [f"{person} was told about it {w}." for person in people for w in when]),
        (1, [f"{_begin(f)}." for f in finding]),
    ]
    return _kept(forms, longest)


@lru_cache(maxsize=64)
def _causes(longest: int, words: tuple[int, int] | None) -> _Forms | None:
    causes = listed("cause")
    plain = [_begin(cause) for cause in causes]
    more = [f"{_begin(a)}, and {b}" for a in causes for b in listed("finding")]
    if words is None:
        return _kept([(2, [f"{c}." for c in plain]), (1, [f"{c}." for c in more])], longest)
    fits = [text for text in [*plain, *more] if words[0] <= len(text.split()) <= words[1]]
    return _kept([(1, fits)], longest) if len(fits) >= 8 else None


def _kept(forms: list[tuple[int, list[str]]], longest: int) -> _Forms | None:
    """The sentences that are short enough, the forms that have some."""
    short = [(share, [t for t in texts if len(t) <= longest]) for share, texts in forms]
    short = [(share, texts) for share, texts in short if texts]
    if not short:
        return None
    texts = np.array([text for _, some in short for text in some], dtype=object)
    sizes = np.array([len(some) for _, some in short])
    shares = np.array([float(share) for share, _ in short])
    return _Forms(texts, np.cumsum(sizes) - sizes, sizes, shares)


def _begin(text: str) -> str:
    return text[:1].upper() + text[1:]
