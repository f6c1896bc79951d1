"""Made-up values of one field: what its kind asks for, beside plain numbers."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field, Model
from . import texts
from .columns import Here, Only
from .embedded import draw_lists
from .meaning import is_person, meaning_of
from .people import told_apart
from .streams import RowStream
from .texts import Texts
from .uploads import uploads_of

Entries = Callable[["FieldStream", int], list[Mapping[str, Any]]]
"""The entries of a part, one a row, that stand at some number in its lists."""


class FieldStream(RowStream):
    """A stream for a field; `beside` gives another field of the same rows, `entries` parts."""

    def __init__(
        self,
        seed: int,
        model: Model,
        field: Field,
        here: Here,
        rows: tuple[int, int, int, Only],
        beside: Callable[[FieldStream, Field], NDArray[Any]],
        entries: Entries,
    ) -> None:
        super().__init__(seed, model.name, field.name, *rows)
        self.model = model
        self.field = field
        self.here = here
        self._beside = beside
        self._entries = entries

    def texts(self, shortest: int, longest: int | None) -> Texts:
        if self.field.pattern is None and meaning_of(self.model, self.field).pool == "email":
            # A plain text that is called so, as tables that others made have it.
            return self.emails()
        return texts.draw_texts(self, self.model, self.field, shortest, longest)

    def emails(self) -> Texts:
        named = texts.name_field(self.model)
        names = None if named is None else self._beside(self, named)
        return texts.draw_emails(self, self.model, names, self.field.unique)

    def addresses(self) -> Texts:
        return texts.draw_addresses(self, self.field.unique)

    def phones(self) -> Texts:
        return texts.draw_phones(self, self.field.unique)

    def slugs(self, source: str, longest: int) -> Texts:
        named = next((f for f in self.model.fields if f.name == source), None)
        plain = named is not None and named.kind.plain_text
        if not plain or named is None:
            return texts.draw_slugs(self, None, longest)
        words = self._beside(self, named)
        # Names and texts of our lists that differ do so as words of an address too.
        pure = named.required and texts.is_ours(named) and longest >= 80
        people = is_person(self.model, named) and told_apart()
        turns = texts.turns(self.model, named, self.index) if pure else None
        if pure and (people or named.unique and meaning_of(self.model, named).plain):
            turns = np.zeros_like(self.index)
        return texts.draw_slugs(self, words, longest, turns)

    def uploads(self) -> NDArray[np.object_]:
        return self.pick([upload._asdict() for upload in uploads_of(self.field)])

    def lists(self, most: int) -> NDArray[np.object_]:
        return draw_lists(self, self.field, most, lambda number: self._entries(self, number))
