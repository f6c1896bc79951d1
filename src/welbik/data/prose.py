"""Sentences that speak of a model: its rows, their fields, what was seen and what is to be done.

A handful of forms are filled from our own lists; each form is as likely as its share.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field, Model
from .meaning import is_coordinate
from .streams import RowStream, key_of, permuted
from .wordlists import listed

_MOST = 3_000
"""So many texts of one form are kept at hand."""
Texts = NDArray[np.object_]


class _Forms(NamedTuple):
    """Sentences by form: all of them, where each form begins, how many it has, and its share."""

    texts: Texts
    begins: NDArray[np.int64]
    sizes: NDArray[np.int64]
    shares: NDArray[np.float64]


def sentences(stream: RowStream, model: Model, longest: int, purpose: str) -> Texts | None:
    """A sentence for each row; None where not one is short enough."""
    singular = " ".join(model.singular.split())
    return _picked(stream, _forms(singular, _parts(model), longest), purpose)


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
    found = [" ".join(field.label.split()) for field in model.fields if _is_seen(field)]
    return tuple(found[:12])


def _is_seen(member: Field) -> bool:
    """Whether somebody would look at a field's value and say how it is."""
    type_ = member.kind.value_type().name
    seen = member.kind.labels() or type_ in ("integer", "decimal", "number", "duration", "other")
    plain = not (member.unique or member.kind.upload or member.kind.self_made or member.internal)
    return bool(seen) and plain and not is_coordinate(member.name)


@lru_cache(maxsize=256)
def _forms(singular: str, parts: tuple[str, ...], longest: int) -> _Forms | None:
    thing = singular[:1].lower() + singular[1:] if not singular.isupper() else singular
    thing = thing.replace("{", "{{").replace("}", "}}")
    people = listed("given_name")[::6]
    state, when, finding, todo = map(listed, ("state", "when", "finding", "todo"))
    forms = [
        (4, f"{{}} the {thing} was {{}}.", (when, state)),
        (3, "Checked {}; {}.", (when, finding)),
        (3, f"The {thing} is {{}}, and {{}}.", (state, finding)),
        (4, "{}: {}.", (parts, state)),
        (2, "{}.", (listed("aside"),)),
        (2, "{}.", (todo,)),
        (1, "{}; {}.", (todo, finding)),
        (1, "{} was told about it {}.", (people, when)),
        (1, "{}.", (finding,)),
    ]
    return _kept([(n, _texts(form, given, singular, longest)) for n, form, given in forms])


@lru_cache(maxsize=64)
def _causes(longest: int, words: tuple[int, int] | None) -> _Forms | None:
    cause = listed("cause")
    more = _texts("{}, and {}", (cause, listed("finding")), "", longest)
    if words is None:
        plain = _texts("{}.", (cause,), "", longest)
        return _kept([(2, plain), (1, [f"{c}." for c in more if len(c) < longest])])
    plain = _texts("{}", (cause,), "", longest)
    fits = [text for text in [*plain, *more] if words[0] <= len(text.split()) <= words[1]]
    return _kept([(1, fits)]) if len(fits) >= 8 else None


def _texts(form: str, given: Sequence[Sequence[str]], whose: str, longest: int) -> list[str]:
    """What a form becomes with the parts given, as far as it is short enough.

    Where that is very many, each model has some of them for its own.
    """
    short = [[part for part in parts if len(part) <= longest] for parts in given]
    shape = tuple(map(len, short))
    size = math.prod(shape)
    if not size:
        return []
    some = permuted(np.arange(min(size, _MOST)), size, key_of(form, whose))
    places = zip(*(at.tolist() for at in np.unravel_index(some, shape)), strict=True)
    texts = (form.format(*(p[at] for p, at in zip(short, row, strict=True))) for row in places)
    return [_begin(text) for text in texts if len(text) <= longest]


def _kept(forms: list[tuple[int, list[str]]]) -> _Forms | None:
    """The forms that have sentences."""
    full = [(share, texts) for share, texts in forms if texts]
    if not full:
        return None
    texts = np.array([text for _, some in full for text in some], dtype=object)
    sizes = np.array([len(some) for _, some in full])
    shares = np.array([float(share) for share, _ in full])
    return _Forms(texts, np.cumsum(sizes) - sizes, sizes, shares)


def _begin(text: str) -> str:
    return text[:1].upper() + text[1:]
