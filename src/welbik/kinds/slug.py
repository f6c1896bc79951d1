"""A word of an address, made from another field and kept unique."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from .base import Array, Case, Control, Declared, Kind, Stored, Stream, wants
from .literals import quote

_LONGEST = 80


@dataclass(frozen=True, eq=False)
class Slug(Kind):
    word: ClassVar[str] = "slug"
    annotation: ClassVar[str] = "str"
    self_made: ClassVar[bool] = True
    always_unique: ClassVar[bool] = True
    blank_is_empty: ClassVar[bool] = False
    source_field: str = ""

    @classmethod
    def read(cls, node: Type, report: Report) -> Slug | None:
        return cls(node.named.text) if node.named else None

    @property
    def made_from(self) -> str:
        return self.source_field

    def stored(self) -> Stored:
        return Stored(f"text {_LONGEST}", length=f"1..{_LONGEST}")

    def default(self, given: Bound, report: Report) -> str | None:
        literal = wants(given, ("string",), "text", report)
        return None if literal is None else literal.text

    def source(self, value: object) -> str:
        return quote(str(value))

    def control(self, field: Declared) -> Control:
        return Control("Slug", {"source": quote(self.source_field)})

    def draw(self, field: Declared, stream: Stream) -> Array:
        return stream.slugs(self.source_field, _LONGEST)

    def cases(self, field: Declared) -> list[Case]:
        return [
            Case('"a-word-2"', True, "a word"),
            Case('"two words"', False, "a space"),
            Case('"UPPER"', False, "large letters"),
            Case('"-"', False, "no letter"),
        ]

    def describe(self) -> str:
        return f"slug from {self.source_field}"
