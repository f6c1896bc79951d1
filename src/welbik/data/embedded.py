"""Made-up lists: of a part's values, or of short texts."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..kinds.list import ListOf
from ..schema.model import Field, Model, Shape
from ..schema.names import plural, words
from ..schema.naming import told_otherwise
from .streams import RowStream
from .wordlists import options

Entries = Callable[[int], Sequence[Any]]
"""Entries of a part, one a row, by the number that they have in their lists."""


def draw_lists(stream: RowStream, field: Field, most: int, parts: Entries) -> NDArray[np.object_]:
    """A list of 1 to `most` entries for each row, as JSON keeps them."""
    assert isinstance(field.kind, ListOf)
    sizes = stream.integers(1, most, purpose="size").tolist()
    columns = [_entries(stream, field, number, parts) for number in range(most)]
    out = np.empty(len(sizes), dtype=object)
    out[:] = [[column[at] for column in columns[:size]] for at, size in enumerate(sizes)]
    return out


def entries_of(shape: Shape, name: str) -> Model:
    """A model of that name whose rows are a part's values."""
    names = {shape.name: name}
    noun = " ".join(words(shape.name)).lower()
    return Model(
        name=name,
        help="",
        singular=noun,
        plural=plural(noun),
        everything=tuple(told_otherwise(field, names) for field in shape.fields),
        shown_as=(),
        columns=(),
        sort=(),
        span=shape.span,
        rules=told_otherwise(shape.rules, names),
    )


def _entries(stream: RowStream, field: Field, number: int, parts: Entries) -> list[Any]:
    """The entry of that number in every row's list."""
    assert isinstance(field.kind, ListOf)
    if field.shape is None:
        longest = (field.kind.text and field.kind.text.longest) or 30
        words = options("words", 1, longest)
        if not len(words):
            return ["a" * longest] * stream.size
        return list(stream.pick(words, purpose=f"entry {number}").tolist())
    return list(parts(number))
