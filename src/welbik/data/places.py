"""Coordinates on land: those of rows with one parent lie near each other."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..schema.model import Field, Model
from .columns import Drawn
from .meaning import is_coordinate, is_latitude
from .streams import RowStream, mixed, span_of

_INLAND = np.array(
    [
        *((52.1, -1.1), (51.5, 9.2), (47.6, 2.1), (46.9, 10.6), (50.1, 19.9), (48.4, 15.3)),
        *((41.9, 13.1), (40.2, -4.2), (38.6, -6.1), (45.7, 24.4), (47.1, 19.3), (56.2, 9.2)),
        *((60.6, 14.8), (62.3, 25.4), (58.4, 25.9), (54.6, 24.1), (53.2, -7.6), (44.2, 20.8)),
        *((39.3, 33.6), (33.9, -6.1), (9.1, 7.6), (7.1, 38.3), (-1.1, 36.9), (-25.9, 27.6)),
        *((23.4, 77.6), (19.4, 75.2), (35.8, 138.4), (36.5, 127.8), (15.3, 101.6), (-23.8, 133.2)),
        *(
            (-36.4, 146.1),
            (39.8, -98.2),
            (44.5, -89.6),
            (35.1, -106.4),
            (46.8, -71.9),
            (51.2, -113.4),
        ),
        *(
            (20.9, -101.3),
            (-15.9, -48.1),
            (-33.2, -64.4),
            (-35.3, -71.4),
            (4.9, -74.1),
            (-12.1, -75.8),
        ),
    ]
)
"""Some places well inland: degrees north, degrees east."""


def is_place(field: Field) -> bool:
    """Whether a field is a coordinate that nothing more is said of."""
    terms = [term for term in field.sample if term.word != "empty"]
    number = field.kind.value_type().name == "number"
    return number and is_coordinate(field.name) and not terms and not field.unique


def coordinates(
    seed: int, model: Model, field: Field, index: NDArray[np.int64], parents: Drawn | None
) -> NDArray[np.float64] | None:
    """A coordinate of each row, within its field's bounds; None where no place lies within."""
    latitude = is_latitude(field.name)
    bounds = getattr(field.kind, "bounds", None)
    low = -180.0 if bounds is None or bounds.low is None else bounds.low + 1
    high = 180.0 if bounds is None or bounds.high is None else bounds.high - 1
    column = _INLAND[:, 0 if latitude else 1]
    if not ((column >= low) & (column <= high)).all():
        return None
    rows = index if parents is None else parents.values
    start, stop, only = span_of(index)
    stream = RowStream(seed, model.name, field.name, start, stop, only=only)
    # Both coordinates of a row are of one place.
    key = RowStream(seed, model.name, "place", 0, 0).key("place")
    at = (mixed(rows.astype(np.uint64), key) % np.uint64(len(column))).astype(np.int64)
    near = (stream.fractions("a") + stream.fractions("b") + stream.fractions("c") - 1.5) * 0.6
    found: NDArray[np.float64] = (column[at] + near).round(5)
    return found
