"""Many-to-many relations of made-up rows: which pairs there are, none of them twice."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ..problems import WelbikError
from ..rules.tree import Node
from ..schema.model import Many, Model, Schema
from ..schema.pairs import asked_by, ends_by, ends_of, pairs_read
from .raw import Places, RawDrawer
from .streams import RowStream, permuted_each, span_of

Size = Literal["any", "most", "fewest"]
_MOST = 3
_FAR = 2**40


def range_of(schema: Schema, model: Model, many: Many, most: int = _MOST) -> tuple[int, int]:
    """How many rows each is related to: as `sample` says, up to `most` unless it does, and as the rules allow."""
    per = next((term for term in many.sample if term.word == "per"), None)
    low, high = (int(n) for n in per.arguments[:2]) if per else (int(many.required), most)  # type: ignore[call-overload]
    least, highest = ends_of(model, many)
    low = max(low, least)
    high = high if highest is None else min(high, highest)
    return low, max(low, high)


def refuse_beyond_counts(schema: Schema) -> None:
    """Raises WelbikError where a rule reads pairs in a way that only a database is asked for."""
    for model in schema:
        for rule in model.rules:
            if pairs_read(schema, rule.node) and not all(
                _is_kept_alone(model, part) for part in asked_by(rule.node)
            ):
                raise WelbikError(
                    f"the pairs that {model.name} keeps by '{rule.text}' are chosen in a database, and in no files or parts",
                    "fill a database as a whole: welbik fill",
                )


def _is_kept_alone(model: Model, node: Node) -> bool:
    """Whether pairs are drawn within a comparison: a number of them, from the other side only a highest."""
    for many in model.many:
        ends = ends_by(node, many)
        if ends is not None:
            return many.declares or ends[0] is None
    return False


def pairs_of(
    drawer: RawDrawer,
    model: Model,
    many: Many,
    index: Places,
    have: int,
    rows: tuple[int, int],
    attempt: int = 0,
    size: Size = "any",
) -> tuple[Places, Places]:
    """The pairs of some rows: the place of each one's row among `index`, and a position of `have`.

    `rows` says how many rows get pairs in all, and which number the first of them has. Each attempt
    gives others, as many as `size` says.
    """
    none = np.zeros(0, dtype=np.int64)
    if not have or not len(index):
        return none, none
    low, high = range_of(drawer.schema, model, many)
    high = min(high, have)
    count, first = rows
    most = _most_of_others(drawer, many)
    if most is not None and count:
        # All that may lead to them, shared out among these.
        high = min(high, have * most // count)
    low = min(low, high)
    if attempt:
        # What a rule refused is not left without any as long as another choice may do.
        low = max(low, min(1, high))
    low, high = (low if size != "most" else high), (high if size != "fewest" else low)
    start, stop, only = span_of(index)
    stream = RowStream(drawer.seed, model.name, many.name, start, stop, attempt, only=only)
    sizes = stream.integers(low, high, purpose="size")
    owner = np.repeat(np.arange(len(index)), sizes)
    place = np.arange(len(owner)) - np.repeat(np.cumsum(sizes) - sizes, sizes)
    key = stream.key("pairs")
    if most is None:
        others = permuted_each(place, np.full(len(owner), have), index[owner], key)
    else:
        # One after the other through all of them: none is led to more often than there are rounds.
        slot = (index[owner] - first) * max(high, 1) + place
        others = permuted_each(slot % have, np.full(len(owner), have), slot // have, key)
    # As a page lists them: in the order of the others.
    order = np.lexsort((others, owner))
    owner, others = owner[order], others[order]
    # Where one round goes over into the next a row could meet another twice.
    new = np.ones(len(owner), dtype=bool)
    new[1:] = (owner[1:] != owner[:-1]) | (others[1:] != others[:-1])
    return owner[new], others[new]


def _most_of_others(drawer: RawDrawer, many: Many) -> int | None:
    """How many rows may lead to one of the other side, where its rules say so."""
    target = drawer.schema.models[many.target]
    inverse = target.by_name.get(many.other)
    if not isinstance(inverse, Many):
        return None
    high = range_of(drawer.schema, target, inverse, most=_FAR)[1]
    return None if high == _FAR else high
