"""Places for boxes and ways for lines: no line crosses a box.

Each layer is a row. Between two rows lines run in tracks of their own; through a row they
go where a passage was kept free, so all of a line lies outside of every box.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from .graph import Box, Relation
from .layers import Layered, layered

_MARGIN, _GAP, _TRACK, _PASSAGE, _LOOP = 28.0, 34.0, 11.0, 14.0, 22.0
_SWEEPS = 14


class Point(NamedTuple):
    x: float
    y: float


class Placed(NamedTuple):
    """A box and its upper left corner."""

    box: Box
    x: float
    y: float


class Line(NamedTuple):
    """A relation's way from its source to its target, in corners."""

    relation: Relation
    points: tuple[Point, ...]


@dataclass
class Diagram:
    """Everything to draw, in pixels from the upper left."""

    width: float
    height: float
    boxes: list[Placed] = field(default_factory=list)
    lines: list[Line] = field(default_factory=list)


def arranged(boxes: Mapping[str, Box], relations: Sequence[Relation]) -> Diagram:
    """A diagram of boxes and relations."""
    found = layered(boxes, relations)
    loops = {r.source for r in relations if r.source == r.target}
    sizes = {name: box.width + (_LOOP if name in loops else 0.0) for name, box in boxes.items()}
    x = _columns(found, sizes)
    ports = _ports(found, boxes, x)
    gaps = _tracks(found, ports)
    tops = _tops(found, boxes, gaps)
    diagram = Diagram(0, 0)
    for layer, top in zip(found.layers, tops, strict=True):
        for item in layer:
            if isinstance(item, str):
                diagram.boxes.append(Placed(boxes[item], x[item], top))
    for number, relation in enumerate(relations):
        points = (
            _loop(boxes[relation.source], x[relation.source], tops, found, relation.source, number)
            if number not in found.chains
            else _way(found, boxes, number, ports, gaps, tops)
        )
        diagram.lines.append(Line(relation, tuple(points)))
    rights = [p.x + sizes[p.box.name] for p in diagram.boxes]
    rights += [point.x for line in diagram.lines for point in line.points]
    diagram.width = max(rights, default=0) + _MARGIN
    diagram.height = max((p.y + p.box.height for p in diagram.boxes), default=0) + _MARGIN
    return diagram


def _size(item: object, sizes: Mapping[str, float]) -> float:
    return sizes[item] if isinstance(item, str) else _PASSAGE


def _columns(found: Layered, sizes: Mapping[str, float]) -> dict[object, float]:
    """The left edge of everything: near its neighbours, in the order of its layer."""
    near: dict[object, list[object]] = {}
    for chain in found.chains.values():
        for one, other in zip(chain, chain[1:], strict=False):
            near.setdefault(one, []).append(other)
            near.setdefault(other, []).append(one)
    x: dict[object, float] = {}
    for layer in found.layers:
        at = _MARGIN
        for item in layer:
            x[item] = at
            at += _size(item, sizes) + _GAP
    packed = dict(x)
    for _ in range(_SWEEPS):
        for layer in found.layers:
            # What has no neighbours goes back to its place, or it would be pushed ever further.
            wanted = [_wish(i, near, x, sizes) if i in near else packed[i] for i in layer]
            _spread(layer, wanted, x, sizes)
        # All together they may have moved aside: back to the margin.
        moved = min((x[item] for item in near), default=_MARGIN) - _MARGIN
        for item in near:
            x[item] -= moved
    for layer in found.layers:
        _spread(layer, [x[item] for item in layer], x, sizes)
    left = min(x.values(), default=_MARGIN)
    return {item: at - left + _MARGIN for item, at in x.items()}


def _wish(
    item: object,
    near: Mapping[object, list[object]],
    x: Mapping[object, float],
    sizes: Mapping[str, float],
) -> float:
    """Where a thing's left edge would be, were it in the middle of its neighbours."""
    middles = sorted(x[other] + _size(other, sizes) / 2 for other in near[item])
    half = len(middles) // 2
    middle = middles[half] if len(middles) % 2 else (middles[half - 1] + middles[half]) / 2
    return middle - _size(item, sizes) / 2


def _spread(
    layer: Sequence[object],
    wanted: Sequence[float],
    x: dict[object, float],
    sizes: Mapping[str, float],
) -> None:
    """As near to what is wanted as order and gaps allow: groups that collide move together."""
    groups: list[tuple[float, int, float, list[tuple[object, float]]]] = []
    for item, wish in zip(layer, wanted, strict=True):
        total, count, length = wish, 1, _size(item, sizes) + _GAP
        members: list[tuple[object, float]] = [(item, 0.0)]
        while groups and groups[-1][0] / groups[-1][1] + groups[-1][2] > total / count:
            before_total, before_count, before_length, before = groups.pop()
            members = before + [(m, offset + before_length) for m, offset in members]
            total = before_total + total - before_length * count
            count += before_count
            length += before_length
        groups.append((total, count, length, members))
    for total, count, _, members in groups:
        for item, offset in members:
            x[item] = total / count + offset


Ports = dict[tuple[int, int], float]
"""Where a line leaves or meets something: by relation and place in its chain."""


def _ports(found: Layered, boxes: Mapping[str, Box], x: Mapping[object, float]) -> Ports:
    """Places for the ends of lines, spread over the edge of each box in the order they go."""
    ends: dict[tuple[str, str], list[tuple[float, int, int]]] = {}
    ports: Ports = {}
    rank = {item: n for n, layer in enumerate(found.layers) for item in layer}
    for number, chain in found.chains.items():
        for at, item in enumerate(chain):
            if not isinstance(item, str):
                ports[number, at] = x[item] + _PASSAGE / 2
                continue
            other = chain[at + 1] if at == 0 else chain[at - 1]
            side = "top" if rank[other] < rank[item] else "bottom"
            middle = x[other] + (boxes[other].width / 2 if isinstance(other, str) else _PASSAGE / 2)
            ends.setdefault((item, side), []).append((middle, number, at))
    for (name, _), wanting in ends.items():
        wanting.sort()
        step = boxes[name].width / (len(wanting) + 1)
        for place, (_, number, at) in enumerate(wanting, 1):
            ports[number, at] = x[name] + step * place
    return ports


class _Track(NamedTuple):
    """A step of a line between two rows: where it begins above and ends below, and its track."""

    upper: float
    lower: float
    track: int


Gaps = dict[int, tuple[dict[tuple[int, int], _Track], int]]


def _tracks(found: Layered, ports: Ports) -> Gaps:
    """For each gap its steps by relation and place, and how many tracks they need."""
    rank = {item: n for n, layer in enumerate(found.layers) for item in layer}
    steps: dict[int, list[tuple[float, float, int, int]]] = {}
    for number, chain in found.chains.items():
        for at, (one, other) in enumerate(zip(chain, chain[1:], strict=False)):
            first, second = ports[number, at], ports[number, at + 1]
            upper, lower = (second, first) if rank[one] > rank[other] else (first, second)
            gap = min(rank[one], rank[other])
            steps.setdefault(gap, []).append((upper, lower, number, at))
    gaps: Gaps = {}
    for gap, found_steps in steps.items():
        gaps[gap] = _assigned(found_steps)
    return gaps


def _assigned(
    steps: Sequence[tuple[float, float, int, int]],
) -> tuple[dict[tuple[int, int], _Track], int]:
    """A track for each step: those that go right take the upper ones last, so few cross."""
    tracks: list[list[tuple[float, float]]] = []
    out: dict[tuple[int, int], _Track] = {}

    def order(step: tuple[float, float, int, int]) -> tuple[bool, float]:
        upper, lower = step[0], step[1]
        return (upper > lower, upper if upper > lower else -upper)

    for upper, lower, number, at in sorted(steps, key=order):
        low, high = min(upper, lower) - 4, max(upper, lower) + 4
        if high - low <= 9.0:
            out[number, at] = _Track(upper, lower, -1)
            continue
        free = next(
            (
                n
                for n, taken in enumerate(tracks)
                if all(high < other_low or low > other_high for other_low, other_high in taken)
            ),
            None,
        )
        if free is None:
            tracks.append([])
            free = len(tracks) - 1
        tracks[free].append((low, high))
        out[number, at] = _Track(upper, lower, free)
    return out, len(tracks)


def _tops(found: Layered, boxes: Mapping[str, Box], gaps: Gaps) -> list[float]:
    tops, y = [], _MARGIN
    for number, layer in enumerate(found.layers):
        tops.append(y)
        tallest = max((boxes[i].height for i in layer if isinstance(i, str)), default=20.0)
        tracks = gaps.get(number, ({}, 0))[1]
        y += tallest + 2 * 24.0 + tracks * _TRACK
    return tops


def _way(
    found: Layered,
    boxes: Mapping[str, Box],
    number: int,
    ports: Ports,
    gaps: Gaps,
    tops: Sequence[float],
) -> list[Point]:
    """The corners of a line from its source to its target."""
    chain = found.chains[number]
    rank = {item: n for n, layer in enumerate(found.layers) for item in layer}
    upwards = rank[chain[0]] > rank[chain[-1]]
    places = list(range(len(chain) - 1))
    points: list[Point] = []
    for at in places if not upwards else places:
        one, other = chain[at], chain[at + 1]
        gap = min(rank[one], rank[other])
        step = gaps[gap][0][number, at]
        upper_item = one if rank[one] < rank[other] else other
        lower_y = tops[gap + 1]
        upper_y = tops[gap] + (boxes[upper_item].height if isinstance(upper_item, str) else 0.0)
        row_end = tops[gap] + max(
            (boxes[i].height for i in found.layers[gap] if isinstance(i, str)), default=20.0
        )
        y = row_end + 24.0 + max(step.track, 0) * _TRACK
        corners = [Point(step.upper, upper_y), Point(step.upper, y)]
        corners += [Point(step.lower, y), Point(step.lower, lower_y)]
        points += corners if not upwards else corners[::-1]
    return _simple(points)


def _simple(points: Sequence[Point]) -> list[Point]:
    """The corners without those that lie on a straight way."""
    kept: list[Point] = []
    for point in points:
        if kept and point == kept[-1]:
            continue
        while len(kept) > 1 and (
            kept[-2].x == kept[-1].x == point.x or kept[-2].y == kept[-1].y == point.y
        ):
            kept.pop()
        kept.append(point)
    return kept


def _loop(
    box: Box,
    x: float,
    tops: Sequence[float],
    found: Layered,
    name: str,
    number: int,
) -> list[Point]:
    """A line from a box to itself, at its right side."""
    top = tops[next(n for n, layer in enumerate(found.layers) if name in layer)]
    right = x + box.width
    first, second = top + 10.0, top + min(box.height - 8.0, 34.0)
    return [
        Point(right, second),
        Point(right + _LOOP - 6, second),
        Point(right + _LOOP - 6, first),
        Point(right, first),
    ]


def lines_across(diagram: Diagram) -> list[tuple[str, str]]:
    """Relations whose line goes through a box, by name and box: there should be none."""
    found = []
    for line in diagram.lines:
        for a, b in zip(line.points, line.points[1:], strict=False):
            for placed in diagram.boxes:
                left, right = placed.x + 1, placed.x + placed.box.width - 1
                top, bottom = placed.y + 1, placed.y + placed.box.height - 1
                inside_x = max(min(a.x, b.x), left) < min(max(a.x, b.x), right) or (
                    a.x == b.x and left < a.x < right
                )
                inside_y = max(min(a.y, b.y), top) < min(max(a.y, b.y), bottom) or (
                    a.y == b.y and top < a.y < bottom
                )
                if inside_x and inside_y:
                    found.append((line.relation.name, placed.box.name))
    return found
