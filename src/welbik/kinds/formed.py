"""What texts of a fixed form have alike: e-mail and web addresses, telephone numbers."""

from __future__ import annotations

import re
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from .base import Kind, Stored, no_range, wants
from .literals import quote


class Formed(Kind):
    """A text of one line that must have a form of its own."""

    annotation: ClassVar[str] = "str"
    shortest: ClassVar[int] = 1
    longest: ClassVar[int]
    form: ClassVar[re.Pattern[str]]
    called: ClassVar[str]
    example: ClassVar[str]

    @classmethod
    def read(cls, node: Type, report: Report) -> Formed | None:
        no_range(node, report)
        return cls()

    def stored(self) -> Stored:
        return Stored(f"text {self.longest}", length=f"{self.shortest}..{self.longest}")

    def default(self, given: Bound, report: Report) -> str | None:
        literal = wants(given, ("string",), "text", report)
        if literal is not None and not self.form.fullmatch(literal.text):
            report.add(
                "wrong-value",
                f"{literal.span.text} is no {self.called}",
                literal.span,
                f'write "{self.example}"',
            )
            return None
        return None if literal is None else literal.text

    def source(self, value: object) -> str:
        return quote(str(value))
