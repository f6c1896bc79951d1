"""Lists kept in their parent's own row: of a part's values, or of short texts."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from ..rules.brought import use
from .base import Array, Case, Control, Declared, Kind, Stored, Stream
from .text import Text

_MOST = 100
"""Entries of a list: more are rows of a model of their own."""


@dataclass(frozen=True, eq=False)
class ListOf(Kind):
    word: ClassVar[str] = "list"
    annotation: ClassVar[str] = f"list[{use.Any}]"
    as_json: ClassVar[bool] = True
    filtered: ClassVar[str] = ""
    samples: ClassVar[frozenset[str]] = frozenset()
    shape: str = ""
    text: Text | None = None

    @classmethod
    def read(cls, node: Type, report: Report) -> ListOf | None:
        if node.named is not None:
            return cls(shape=node.named.text)
        text = Text.read(node.of, report) if node.of else None
        if node.of is None:
            report.add("bad-list", "a list of what?", node.span, "write: list of text 30")
        return None if text is None else cls(text=text)

    @property
    def part(self) -> str:
        return self.shape

    def stored(self) -> Stored:
        return Stored("json")

    def default(self, given: Bound, report: Report) -> None:
        report.add("wrong-value", "a list has no default", given.span, "take it out")

    def control(self, field: Declared) -> Control:
        if self.text is None:
            return Control("embedded.Parts", {})
        arguments = {"longest": str(self.text.longest)} if self.text.longest else {}
        return Control("embedded.Tags", arguments)

    def draw(self, field: Declared, stream: Stream) -> Array:
        return stream.lists(4)

    def cases(self, field: Declared) -> list[Case]:
        if self.text is None or not self.text.longest:
            return []
        most = self.text.longest
        return [
            Case(f'"b" * {most}', True, "longest"),
            Case(f'"b" * {most + 1}', False, "too long"),
        ]

    def describe(self) -> str:
        return f"list of {self.shape or (self.text.describe() if self.text else 'text')}"
