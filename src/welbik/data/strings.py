"""Texts that match a pattern, many at a time."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..rules.strings import FULL, Strings


def take(
    strings: Strings, numbers: NDArray[np.int64], noise: NDArray[np.uint64]
) -> NDArray[np.object_]:
    """The texts of some numbers, each below `strings.size`; different for different numbers.

    Where more than 2**62 texts can follow, the next character is chosen by `noise` and
    the number kept for what comes after it: no two rows meet, and none looks like the next.
    """
    rows = len(numbers)
    number = numbers.copy()
    state = np.zeros(rows, dtype=np.int64)
    alive = np.ones(rows, dtype=bool)
    codes = np.zeros((rows, max(1, strings.longest)), dtype=np.uint32)
    for length in range(strings.longest + 1):
        # Rows that have moved on must not be met again at the same length.
        before = np.where(alive, state, -1)
        for here in np.unique(before[alive]):
            at = np.flatnonzero(before == here)
            if strings.accepting[here] and length >= strings.shortest:
                ends = number[at] == 0
                alive[at[ends]] = False
                at = at[~ends]
                number[at] -= 1
            if length < strings.longest and at.size:
                _step(strings, length, int(here), at, number, state, codes, noise)
        if not alive.any():
            break
    joined = codes.view(f"<U{codes.shape[1]}")[:, 0]
    return joined.astype(object)


def _step(
    strings: Strings,
    length: int,
    here: int,
    at: NDArray[np.int64],
    number: NDArray[np.int64],
    state: NDArray[np.int64],
    codes: NDArray[np.uint32],
    noise: NDArray[np.uint64],
) -> None:
    """Writes the next character of the rows `at`, all in one state."""
    after = strings.counts[length + 1]
    edges = [(low, high, to) for low, high, to in strings.edges[here] if after[to]]
    full = [edge for edge in edges if after[edge[2]] >= FULL]
    if full:
        widths = np.array([high - low + 1 for low, high, _ in full])
        turn = (noise[at] >> np.uint64(length % 48)) * np.uint64(2654435761 + 2 * length)
        chosen = (turn >> np.uint64(16)) % np.uint64(widths.sum())
        edge = np.searchsorted(np.cumsum(widths), chosen, side="right")
        offset = chosen.astype(np.int64) - np.concatenate([[0], np.cumsum(widths)])[edge]
        edges = full
    else:
        each = np.array([after[to] for _, _, to in edges], dtype=np.int64)
        totals = [min((high - low + 1) * after[to], FULL) for low, high, to in edges]
        starts = np.array([min(sum(totals[:k]), FULL) for k in range(len(totals))], dtype=np.int64)
        edge = np.searchsorted(starts, number[at], side="right") - 1
        rest = number[at] - starts[edge]
        offset = rest // each[edge]
        number[at] = rest % each[edge]
    codes[at, length] = np.array([low for low, _, _ in edges])[edge] + offset
    state[at] = np.array([to for _, _, to in edges])[edge]
