"""Sentences that speak of a model: its rows, their fields, what was seen and what is to be done.

A handful of forms are filled from our own lists; each form is as likely as its share.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field, Model
from .meaning import is_coordinate
from .streams import RowStream, key_of, permuted
from .wordlists import listed

_MOST = 3_000
"""So many texts of one form are kept at hand."""
Texts = NDArray[np.object_]


class _Some:
    """Sentences of one form; each is put into words when it is asked for, since few ever are."""

    def __init__(
        self, form: str, parts: Sequence[Sequence[str]], places: NDArray[np.int64]
    ) -> None:
        self.form, self.parts, self.places = form, parts, places

    def __len__(self) -> int:
        return len(self.places)

    def __iter__(self) -> Iterator[str]:
        return (self[at] for at in range(len(self)))

    def __getitem__(self, at: int) -> str:
        said = zip(self.parts, self.places[at].tolist(), strict=True)
        return _begin(self.form.format(*(part[place] for part, place in said)))


class _Forms:
    """Sentences by form: all of them, where each form begins, how many it has, and its share."""

    def __init__(self, full: Sequence[tuple[int, _Some]]) -> None:
        self.forms = [some for _, some in full]
        self.sizes = np.array([len(some) for some in self.forms])
        self.begins = np.cumsum(self.sizes) - self.sizes
        self.shares = np.array([float(share) for share, _ in full])
        self._said: Texts = np.empty(self.sizes.sum(), dtype=object)
        self._is_said = np.zeros(len(self._said), dtype=bool)

    def texts(self, numbers: NDArray[np.int64]) -> Texts:
        """The sentences of some numbers."""
        for number in np.unique(numbers[~self._is_said[numbers]]).tolist():
            form = int(np.searchsorted(self.begins, number, side="right")) - 1
            self._said[number] = self.forms[form][number - int(self.begins[form])]
            self._is_said[number] = True
        found: Texts = self._said[numbers]
        return found


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
    return forms.texts(forms.begins[form] + at)


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
    joined, both = "{}, and {}", (cause, listed("finding"))
    if words is None:
        plain = _texts("{}.", (cause,), "", longest)
        return _kept([(2, plain), (1, _texts(joined, both, "", longest, end="."))])
    said = [*_texts("{}", (cause,), "", longest), *_texts(joined, both, "", longest)]
    fits = [text for text in said if words[0] <= len(text.split()) <= words[1]]
    some = _Some("{}", (fits,), np.arange(len(fits)).reshape(-1, 1))
    return _kept([(1, some)]) if len(fits) >= 8 else None


def _texts(
    form: str, given: Sequence[Sequence[str]], whose: str, longest: int, end: str = ""
) -> _Some:
    """What a form becomes with the parts given and its end, as far as it is short enough.

    Where that is very many, each model has some of them for its own.
    """
    short = [[part for part in parts if len(part) <= longest] for parts in given]
    shape = tuple(map(len, short))
    size = math.prod(shape)
    if not size:
        return _Some(form, short, np.zeros((0, len(short)), dtype=np.int64))
    some = permuted(np.arange(min(size, _MOST)), size, key_of(form, whose))
    places = np.stack(np.unravel_index(some, shape), axis=1)
    lengths = np.full(len(places), len(form.format(*[""] * len(short)) + end))
    for part, at in zip(short, places.T, strict=True):
        lengths += np.array([len(one) for one in part])[at]
    return _Some(form + end, short, places[lengths <= longest])


def _kept(forms: list[tuple[int, _Some]]) -> _Forms | None:
    """The forms that have sentences."""
    full = [(share, some) for share, some in forms if len(some)]
    return _Forms(full) if full else None


def _begin(text: str) -> str:
    return text[:1].upper() + text[1:]
