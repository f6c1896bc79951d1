"""E-mail addresses, in the form that HTML's own check takes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from .base import Array, Case, Control, Kind, Stored, Stream, no_range, wants
from .literals import quote

if TYPE_CHECKING:
    from ..schema.model import Field

_LONGEST = 254
"""RFC 5321, section 4.5.3.1.3: a path of 256 octets less its brackets."""


@dataclass(frozen=True, eq=False)
class Email(Kind):
    word: ClassVar[str] = "email"
    annotation: ClassVar[str] = "str"

    @classmethod
    def read(cls, node: Type, report: Report) -> Email | None:
        no_range(node, report)
        return cls()

    def stored(self) -> Stored:
        return Stored(f"text {_LONGEST}", length=f"3..{_LONGEST}")

    def column(self) -> str:
        return f"sa.String({_LONGEST})"

    def default(self, given: Bound, report: Report) -> str | None:
        literal = wants(given, ("string",), "text", report)
        if literal is not None and literal.text.count("@") != 1:
            report.add(
                "wrong-value",
                f"{literal.span.text} is no e-mail address",
                literal.span,
                'write "name@example.org"',
            )
            return None
        return None if literal is None else literal.text

    def source(self, value: object) -> str:
        return quote(str(value))

    def control(self, field: Field) -> Control:
        return Control("Email", {})

    def draw(self, field: Field, stream: Stream) -> Array:
        return stream.emails(field, _LONGEST)

    def cases(self, field: Field) -> list[Case]:
        return [
            Case('"a@example.org"', True, "an address"),
            Case('"nobody"', False, "no @"),
            Case('"a@b@example.org"', False, "two @"),
            Case('"a b@example.org"', False, "a space"),
        ]
