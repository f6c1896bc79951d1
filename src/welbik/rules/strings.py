"""The texts that match a pattern, numbered: so that any of them can be had by its number.

The pattern becomes a deterministic automaton by subset construction (Rabin and Scott,
1959); counting accepted texts per state and length numbers them in order, shorter
before longer along each path, without listing any.
"""

from __future__ import annotations

from .patterns import Either, Intervals, Node, Pattern, PatternError, Repeat, Sequence, Set

FULL = 2**62
"""Counts stop here: numbers of texts must fit in 64 bits."""

_MOST_STATES = 1000
_SPARE = 24
_LONG = 5000


class Builder:
    """Thompson's construction: states with empty moves, and moves on sets of characters."""

    def __init__(self) -> None:
        self.empty: list[list[int]] = []
        self.moves: list[list[tuple[Intervals, int]]] = []

    def state(self) -> int:
        if len(self.empty) >= _MOST_STATES:
            raise PatternError("this pattern is too large", 0, "use smaller repeats")
        self.empty.append([])
        self.moves.append([])
        return len(self.empty) - 1

    def add(self, node: Node, start: int) -> int:
        """Adds what reads `node` from `start`; returns where it ends."""
        if isinstance(node, Set):
            end = self.state()
            self.moves[start].append((node.intervals, end))
            return end
        if isinstance(node, Sequence):
            for part in node.parts:
                start = self.add(part, start)
            return start
        if isinstance(node, Either):
            end = self.state()
            for way in node.ways:
                begin = self.state()
                self.empty[start].append(begin)
                self.empty[self.add(way, begin)].append(end)
            return end
        return self._repeat(node, start)

    def _repeat(self, node: Repeat, start: int) -> int:
        for _ in range(node.low):
            start = self.add(node.part, start)
        end = self.state()
        self.empty[start].append(end)
        if node.high is None:
            begin = self.state()
            self.empty[start].append(begin)
            last = self.add(node.part, begin)
            self.empty[last] += [begin, end]
            return end
        for _ in range(node.high - node.low):
            start = self.add(node.part, start)
            self.empty[start].append(end)
        return end

    def closure(self, states: frozenset[int]) -> frozenset[int]:
        seen, todo = set(states), list(states)
        while todo:
            for other in self.empty[todo.pop()]:
                if other not in seen:
                    seen.add(other)
                    todo.append(other)
        return frozenset(seen)


Edge = tuple[int, int, int]
"""First and last code point, and the state it leads to."""


def _automaton(pattern: Pattern) -> tuple[list[list[Edge]], list[bool]]:
    builder = Builder()
    start = builder.state()
    end = builder.add(pattern.tree, start)
    first = builder.closure(frozenset([start]))
    numbers = {first: 0}
    order = [first]
    edges: list[list[Edge]] = []
    for states in order:
        moves = [move for state in states for move in builder.moves[state]]
        cuts = sorted({c for ivs, _ in moves for low, high in ivs for c in (low, high + 1)})
        found: list[Edge] = []
        for low, after in zip(cuts, cuts[1:], strict=False):
            reached = frozenset(t for ivs, t in moves if any(a <= low <= b for a, b in ivs))
            if not reached:
                continue
            closed = builder.closure(reached)
            if closed not in numbers:
                if len(order) >= _MOST_STATES:
                    raise PatternError("this pattern is too large", 0, "use smaller repeats")
                numbers[closed] = len(order)
                order.append(closed)
            found.append((low, after - 1, numbers[closed]))
        edges.append(found)
    return edges, [end in states for states in order]


def _printable(edges: list[Edge]) -> list[Edge]:
    """Only what can be typed, where there is any of it: no spaces, which forms cut off at the ends."""
    for first in (33, 32):
        kept = [
            (max(low, first), min(high, 126), to)
            for low, high, to in edges
            if low <= 126 and high >= first
        ]
        if kept:
            return kept
    return edges


class Strings:
    """All texts of `shortest` to `longest` characters that match a pattern.

    Without `longest` the texts are at most a few dozen characters longer than need be.
    `size` is how many there are, at most FULL; `counts[length][state]` how many can
    still follow. Raises PatternError when the pattern needs too large an automaton.
    """

    def __init__(self, pattern: Pattern, shortest: int, longest: int | None) -> None:
        if shortest > _LONG:
            raise PatternError(
                f"texts of {shortest} characters and more are too long for a pattern",
                0,
                "take the pattern or the length away",
            )
        self._all, self.accepting = _automaton(pattern)
        self.edges = [_printable(edges) for edges in self._all]
        self.shortest = shortest
        self._limit = longest
        self.longest = self._reach(shortest, longest)
        self.counts = self._count()
        self.size = self.counts[0][0]

    def _reach(self, shortest: int, longest: int | None) -> int:
        """The longest texts worth counting: the first length with a match, and some more."""
        states, length = {0}, 0
        most = longest if longest is not None else shortest + len(self.edges) + _SPARE
        while length < most:
            if length >= shortest and any(self.accepting[s] for s in states):
                break
            states = {to for s in states for _, _, to in self.edges[s]}
            length += 1
            if not states:
                break
        return min(most, length + _SPARE)

    def _count(self) -> list[list[int]]:
        table: list[list[int]] = []
        after = [0] * len(self.edges)
        for length in range(self.longest, -1, -1):
            row = []
            for state, edges in enumerate(self.edges):
                total = 1 if self.accepting[state] and length >= self.shortest else 0
                if length < self.longest:
                    total += sum((high - low + 1) * after[to] for low, high, to in edges)
                row.append(min(total, FULL))
            table.append(row)
            after = row
        return table[::-1]

    def text(self, number: int) -> str:
        """The text of a number from 0 up to `size`."""
        state, out = 0, []
        for length in range(self.longest + 1):
            if self.accepting[state] and length >= self.shortest:
                if number == 0:
                    break
                number -= 1
            for low, high, to in self.edges[state]:
                each = self.counts[length + 1][to] if length < self.longest else 0
                if number < (high - low + 1) * each:
                    out.append(chr(low + number // each))
                    number %= each
                    state = to
                    break
                number -= (high - low + 1) * each
        return "".join(out)

    def matches(self, text: str) -> bool:
        """Whether a text is one of them, whatever its characters."""
        if len(text) < self.shortest or (self._limit is not None and len(text) > self._limit):
            return False
        state = 0
        for character in text:
            code = ord(character)
            state = next((to for low, high, to in self._all[state] if low <= code <= high), -1)
            if state < 0:
                return False
        return self.accepting[state]
