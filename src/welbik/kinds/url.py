"""Web addresses."""

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

_LONGEST = 2000
_FORM = re.compile(r"https?://[^\s/?#]+\S*", re.IGNORECASE)


@dataclass(frozen=True, eq=False)
class Url(Kind):
    word: ClassVar[str] = "url"
    annotation: ClassVar[str] = "str"

    @classmethod
    def read(cls, node: Type, report: Report) -> Url | None:
        no_range(node, report)
        return cls()

    def stored(self) -> Stored:
        return Stored(f"text {_LONGEST}", length=f"1..{_LONGEST}")

    def column(self) -> str:
        return f"sa.String({_LONGEST})"

    def default(self, given: Bound, report: Report) -> str | None:
        literal = wants(given, ("string",), "text", report)
        if literal is not None and not _FORM.fullmatch(literal.text):
            report.add(
                "wrong-value",
                f"{literal.span.text} is no web address",
                literal.span,
                'write "https://example.org"',
            )
            return None
        return None if literal is None else literal.text

    def source(self, value: object) -> str:
        return quote(str(value))

    def control(self, field: Field) -> Control:
        return Control("Url", {})

    def draw(self, field: Field, stream: Stream) -> Array:
        return stream.addresses(field)

    def cases(self, field: Field) -> list[Case]:
        return [
            Case('"https://example.org/hives?x=1"', True, "an address"),
            Case('"example.org"', False, "no scheme"),
            Case('"javascript:alert(1)"', False, "no web page"),
            Case('"https:// example.org"', False, "a space"),
        ]
