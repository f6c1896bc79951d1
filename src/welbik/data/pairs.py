"""Many-to-many relations of made-up rows: which pairs there are, none of them twice."""

from __future__ import annotations

import numpy as np

from ..rules.tree import Aggregate, Apply, Const, plain
from ..schema.model import Many, Model, Schema
from .raw import Places, RawDrawer
from .streams import RowStream, key_of, permuted_each, span_of

_MOST = 3


def range_of(schema: Schema, model: Model, many: Many) -> tuple[int, int]:
    """How many rows each is related to: as `sample` says, and as the rules allow."""
    per = next((term for term in many.sample if term.word == "per"), None)
    low, high = (int(n) for n in per.arguments[:2]) if per else (int(many.required), _MOST)  # type: ignore[call-overload]
    for rule in model.rules:
        node = rule.node
        if not isinstance(node, Apply) or node.word not in ("<", "<=", "="):
            continue
        for side in (0, 1):
            count, bound = plain(node.operands[side]), plain(node.operands[1 - side])
            if not isinstance(count, Aggregate) or count.function != "count" or count.path:
                continue
            if [hop.name for hop in count.hops] != [many.name] or count.where is not None:
                continue
            if not isinstance(bound, Const) or not isinstance(bound.value, int):
                continue
            strict = int(node.word == "<")
            if side == 0 or node.word == "=":
                high = min(high, bound.value - strict)
            if side == 1 or node.word == "=":
                low = max(low, bound.value + strict)
    return low, max(low, high)


def pairs_of(
    drawer: RawDrawer, model: Model, many: Many, index: Places, have: int
) -> tuple[Places, Places]:
    """The pairs of some rows: the place of each one's row among `index`, and a position of `have`."""
    none = np.zeros(0, dtype=np.int64)
    if not have or not len(index):
        return none, none
    low, high = range_of(drawer.schema, model, many)
    high = min(high, have)
    start, stop, only = span_of(index)
    stream = RowStream(drawer.seed, model.name, many.name, start, stop, only=only)
    sizes = stream.integers(min(low, high), high, purpose="size")
    owner = np.repeat(np.arange(len(index)), sizes)
    place = np.arange(len(owner)) - np.repeat(np.cumsum(sizes) - sizes, sizes)
    key = key_of(drawer.seed, model.name, many.name, "pairs")
    others = permuted_each(place, np.full(len(owner), have), index[owner], key)
    # As a page lists them: in the order of the others.
    order = np.lexsort((others, owner))
    return owner[order], others[order]
