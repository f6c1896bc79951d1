"""Which piece of one version is which of another."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Hashable, Iterator, Sequence
from difflib import SequenceMatcher
from typing import Protocol, TypeVar

_ALIKE = 0.6
_MOVED_WORDS = 4


class Telling(Protocol):
    """What can be found again in another version."""

    @property
    def content(self) -> str: ...

    @property
    def key(self) -> str: ...

    @property
    def words(self) -> tuple[str, ...]: ...


T = TypeVar("T", bound=Telling)
Kind = Callable[[T], Hashable]


def aligned(before: Sequence[T], after: Sequence[T], kind: Kind[T]) -> dict[int, int]:
    """The place in `after` of each piece of `before` that is still there, changed or not.

    Equal pieces are found first, in order; then those of one name; then what lies between
    pairs is compared. `kind` says which pieces can be versions of each other at all.
    """
    pairs = dict(common([one.content for one in before], [one.content for one in after]))
    for here, there in _named(before, after, kind, pairs):
        pairs[here] = there
    for here, there in _between(before, after, kind, pairs):
        pairs[here] = there
    for here, there in _moved(before, after, pairs):
        pairs[here] = there
    return pairs


def common(before: Sequence[str], after: Sequence[str]) -> Iterator[tuple[int, int]]:
    """The places of what both have in the same order."""
    matcher = SequenceMatcher(None, before, after, autojunk=False)
    for here, there, size in matcher.get_matching_blocks():
        for n in range(size):
            yield here + n, there + n


def _named(
    before: Sequence[T], after: Sequence[T], kind: Kind[T], pairs: dict[int, int]
) -> Iterator[tuple[int, int]]:
    """Pieces with a name that each version has once, wherever they went."""
    taken = {*pairs.values()}
    mine, theirs = _by_name(before, kind), _by_name(after, kind)
    for name, places in mine.items():
        others = theirs.get(name, [])
        left = [here for here in places if here not in pairs]
        right = [there for there in others if there not in taken]
        # With the same number left on both sides their order tells which is which.
        if len(left) == len(right):
            yield from zip(left, right, strict=True)


def _by_name(pieces: Sequence[T], kind: Kind[T]) -> dict[tuple[Hashable, str], list[int]]:
    found = defaultdict(list)
    for place, one in enumerate(pieces):
        if one.key:
            found[kind(one), one.key].append(place)
    return found


def _between(
    before: Sequence[T], after: Sequence[T], kind: Kind[T], pairs: dict[int, int]
) -> Iterator[tuple[int, int]]:
    """What was changed: it stands between the same neighbours, and looks like what it was."""
    taken = {*pairs.values()}
    for left, right in _gaps(pairs, len(before), len(after)):
        mine = [n for n in range(*left) if n not in pairs]
        theirs = [n for n in range(*right) if n not in taken]
        if len(mine) == len(theirs):
            fits = [
                kind(before[m]) == kind(after[t])
                and (not before[m].key or not after[t].key or alike(before[m], after[t]) >= _ALIKE)
                for m, t in zip(mine, theirs, strict=True)
            ]
            if all(fits):
                yield from zip(mine, theirs, strict=True)
                continue
        start = 0
        for m in mine:
            for n in range(start, len(theirs)):
                t = theirs[n]
                if kind(before[m]) == kind(after[t]) and alike(before[m], after[t]) >= _ALIKE:
                    yield m, t
                    start = n + 1
                    break


def _gaps(
    pairs: dict[int, int], before: int, after: int
) -> Iterator[tuple[tuple[int, int], tuple[int, int]]]:
    """The stretches between pairs that stand in order."""
    last_here = last_there = 0
    for here in sorted(pairs):
        there = pairs[here]
        if there < last_there:
            continue
        yield (last_here, here), (last_there, there)
        last_here, last_there = here + 1, there + 1
    yield (last_here, before), (last_there, after)


def _moved(
    before: Sequence[T], after: Sequence[T], pairs: dict[int, int]
) -> Iterator[tuple[int, int]]:
    """What stands elsewhere word for word, and is long enough to be told by that."""
    taken = {*pairs.values()}
    places = defaultdict(list)
    for there, one in enumerate(after):
        if there not in taken and len(one.words) >= _MOVED_WORDS:
            places[one.words].append(there)
    for here, one in enumerate(before):
        if here not in pairs and len(places.get(one.words, ())) == 1:
            yield here, places.pop(one.words)[0]


def alike(one: Telling, other: Telling) -> float:
    """How much of two pieces is the same, from 0 to 1, by the words that they have."""
    mine, theirs = Counter(one.words), Counter(other.words)
    whole = mine.total() + theirs.total()
    return 2 * (mine & theirs).total() / whole if whole else 1.0


def likeness(one: str, other: str) -> float:
    """How much of two texts is the same, from 0 to 1, by their lines."""
    mine, theirs = (Counter(line.strip() for line in t.splitlines()) for t in (one, other))
    for lines in (mine, theirs):
        lines.pop("", None)
    whole = mine.total() + theirs.total()
    return 2 * (mine & theirs).total() / whole if whole else 0.0
