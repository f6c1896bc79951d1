"""What several rules say together of rows that lead to one, and none of them alone."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from functools import partial
from itertools import permutations

from .tree import BOOLEAN, Aggregate, Apply, Node, mapped, plain, walk


def implied(conditions: Iterable[Node]) -> Iterator[Node]:
    """Conditions that hold where some others do: what is gathered is put in another's place, or left out.

    `count(a) = count(b)` and `count(a) >= 2` ask for `count(b) >= 2` too; `sum(a) >= 9` and
    `sum(a) <= sum(b)` for `sum(b) >= 9`. A field that keeps one of them is drawn without the other in view.
    """
    known = list(dict.fromkeys(part for node in conditions for part in _parts(node)))
    known += [weaker for part in known for weaker in _weakened(part)]
    seen: set[Node] = set(known)
    for one, other in permutations(known, 2):
        for found in (*_replaced(one, other), *_joined(one, other)):
            if found not in seen and any(isinstance(part, Aggregate) for part in walk(found)):
                seen.add(found)
                yield found


def _parts(node: Node) -> Iterator[Apply]:
    """The comparisons that hold on their own."""
    if isinstance(node, Apply) and node.word == "and":
        for part in node.operands:
            yield from _parts(part)
    elif isinstance(node, Apply) and node.word in ("<", "<=", "="):
        yield node


def _weakened(one: Apply) -> Iterator[Apply]:
    """Of what must be there of two kinds at once as much must be there of each."""
    low, high = one.operands
    count = plain(high)
    if one.word == "=" or not isinstance(count, Aggregate) or count.function != "count":
        return
    if isinstance(count.where, Apply) and count.where.word == "and":
        for part in count.where.operands:
            yield Apply(one.word, (low, replace(count, where=part)), BOOLEAN)


def _replaced(one: Apply, equal: Apply) -> Iterator[Node]:
    """A comparison with one side of an equation in the place of the other."""
    if equal.word != "=":
        return
    for here, there in permutations(equal.operands):
        if isinstance(here, Aggregate) and here.type == there.type and here in walk(one):
            found = mapped(one, partial(_put, here, there))
            if len({*map(plain, found.operands)}) > 1:  # type: ignore[union-attr]
                yield found


def _joined(one: Apply, other: Apply) -> Iterator[Node]:
    """Of `a <= b` and `b <= c` that `a <= c`."""
    if "=" in (one.word, other.word):
        return
    low, middle, again, high = (*one.operands, *other.operands)
    if plain(middle) == plain(again) and isinstance(plain(middle), Aggregate):
        word = "<" if "<" in (one.word, other.word) else "<="
        yield Apply(word, (low, high), BOOLEAN)


def _put(here: Node, there: Node, part: Node) -> Node:
    return there if part == here else part
