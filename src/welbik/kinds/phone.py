"""Telephone numbers, as people write them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from .base import Array, Case, Control, Kind, Stored, Stream, no_range, wants
from .literals import quote

if TYPE_CHECKING:
    from ..schema.model import Field

_LONGEST = 40
_FORM = re.compile(r"\+?[0-9(][0-9 ()./-]*( ?(x|ext\.?) ?[0-9]+)?")
"""Digits with what people put between them; ITU-T E.164 has 15 digits at most."""


@dataclass(frozen=True, eq=False)
class Phone(Kind):
    word: ClassVar[str] = "phone"
    annotation: ClassVar[str] = "str"

    @classmethod
    def read(cls, node: Type, report: Report) -> Phone | None:
        no_range(node, report)
        return cls()

    def stored(self) -> Stored:
        return Stored(f"text {_LONGEST}", length=f"3..{_LONGEST}")

    def column(self) -> str:
        return f"sa.String({_LONGEST})"

    def default(self, given: Bound, report: Report) -> str | None:
        literal = wants(given, ("string",), "text", report)
        if literal is not None and not _FORM.fullmatch(literal.text):
            report.add(
                "wrong-value",
                f"{literal.span.text} is no telephone number",
                literal.span,
                'write "+44 1632 960123"',
            )
            return None
        return None if literal is None else literal.text

    def source(self, value: object) -> str:
        return quote(str(value))

    def control(self, field: Field) -> Control:
        return Control("Phone", {})

    def draw(self, field: Field, stream: Stream) -> Array:
        return stream.phones(field)

    def cases(self, field: Field) -> list[Case]:
        return [
            Case('"+44 1632 960123"', True, "a number"),
            Case('"(01632) 960-124 ext. 7"', True, "with an extension"),
            Case('"call me"', False, "no digits"),
            Case('"12"', False, "too few digits"),
        ]
