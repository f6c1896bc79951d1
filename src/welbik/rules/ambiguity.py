"""What a pattern can cost an engine that goes back and tries again, as Python's and browsers' do.

Such an engine may try every way in which a text can be read, so a pattern that reads the same text
in many ways is slow on the worst of them: `([a-z]+ ?)+` doubles its ways with each letter. The
ways are the runs of the pattern's automaton (its degree of ambiguity: Weber and Seidl, 1991).
They are counted here for the worst text of each length, from above: texts that lead to the same set
of states are followed as one that has the most ways of any of them.
"""

from __future__ import annotations

from collections.abc import Mapping

from .patterns import Intervals, Pattern, PatternError
from .strings import Builder

MOST_STEPS = 20_000_000
"""Beyond so many an answer would take longer than a second."""

_LENGTH = 256
_WORK = 100_000
_WAYS = 10_000
UNBOUNDED = 1_000_000
"""The length of a text that has no other bound than that of a request."""

Ways = Mapping[int, int]
"""The ways in which a state can be reached."""


def is_slow(pattern: Pattern, longest: int | None) -> bool:
    """Whether a text of at most so many characters can take too many steps to be refused."""
    longest = UNBOUNDED if longest is None else longest
    steps = worst_steps(pattern, min(longest, _LENGTH))
    if steps[-1] > MOST_STEPS:
        return True
    followed = len(steps)
    if longest <= followed:
        return False
    # What is not exponential by now grows by a power, which the last doubling tells.
    growth = steps[-1] / max(1, steps[followed // 2])
    return (
        growth > _linear(followed)
        and steps[-1] * (longest / followed) ** _power(growth) > MOST_STEPS
    )


def refuse_slow(pattern: Pattern, longest: int | None) -> None:
    """Raises PatternError where a text of at most so many characters could hold up an engine."""
    if is_slow(pattern, longest):
        fewer = f" of {longest} characters" if longest else ""
        raise PatternError(
            f"this pattern can read one text{fewer} in so many ways that trying them takes too long",
            0,
            "let no two repeats side by side, or one in the other, take the same characters"
            + ("" if longest else ", or give the text a greatest length"),
        )


def _linear(followed: int) -> float:
    """The growth of what costs a fixed number of steps a character, with some room."""
    return 2.2 if followed > 8 else 4.0


def _power(growth: float) -> float:
    power = 0.0
    while growth > 1.05 and power < 40:
        growth /= 2
        power += 1
    return power


def worst_steps(pattern: Pattern, length: int) -> list[int]:
    """The steps that the worst text of each length takes, from 1 on; they end when they are many."""
    machine = _Machine(pattern)
    now: dict[frozenset[int], Ways] = {frozenset(machine.first): machine.first}
    found = [machine.entering]
    work = 0
    for _ in range(length):
        following: dict[frozenset[int], dict[int, int]] = {}
        worst = 0
        for ways in now.values():
            for after in machine.steps(ways):
                worst = max(worst, sum(after.values()))
                work += len(after)
                most = following.setdefault(frozenset(after), {})
                for state, count in after.items():
                    most[state] = max(most.get(state, 0), count)
        if not following:
            break
        found.append(found[-1] + worst)
        if found[-1] > MOST_STEPS or work > _WORK:
            break
        now = dict(following)
    return found


class _Machine:
    """The automaton of a pattern, without empty moves but with the number of ways through them."""

    def __init__(self, pattern: Pattern) -> None:
        self.builder = Builder()
        start = self.builder.state()
        self.builder.add(pattern.tree, start)
        self._through: dict[int, Ways] = {}
        self.first = self.through(start)
        self.entering = sum(self.first.values())

    def through(self, start: int) -> Ways:
        """The ways from a state to those that read a character, none of them in circles."""
        if start not in self._through:
            found: dict[int, int] = {}
            walks, todo = 0, [(start, frozenset([start]))]
            while todo and walks < _WAYS:
                state, seen = todo.pop()
                walks += 1
                if self.builder.moves[state]:
                    found[state] = found.get(state, 0) + 1
                todo += [
                    (other, seen | {other})
                    for other in self.builder.empty[state]
                    if other not in seen
                ]
            if todo:
                found = dict.fromkeys(found, MOST_STEPS)
            self._through[start] = found
        return self._through[start]

    def steps(self, ways: Ways) -> list[dict[int, int]]:
        """The ways after one character more, for each kind of character that tells states apart."""
        moves = [
            (intervals, to, count)
            for state, count in ways.items()
            for intervals, to in self.builder.moves[state]
        ]
        found = []
        for point in sorted({low for intervals, _, _ in moves for low, _ in intervals}):
            after: dict[int, int] = {}
            for intervals, to, count in moves:
                if _holds(intervals, point):
                    for state, more in self.through(to).items():
                        after[state] = after.get(state, 0) + count * more
            if after:
                found.append(after)
        return found


def _holds(intervals: Intervals, point: int) -> bool:
    return any(low <= point <= high for low, high in intervals)
