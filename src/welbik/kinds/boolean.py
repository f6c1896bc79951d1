"""Yes or no, and unknown where it may be empty."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from .base import Array, Case, Control, Kind, Stored, Stream, no_range, wants

if TYPE_CHECKING:
    from ..schema.model import Field


@dataclass(frozen=True, eq=False)
class Boolean(Kind):
    word: ClassVar[str] = "boolean"
    annotation: ClassVar[str] = "bool"

    @classmethod
    def read(cls, node: Type, report: Report) -> Boolean | None:
        no_range(node, report)
        return cls()

    def stored(self) -> Stored:
        return Stored("boolean")

    def default(self, given: Bound, report: Report) -> bool | None:
        literal = wants(given, ("boolean",), "yes or no", report)
        return None if literal is None else literal.text == "yes"

    def neutral(self, value: object) -> str:
        return "yes" if value else "no"

    def control(self, field: Field) -> Control:
        return Control("Boolean", {})

    def size(self) -> int | None:
        return 2

    def draw(self, field: Field, stream: Stream) -> Array:
        return stream.integers(0, 1, unique=field.unique).astype(bool)

    def cases(self, field: Field) -> list[Case]:
        return [Case('"yes"', True, "yes"), Case('"perhaps"', False, "neither")]
