"""Patterns of `matches`: the part of regular expressions that every target reads alike.

Literals, classes, groups, alternatives and counted repeats. What only some engines
know (look-around, back references, word edges, flags) is refused with a reason, so a
browser, Python and the made-up rows never disagree about a value.
"""

from __future__ import annotations

from typing import NamedTuple

Intervals = tuple[tuple[int, int], ...]
"""Code points, as sorted and disjoint closed intervals."""

_LAST = 0x10FFFF
_ANY: Intervals = ((0, 9), (11, 0xD7FF), (0xE000, _LAST))
_CLASSES: dict[str, Intervals] = {
    "d": ((48, 57),),
    "w": ((48, 57), (65, 90), (95, 95), (97, 122)),
    "s": ((9, 13), (32, 32)),
}
_CONTROLS = {"n": 10, "t": 9, "r": 13, "f": 12, "v": 11}
_SPECIAL = frozenset("^$\\.*+?()[]{}|/")
_SPECIAL_IN_CLASS = frozenset("()[]{}/-\\|^")
MOST_REPEATS = 1000


class PatternError(ValueError):
    """Why a pattern is refused, and the offset in it."""

    def __init__(self, message: str, at: int, remedy: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.at = at
        self.remedy = remedy


class Set(NamedTuple):
    """One character out of some intervals."""

    intervals: Intervals


class Sequence(NamedTuple):
    parts: tuple[Node, ...]


class Either(NamedTuple):
    ways: tuple[Node, ...]


class Repeat(NamedTuple):
    part: Node
    low: int
    high: int | None


Node = Set | Sequence | Either | Repeat


class Pattern(NamedTuple):
    """A pattern for a whole value: its text as all engines take it, and its tree."""

    text: str
    tree: Node


def merge(intervals: list[tuple[int, int]]) -> Intervals:
    """Sorted, disjoint and joined where they touch."""
    out: list[tuple[int, int]] = []
    for low, high in sorted(intervals):
        if out and low <= out[-1][1] + 1:
            out[-1] = (out[-1][0], max(out[-1][1], high))
        else:
            out.append((low, high))
    return tuple(out)


def _complement(intervals: Intervals) -> Intervals:
    whole = merge([*intervals, (0xD800, 0xDFFF)])
    out, start = [], 0
    for low, high in (*whole, (_LAST + 1, _LAST + 1)):
        if start < low:
            out.append((start, low - 1))
        start = high + 1
    return tuple(out)


class _Reader:
    def __init__(self, text: str) -> None:
        self.text = text
        self.at = 0

    @property
    def now(self) -> str:
        return self.text[self.at] if self.at < len(self.text) else ""

    def take(self, text: str) -> bool:
        if self.text.startswith(text, self.at):
            self.at += len(text)
            return True
        return False

    def either(self) -> Node:
        ways = [self.sequence()]
        while self.take("|"):
            ways.append(self.sequence())
        return ways[0] if len(ways) == 1 else Either(tuple(ways))

    def sequence(self) -> Node:
        parts: list[Node] = []
        while self.now and self.now not in "|)":
            part = self.atom()
            while self.now and self.now in "*+?{":
                part = self.repeat(part)
            parts.append(part)
        return parts[0] if len(parts) == 1 else Sequence(tuple(parts))

    def atom(self) -> Node:
        start = self.at
        if self.take("("):
            if self.take("?") and not self.take(":"):
                raise PatternError(
                    "groups that begin with (? are not read alike everywhere",
                    start,
                    "use plain groups: (…)",
                )
            inside = self.either()
            if not self.take(")"):
                raise PatternError("this group is not closed", start, "close it with )")
            return inside
        if self.take("["):
            return self.character_class(start)
        if self.take("."):
            return Set(_ANY)
        if self.take("\\"):
            return self.escape(start)
        if self.now in "^$":
            raise PatternError(
                f"{self.now!r} has no place here",
                start,
                "a pattern always means the whole value: leave ^ and $ out",
            )
        if self.now in "*+?{}])":
            raise PatternError(
                f"{self.now!r} stands alone", start, f"write \\{self.now} for the character itself"
            )
        character = self.now
        self.at += 1
        return Set(((ord(character), ord(character)),))

    def escape(self, start: int) -> Set:
        letter = self.now
        self.at += 1
        if not letter:
            raise PatternError(
                "the pattern ends in a backslash", start, r"write \\\\ for the character itself"
            )
        if letter.lower() in _CLASSES:
            inside = _CLASSES[letter.lower()]
            return Set(inside if letter.islower() else _complement(inside))
        if letter in _CONTROLS:
            return Set(((_CONTROLS[letter], _CONTROLS[letter]),))
        if letter.isalnum():
            raise PatternError(
                f"\\{letter} is not read alike everywhere",
                start,
                "write the characters out, as in [A-Z]",
            )
        return Set(((ord(letter), ord(letter)),))

    def character_class(self, start: int) -> Set:
        negated = self.take("^")
        intervals: list[tuple[int, int]] = []
        while self.now != "]" or not intervals:
            if not self.now:
                raise PatternError("this class is not closed", start, "close it with ]")
            low = self.member()
            if self.now == "-" and self.text[self.at + 1 : self.at + 2] not in ("", "]"):
                dash = self.at
                self.at += 1
                high = self.member()
                if (
                    len(low) != 1
                    or low[0][0] != low[0][1]
                    or len(high) != 1
                    or high[0][0] < low[0][0]
                ):
                    raise PatternError(
                        "this range of characters is upside down",
                        dash,
                        "write the lower one first: [a-z]",
                    )
                intervals.append((low[0][0], high[0][1]))
            else:
                intervals.extend(low)
        self.at += 1
        merged = merge(intervals)
        return Set(_complement(merged) if negated else merged)

    def member(self) -> Intervals:
        start = self.at
        if self.take("\\"):
            return self.escape(start).intervals
        character = self.now
        self.at += 1
        return ((ord(character), ord(character)),)

    def repeat(self, part: Node) -> Node:
        start = self.at
        if self.take("*"):
            low, high = 0, None
        elif self.take("+"):
            low, high = 1, None
        elif self.take("?"):
            low, high = 0, 1
        else:
            low, high = self.counts(start)
        if self.now and self.now in "?+":
            raise PatternError(
                "lazy and possessive repeats change nothing here",
                self.at,
                f"leave out the {self.now}",
            )
        return Repeat(part, low, high)

    def counts(self, start: int) -> tuple[int, int | None]:
        end = self.text.find("}", start)
        inner = self.text[start + 1 : end] if end >= 0 else ""
        low, comma, high = inner.partition(",")
        if not low.isdecimal() or (high and not high.isdecimal()):
            raise PatternError(
                "this repeat is not {2}, {2,} or {2,4}", start, "write \\{ for the character itself"
            )
        self.at = end + 1
        most = int(high) if high else (None if comma else int(low))
        if max(int(low), most or 0) > MOST_REPEATS or (most is not None and most < int(low)):
            raise PatternError(
                f"this repeat is upside down or above {MOST_REPEATS}",
                start,
                "write the smaller number first: {2,4}",
            )
        return int(low), most


def parse_pattern(text: str) -> Pattern:
    """Reads a pattern; raises PatternError with the reason and the place."""
    inner = text[1:] if text.startswith("^") else text
    if inner.endswith("$") and not inner.endswith("\\$"):
        inner = inner[:-1]
    reader = _Reader(inner)
    try:
        tree = reader.either()
    except RecursionError:
        raise PatternError(
            "this pattern is nested too deeply", 0, "write it with fewer groups"
        ) from None
    if reader.at < len(inner):
        raise PatternError(f"{reader.now!r} closes nothing", reader.at, "take it out")
    return Pattern(render(tree), tree)


def _escaped(code: int, special: frozenset[str]) -> str:
    character = chr(code)
    if character in special:
        return "\\" + character
    named = {10: "\\n", 9: "\\t", 13: "\\r", 12: "\\f", 11: "\\v"}
    if code in named:
        return named[code]
    return (
        character if character.isprintable() else f"\\u{code:04x}" if code < 0x10000 else character
    )


def _render_set(intervals: Intervals) -> str:
    if intervals == _ANY:
        return "."
    if len(intervals) == 1 and intervals[0][0] == intervals[0][1]:
        return _escaped(intervals[0][0], _SPECIAL)
    negated = intervals[-1][1] == _LAST and len(intervals) > 1
    shown = _complement(intervals) if negated else intervals
    shown = tuple(pair for pair in shown if not negated or pair != (0xD800, 0xDFFF))
    inside = "".join(
        _escaped(low, _SPECIAL_IN_CLASS)
        + (
            ""
            if low == high
            else ("-" if high > low + 1 else "") + _escaped(high, _SPECIAL_IN_CLASS)
        )
        for low, high in shown
    )
    return f"[{'^' if negated else ''}{inside}]"


def render(node: Node) -> str:
    """The pattern's text, written the one way that Python and browsers read alike."""
    if isinstance(node, Set):
        return _render_set(node.intervals)
    if isinstance(node, Sequence):
        return "".join(f"({render(p)})" if isinstance(p, Either) else render(p) for p in node.parts)
    if isinstance(node, Either):
        return "|".join(render(way) for way in node.ways)
    inner = render(node.part) if isinstance(node.part, Set) else f"({render(node.part)})"
    sign = {(0, None): "*", (1, None): "+", (0, 1): "?"}.get((node.low, node.high))
    if sign is None:
        high = "" if node.high is None else str(node.high)
        sign = f"{{{node.low}}}" if node.low == node.high else f"{{{node.low},{high}}}"
    return inner + sign


_NO_NEWLINE = ((0, 9), (11, 0x10FFFF))


def explicit(node: Node) -> Node:
    """The same pattern, in which `.` says what it leaves out."""
    if isinstance(node, Set):
        return Set(_NO_NEWLINE) if render(node) == "." else node
    if isinstance(node, Sequence):
        return Sequence(tuple(map(explicit, node.parts)))
    if isinstance(node, Either):
        return Either(tuple(map(explicit, node.ways)))
    return Repeat(explicit(node.part), node.low, node.high)
