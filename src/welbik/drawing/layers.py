"""Boxes in layers: targets above what refers to them, few lines across others.

The layered way of Sugiyama, Tagawa and Toda (1981): layers of bounded width by list
scheduling, places for long lines in the layers they pass, order by barycentres.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from .graph import Box, Relation

_SWEEPS = 24


@dataclass
class Layered:
    """Layers from above; each is the ids of boxes and of passages, in order from the left.

    A passage is `(number of the relation, layer)`. `chains` has the ids from the source
    of each relation up to its target.
    """

    layers: list[list[object]] = field(default_factory=list)
    chains: dict[int, list[object]] = field(default_factory=dict)


def layered(boxes: Mapping[str, Box], relations: Sequence[Relation]) -> Layered:
    """Layers with an order in which few lines cross."""
    above = _acyclic(boxes, relations)
    layer = _assign(boxes, above)
    found = Layered([[] for _ in range(max(layer.values(), default=-1) + 1)])
    for name, number in layer.items():
        found.layers[number].append(name)
    for number, relation in enumerate(relations):
        if relation.source == relation.target:
            continue
        low, high = relation.source, relation.target
        turned = layer[low] < layer[high]
        if turned:
            low, high = high, low
        chain: list[object] = [low]
        for at in range(layer[low] - 1, layer[high], -1):
            found.layers[at].append((number, at))
            chain.append((number, at))
        chain.append(high)
        found.chains[number] = chain[::-1] if turned else chain
    _order(found)
    return found


def _acyclic(boxes: Mapping[str, Box], relations: Sequence[Relation]) -> dict[str, set[str]]:
    """For each box those that come above it; a relation that would close a circle is turned."""
    above: dict[str, set[str]] = {name: set() for name in boxes}

    def leads(start: str, goal: str) -> bool:
        todo, seen = [start], set()
        while todo:
            here = todo.pop()
            if here == goal:
                return True
            if here not in seen:
                seen.add(here)
                todo += above[here]
        return False

    for relation in sorted(relations, key=lambda r: r.one != "1"):
        low, high = relation.source, relation.target
        if low == high:
            continue
        if leads(high, low):
            low, high = high, low
        above[low].add(high)
    return above


def _assign(boxes: Mapping[str, Box], above: Mapping[str, set[str]]) -> dict[str, int]:
    """The layer of each box: below all above it, and no layer too wide."""
    room = max(3, math.ceil(math.sqrt(len(boxes)) * 1.25))
    below: dict[str, set[str]] = {name: set() for name in boxes}
    for low, highs in above.items():
        for high in highs:
            below[high].add(low)
    depth: dict[str, int] = {}

    def deep(name: str) -> int:
        """How many layers hang below a box."""
        todo = [name]
        while todo:
            here = todo[-1]
            missing = [low for low in below[here] if low not in depth]
            if missing:
                todo += missing
            else:
                depth[here] = 1 + max((depth[low] for low in below[here]), default=-1)
                todo.pop()
        return depth[name]

    layer: dict[str, int] = {}
    number = 0
    while len(layer) < len(boxes):
        ready = [
            name
            for name in boxes
            if name not in layer and all(layer.get(h, number) < number for h in above[name])
        ]
        alone = [name for name in ready if not above[name] and not below[name]]
        ready = [name for name in ready if name not in alone] or alone
        ready.sort(key=lambda name: (-deep(name), -len(below[name]), name))
        for name in ready[:room]:
            layer[name] = number
        number += 1
    _sink(layer, below, room)
    return layer


def _sink(layer: dict[str, int], below: Mapping[str, set[str]], room: int) -> None:
    """Lets each box down to right above what refers to it, where there is room: short lines."""
    filled: dict[int, int] = {}
    for number in layer.values():
        filled[number] = filled.get(number, 0) + 1
    for name in sorted(layer, key=lambda name: -layer[name]):
        if not below[name]:
            continue
        lowest = min(layer[low] for low in below[name]) - 1
        for number in range(lowest, layer[name], -1):
            if filled.get(number, 0) < room:
                filled[layer[name]] -= 1
                filled[number] = filled.get(number, 0) + 1
                layer[name] = number
                break


def _order(found: Layered) -> None:
    """Sorts each layer by where its neighbours stand, down and up, and keeps the best."""
    ups: dict[object, list[object]] = {}
    downs: dict[object, list[object]] = {}
    for chain in found.chains.values():
        ends = chain if _rank(found, chain[0]) > _rank(found, chain[-1]) else chain[::-1]
        for low, high in zip(ends, ends[1:], strict=False):
            ups.setdefault(low, []).append(high)
            downs.setdefault(high, []).append(low)
    best, fewest = [list(layer) for layer in found.layers], crossings(found)
    for sweep in range(_SWEEPS):
        down = sweep % 2 == 0
        numbers = range(1, len(found.layers)) if down else range(len(found.layers) - 2, -1, -1)
        for number in numbers:
            beside = found.layers[number - 1 if down else number + 1]
            _sort(found.layers[number], beside, ups if down else downs)
        now = crossings(found)
        if now < fewest:
            best, fewest = [list(layer) for layer in found.layers], now
    found.layers = best


def _rank(found: Layered, item: object) -> int:
    return next(n for n, layer in enumerate(found.layers) if item in layer)


def _sort(
    layer: list[object], beside: Sequence[object], near: Mapping[object, list[object]]
) -> None:
    place = {item: at for at, item in enumerate(beside)}
    own = {item: at * (len(beside) or 1) / max(1, len(layer)) for at, item in enumerate(layer)}

    def barycentre(item: object) -> float:
        places = [place[other] for other in near.get(item, ()) if other in place]
        return sum(places) / len(places) if places else own[item]

    layer.sort(key=barycentre)


def crossings(found: Layered) -> int:
    """How often lines between neighbouring layers cross."""
    place = {item: at for layer in found.layers for at, item in enumerate(layer)}
    rank = {item: n for n, layer in enumerate(found.layers) for item in layer}
    steps: dict[int, list[tuple[int, int]]] = {}
    for chain in found.chains.values():
        for one, other in zip(chain, chain[1:], strict=False):
            low, high = (one, other) if rank[one] > rank[other] else (other, one)
            steps.setdefault(rank[high], []).append((place[high], place[low]))
    total = 0
    for pairs in steps.values():
        for at, (a, b) in enumerate(pairs):
            total += sum((a - c) * (b - d) < 0 for c, d in pairs[at + 1 :])
    return total
