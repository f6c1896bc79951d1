"""Uploads: the row holds name, size, type and digest; the bytes lie in the site's folder."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from ..rules.brought import use
from .base import Array, Case, Control, Declared, Kind, Stored, Stream
from .literals import quote

_LARGEST = 10_000_000
_UNITS = ((1000**3, "GB"), (1000**2, "MB"), (1000, "KB"))


def shown_size(size: int) -> str:
    """Bytes in the largest unit that gives a whole number."""
    for unit, word in _UNITS:
        if size % unit == 0:
            return f"{size // unit} {word}"
    return f"{size / 1000:g} KB"


@dataclass(frozen=True, eq=False)
class File(Kind):
    word: ClassVar[str] = "file"
    annotation: ClassVar[str] = f"{use.uploads}.Stored"
    often_empty: ClassVar[float] = 0.5
    upload: ClassVar[bool] = True
    as_json: ClassVar[bool] = True
    blank_is_empty: ClassVar[bool] = False
    filtered: ClassVar[str] = ""
    shown: ClassVar[str] = "upload"
    samples: ClassVar[frozenset[str]] = frozenset()
    largest: int = _LARGEST
    suffixes: tuple[str, ...] = ()

    @classmethod
    def read(cls, node: Type, report: Report) -> File | None:
        suffixes = tuple(word.text.lower() for word in node.suffixes)
        return cls(node.size or _LARGEST, suffixes)

    def stored(self) -> Stored:
        return Stored("json")

    def column(self) -> str:
        return f"{use.uploads}.Column()"

    def default(self, given: Bound, report: Report) -> None:
        report.add("wrong-value", "an upload has no default", given.span, "take it out")

    def control(self, field: Declared) -> Control:
        arguments = {"largest": f"{self.largest:_}"}
        if self.suffixes:
            comma = "," if len(self.suffixes) == 1 else ""
            arguments["suffixes"] = f"({', '.join(map(quote, self.suffixes))}{comma})"
        return Control("attachments.File", arguments)

    def draw(self, field: Declared, stream: Stream) -> Array:
        return stream.uploads()

    def cases(self, field: Declared) -> list[Case]:
        return []

    def describe(self) -> str:
        of = f" of {', '.join(self.suffixes)}" if self.suffixes else ""
        return f"{self.word} up to {shown_size(self.largest)}{of}"
