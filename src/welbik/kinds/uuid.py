"""Identifiers of RFC 9562, made when the row is."""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from ..rules.brought import use
from .base import Array, Case, Control, Declared, Kind, Stored, Stream, no_range, wants


@dataclass(frozen=True, eq=False)
class Uuid(Kind):
    word: ClassVar[str] = "uuid"
    annotation: ClassVar[str] = use.UUID
    internal: ClassVar[bool] = True
    self_made: ClassVar[bool] = True
    schema_format: ClassVar[str] = "uuid"
    often_empty: ClassVar[float] = 0.0

    @classmethod
    def read(cls, node: Type, report: Report) -> Uuid | None:
        no_range(node, report)
        return cls()

    def stored(self) -> Stored:
        return Stored("uuid")

    def made(self) -> str:
        return use.uuid4

    def default(self, given: Bound, report: Report) -> uuid.UUID | None:
        literal = wants(given, ("string",), "text", report)
        try:
            return None if literal is None else uuid.UUID(literal.text)
        except ValueError:
            report.add(
                "wrong-value",
                f"{given.span.text} is no UUID",
                given.span,
                "leave the default out: one is made for each row",
            )
            return None

    def source(self, value: object) -> str:
        return f'UUID("{value}")'

    def control(self, field: Declared) -> Control:
        return Control("Text", {"longest": "36"})

    def draw(self, field: Declared, stream: Stream) -> Array:
        return stream.identifiers()

    def cases(self, field: Declared) -> list[Case]:
        return []
