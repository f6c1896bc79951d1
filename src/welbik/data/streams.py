"""Counter-based random streams: any row's numbers can be had without those before it.

Philox4x64-10 (Salmon, Moraes, Dror and Shaw, "Parallel random numbers: as easy as
1, 2, 3", 2011), one key for each (seed number, model, field, purpose), one 64-bit word
for each row. Values that must differ go through a keyed permutation: a balanced Feistel
network with cycle walking (Black and Rogaway, "Ciphers with arbitrary finite domains",
2002).
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import Any
from uuid import UUID

import numpy as np
from numpy.typing import NDArray

from ..problems import WelbikError

Words = NDArray[np.uint64]
_ROUNDS = 4
_MOST = 2**62


def key_of(*parts: object) -> int:
    """A key that follows from all its parts."""
    text = "\x1f".join(map(str, parts))
    return int.from_bytes(hashlib.blake2b(text.encode(), digest_size=16).digest(), "big")


def _mix(words: Words) -> Words:
    """The finaliser of splitmix64 (Steele, Lea and Flood, 2014)."""
    words = (words ^ (words >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    words = (words ^ (words >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return words ^ (words >> np.uint64(31))


def mixed(words: Words, key: int) -> Words:
    """A word for each word, by a key: quick, where many small choices hang on one another."""
    with np.errstate(over="ignore"):
        found: Words = _mix(
            _mix(words + np.uint64(key & (2**64 - 1))) ^ np.uint64(key >> 64 & (2**64 - 1))
        )
    return found


_PHILOX = (0xD2E7470EE14C6C93, 0xCA5A826395121157), (0x9E3779B97F4A7C15, 0xBB67AE8584CAA73B)


def philox(blocks: NDArray[np.int64], key: int) -> Words:
    """Philox4x64-10 at any blocks at once: four words each, as NumPy's own generator has them."""
    words = [np.zeros(len(blocks), dtype=np.uint64) for _ in range(4)]
    words[0] = blocks.astype(np.uint64)
    (first, second), bumps = _PHILOX
    low, high = key % 2**64, key >> 64
    with np.errstate(over="ignore"):
        for _ in range(10):
            a, b = _wide(first, words[0]), _wide(second, words[2])
            words = [
                b[0] ^ words[1] ^ np.uint64(low),
                b[1],
                a[0] ^ words[3] ^ np.uint64(high),
                a[1],
            ]
            low, high = (low + bumps[0]) % 2**64, (high + bumps[1]) % 2**64
    return np.stack(words, axis=1)


def _wide(factor: int, words: Words) -> tuple[Words, Words]:
    """The high and the low 64 bits of a product, from products of halves."""
    half, mask = np.uint64(32), np.uint64(2**32 - 1)
    one = np.uint64(factor)
    up, down = words >> half, words & mask
    lower = (one & mask) * down
    left, right = (one & mask) * up, (one >> half) * down
    middle = (lower >> half) + (left & mask) + (right & mask)
    return (one >> half) * up + (left >> half) + (right >> half) + (middle >> half), one * words


def permuted(index: NDArray[np.int64], size: int, key: int) -> NDArray[np.int64]:
    """Where a keyed permutation of 0 … size - 1 takes each index (all below `size`)."""
    return _walked(index, size, key, forth=True)


def unpermuted(index: NDArray[np.int64], size: int, key: int) -> NDArray[np.int64]:
    """What `permuted` takes to each index."""
    return _walked(index, size, key, forth=False)


def _walked(index: NDArray[np.int64], size: int, key: int, *, forth: bool) -> NDArray[np.int64]:
    half = np.uint64(max(1, ((size - 1).bit_length() + 1) // 2))
    mask = np.uint64((1 << int(half)) - 1)
    keys = [np.uint64(key_of(key, number) & (2**64 - 1)) for number in range(_ROUNDS)]

    def once(words: Words) -> Words:
        left, right = words >> half, words & mask
        for round_key in keys if forth else reversed(keys):
            if forth:
                left, right = right, left ^ (_mix(right + round_key) & mask)
            else:
                left, right = right ^ (_mix(left + round_key) & mask), left
        return (left << half) | right

    with np.errstate(over="ignore"):
        out = once(index.astype(np.uint64))
        outside = np.flatnonzero(out >= size)
        while outside.size:
            out[outside] = once(out[outside])
            outside = outside[out[outside] >= size]
    return out.astype(np.int64)


def permuted_each(
    index: NDArray[np.int64], sizes: NDArray[np.int64], which: NDArray[np.int64], key: int
) -> NDArray[np.int64]:
    """Like `permuted`, with a size and a permutation of its own for each index."""
    bits = np.ceil(np.log2(np.maximum(sizes, 2))).astype(np.uint64)
    half = (bits + np.uint64(1)) // np.uint64(2)
    mask = (np.uint64(1) << half) - np.uint64(1)
    own = mixed(which.astype(np.uint64), key)
    out = index.astype(np.uint64)
    todo = np.arange(len(out))
    with np.errstate(over="ignore"):
        while todo.size:
            words, h, m = out[todo], half[todo], mask[todo]
            left, right = words >> h, words & m
            for number in range(_ROUNDS):
                round_key = own[todo] + np.uint64(number * 0x9E3779B97F4A7C15 & (2**64 - 1))
                left, right = right, left ^ (_mix(right + round_key) & m)
            out[todo] = (left << h) | right
            todo = todo[out[todo] >= sizes[todo].astype(np.uint64)]
    return out.astype(np.int64)


def span_of(index: NDArray[np.int64]) -> tuple[int, int, NDArray[np.int64] | None]:
    """Rows as streams take them: from the first on up to the last, and which, where not all in order."""
    if not len(index):
        return 0, 0, None
    start, stop = int(index[0]), int(index[-1]) + 1
    if len(index) == stop - start and bool((np.diff(index) == 1).all()):
        return start, stop, None
    return int(index.min()), int(index.max()) + 1, index


class RowStream:
    """Random numbers for the rows `start` up to and without `stop` of one field of a model."""

    def __init__(
        self,
        seed: int,
        model: str,
        field: str,
        start: int,
        stop: int,
        attempt: int = 0,
        only: NDArray[np.int64] | None = None,
    ) -> None:
        self.seed = seed
        self.names = model, field
        self.attempt = attempt
        self.start = start
        self.stop = stop
        self.only = only
        """The rows between those that are meant, in order; None for all."""
        self.base = 0
        """The row that different numbers are counted from."""
        self.limit: int | None = None

    @property
    def index(self) -> NDArray[np.int64]:
        if self.only is not None:
            return self.only
        return np.arange(self.start, self.stop, dtype=np.int64)

    @property
    def where(self) -> tuple[int, int, int, NDArray[np.int64] | None]:
        """The rows that it is for, as another stream takes them."""
        return self.start, self.stop, self.attempt, self.only

    @property
    def size(self) -> int:
        return self.stop - self.start if self.only is None else len(self.only)

    def key(self, purpose: str) -> int:
        tries = (self.attempt,) if self.attempt else ()
        return key_of(self.seed, *self.names, purpose, *tries)

    def words(self, purpose: str = "value") -> Words:
        """One uniform 64-bit word a row."""
        if self.only is not None:
            # The first block is numbered one, and each has four words.
            blocks = philox(self.only // 4 + 1, self.key(purpose))
            found: Words = np.take_along_axis(blocks, self.only[:, None] % 4, axis=1)[:, 0]
            return found
        first = self.start // 4
        generator = np.random.Philox(key=self.key(purpose)).advance(first)
        raw = generator.random_raw(self.stop - first * 4)
        return np.asarray(raw[self.start - first * 4 :], dtype=np.uint64)

    def fractions(self, purpose: str = "value") -> NDArray[np.float64]:
        return np.asarray((self.words(purpose) >> np.uint64(11)) * 2.0**-53, dtype=np.float64)

    def integers(
        self, low: int, high: int, *, unique: bool = False, purpose: str = "value"
    ) -> NDArray[np.int64]:
        size = high - low + 1
        if unique:
            return self._distinct(min(size, _MOST)) + low
        if size <= 2**53:
            return (self.fractions(purpose) * size).astype(np.int64) + low
        with np.errstate(over="ignore"):
            offsets = self.words(purpose) % np.uint64(min(size, 2**64 - 1))
            return (offsets + np.uint64(low % 2**64)).astype(np.int64)

    def _distinct(self, size: int) -> NDArray[np.int64]:
        """A different number for every row; there is none from row `limit` on."""
        if self.stop - self.base > size:
            self.limit = self.base + size
        # Fixed rows come before the base: what is drawn for them is not used.
        index = np.clip(self.index - self.base, 0, size - 1)
        return permuted(index, size, self.key("order"))

    def pick(
        self,
        values: Sequence[Any] | NDArray[np.object_],
        *,
        unique: bool = False,
        purpose: str = "value",
    ) -> NDArray[np.object_]:
        pool = values if isinstance(values, np.ndarray) else _objects(values)
        chosen: NDArray[np.object_] = pool[
            self.integers(0, len(pool) - 1, unique=unique, purpose=purpose)
        ]
        return chosen

    def identifiers(self) -> NDArray[np.object_]:
        """Version 4 as RFC 9562 lays it out, from two words a row."""
        first, second = self.words("high").tolist(), self.words("low").tolist()
        return _objects(
            [UUID(int=a << 64 | b, version=4) for a, b in zip(first, second, strict=True)]
        )


def _objects(values: Sequence[Any]) -> NDArray[np.object_]:
    array = np.empty(len(values), dtype=object)
    array[:] = list(values)
    return array


def out_of_values(model: str, field: str, size: int) -> WelbikError:
    return WelbikError(
        f"{model}.{field} is unique and has only {size} different values",
        "ask for fewer rows in 'seed', or widen the field",
    )
