"""All rows of the parents that some rows lead to, and where these stand among them."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ..schema.model import Reference
from .columns import Mask
from .raw import Cut, Places


class Family(NamedTuple):
    """The numbers of all rows of some parents, and whose each is among the `parents`.

    `there` says which of the rows that they were looked up for lead to one.
    """

    reference: Reference
    there: Mask
    parents: Places
    numbers: Places
    owner: Places

    def places(self, rows: Cut) -> tuple[Mask, Places]:
        """Which of some rows are of the family, and where they stand in it."""
        order = np.argsort(self.numbers, kind="stable")
        found = np.searchsorted(self.numbers[order], rows.index)
        places = order[np.minimum(found, len(order) - 1)]
        return self.there & (self.numbers[places] == rows.index), places


def family_of(rows: Cut, via: str) -> Family | None:
    """The family of some rows by a reference; None where there is none."""
    reference = rows.model.by_name[via]
    assert isinstance(reference, Reference)
    shared = rows.drawer.shared(rows.model, reference, rows.counts)
    leads = rows.member(reference.name)
    there = np.ones(rows.size, dtype=bool) if leads.empty is None else ~leads.empty
    if shared is None or not there.any():
        return None
    parents = np.unique(leads.values[there]).astype(np.int64)
    index, owner = shared.children(parents)
    return Family(reference, there, parents, index, owner) if len(index) else None
