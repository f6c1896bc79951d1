"""Yes or no, and unknown where it may be empty."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from .base import Array, Case, Control, Declared, Kind, Stored, Stream, no_range, wants


@dataclass(frozen=True, eq=False)
class Boolean(Kind):
    word: ClassVar[str] = "boolean"
    annotation: ClassVar[str] = "bool"
    # A box that is not ticked says no.
    blank_is_empty: ClassVar[bool] = False
    filtered: ClassVar[str] = "Answer"
    controls: ClassVar[Mapping[str, str]] = {"select": "", "radio": ""}
    samples: ClassVar[frozenset[str]] = frozenset(("from", "weights", "uniform"))
    written: ClassVar[str] = "boolean"

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

    def control(self, field: Declared) -> Control:
        return Control("Boolean", {})

    def size(self) -> int | None:
        return 2

    def draw(self, field: Declared, stream: Stream) -> Array:
        return stream.integers(0, 1, unique=field.unique).astype(bool)

    def cases(self, field: Declared) -> list[Case]:
        return [Case('"yes"', True, "yes"), Case('"perhaps"', False, "neither")]
