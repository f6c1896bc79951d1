"""Declaration files as text, and places in them."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass, field
from typing import NamedTuple


@dataclass(eq=False, slots=True)
class Source:
    """One file's text. `name` is what messages call it, relative to the project."""

    name: str
    text: str
    _starts: list[int] = field(default_factory=list, repr=False)

    def place(self, offset: int) -> tuple[int, int]:
        """The line and column of an offset, both counted from 1, columns in characters."""
        if not self._starts:
            self._starts.append(0)
            for at, character in enumerate(self.text):
                if character == "\n":
                    self._starts.append(at + 1)
        line = bisect_right(self._starts, offset)
        return line, offset - self._starts[line - 1] + 1

    def line(self, number: int) -> str:
        """The text of a line counted from 1, without its end."""
        start = self._starts[number - 1] if self._starts else 0
        end = self.text.find("\n", start)
        return self.text[start : end if end >= 0 else len(self.text)].rstrip("\r")


class Span(NamedTuple):
    """The characters `start` to `end` (exclusive) of a source."""

    source: Source
    start: int
    end: int

    @property
    def place(self) -> tuple[int, int]:
        return self.source.place(self.start)

    @property
    def text(self) -> str:
        return self.source.text[self.start : self.end]

    def to(self, other: Span) -> Span:
        return Span(self.source, self.start, max(self.end, other.end))
