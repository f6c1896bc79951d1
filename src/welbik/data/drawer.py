"""Made-up rows that obey every rule of their model."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Model
from .columns import Counts, Drawn, Only
from .mending import Slice
from .raw import RawDrawer


class Drawer(RawDrawer):
    """Draws rows of a schema's models, for any slice, all rules kept."""

    def draw(
        self, model: Model, start: int, stop: int, counts: Counts, only: Only = None
    ) -> dict[str, Drawn]:
        """All columns of a slice by member name; raises WelbikError where no rows obey."""
        if not model.uniques:
            return Slice(self, model, start, stop, counts, only).mended()
        # What must differ together is only known once all rows before are.
        first = self.world.start(model.name) if self.world is not None else 0
        last = max(stop, counts.get(model.name, 0))
        key = ("unique", model.name, last, tuple(sorted(counts.items())))
        if key not in self.whole:
            self.whole[key] = Slice(self, model, first, last, counts).mended()
        whole: dict[str, Drawn] = self.whole[key]
        part = slice(start - first, stop - first) if only is None else only - first
        return {name: _part(drawn, part) for name, drawn in whole.items()}


def _part(drawn: Drawn, part: slice | NDArray[np.int64]) -> Drawn:
    empty = None if drawn.empty is None else drawn.empty[part]
    return Drawn(drawn.values[part], empty if empty is not None and empty.any() else None)
