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
    def subject(self) -> str: ...

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
    for here, there in _about_the_same(before, after, pairs):
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
        mine = _by_kind(before, kind, [n for n in range(*left) if n not in pairs])
        theirs = _by_kind(after, kind, [n for n in range(*right) if n not in taken])
        for one in mine.keys() & theirs.keys():
            yield from _changed(before, after, mine[one], theirs[one])


def _by_kind(
    pieces: Sequence[T], kind: Kind[T], places: Sequence[int]
) -> dict[Hashable, list[int]]:
    found = defaultdict(list)
    for place in places:
        found[kind(pieces[place])].append(place)
    return found


def _changed(
    before: Sequence[T], after: Sequence[T], mine: Sequence[int], theirs: Sequence[int]
) -> Iterator[tuple[int, int]]:
    """Of pieces of one kind between the same neighbours those that are versions of each other."""
    pairs = list(zip(mine, theirs, strict=False))
    # As many as before are the same ones, unless their names say otherwise.
    if len(mine) == len(theirs) and all(
        not (before[m].key and after[t].key) or alike(before[m], after[t]) >= _ALIKE
        for m, t in pairs
    ):
        yield from pairs
        return
    yield from _most_alike(before, after, mine, theirs)


def _most_alike(
    before: Sequence[T], after: Sequence[T], mine: Sequence[int], theirs: Sequence[int]
) -> Iterator[tuple[int, int]]:
    """The pairs, in order, that are alike enough and together the most alike."""
    scores = {
        (m, t): score
        for m, one in enumerate(mine)
        for t, other in enumerate(theirs)
        if (score := alike(before[one], after[other])) >= _ALIKE
    }
    # The best that can be had of what comes after each place: the usual table, from its end.
    best = [[0.0] * (len(theirs) + 1) for _ in range(len(mine) + 1)]
    for m in range(len(mine) - 1, -1, -1):
        for t in range(len(theirs) - 1, -1, -1):
            paired = scores[m, t] + best[m + 1][t + 1] if (m, t) in scores else 0.0
            best[m][t] = max(paired, best[m + 1][t], best[m][t + 1])
    m = t = 0
    while m < len(mine) and t < len(theirs):
        if (m, t) in scores and best[m][t] == scores[m, t] + best[m + 1][t + 1]:
            yield mine[m], theirs[t]
            m, t = m + 1, t + 1
        elif best[m][t] == best[m + 1][t]:
            m += 1
        else:
            t += 1


def _about_the_same(
    before: Sequence[T], after: Sequence[T], pairs: dict[int, int]
) -> Iterator[tuple[int, int]]:
    """What is said of one thing, be it in other words: alone on both sides."""
    taken = {*pairs.values()}
    mine = Counter(one.subject for n, one in enumerate(before) if n not in pairs)
    theirs = {one.subject: n for n, one in enumerate(after) if n not in taken and one.subject}
    for n, one in enumerate(before):
        if n not in pairs and mine[one.subject] == 1 and one.subject in theirs:
            yield n, theirs.pop(one.subject)


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
