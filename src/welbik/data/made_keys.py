"""The keys of made-up rows by the numbers of those rows: drawn again, since nothing remembers them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..schema.model import Model, Reference
from ..storage.neutral import encode
from .columns import Counts, Drawn
from .raw import RawDrawer
from .slices import Slice

Led = Callable[[Reference, Drawn], list[object]]
"""The keys of what a relation leads to, by position, None where that is empty."""


def keys_of(
    drawer: RawDrawer, model: Model, at: Drawn, counts: Counts, led: Led, *, final: bool = True
) -> list[object]:
    """The keys of the rows with the numbers `at`, as they are stored; None where that is empty.

    The model has a key that is a field or a relation. With `final` rules have had their say.
    """
    key = model.stored(model.key or model.keys[0])
    there, places = np.unique(at.values, return_inverse=True)
    drawn = Slice(drawer, model, there, counts, final=final).member(key.name)
    if isinstance(key, Reference):
        # Its key is that of what it leads to.
        known = led(key, drawn)
    else:
        known = encode(key.kind.stored().type, drawn.values, drawn.empty)
    chosen = [known[place] for place in places.tolist()]
    for row in np.flatnonzero(at.empty).tolist() if at.empty is not None else ():
        chosen[row] = None
    return chosen
