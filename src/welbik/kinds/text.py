"""Text, short or long."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Type
from .base import Array, Case, Control, Declared, Kind, Stored, Stream, wants
from .bounds import Bounds, read_bounds
from .literals import quote

_ONE_LINE = 255
POOLS = ("person", "given_name", "family_name", "town", "street", "company")
"""Lists of names that texts may be taken from."""
_LONGEST = 10_000_000


def _length(given: Bound, report: Report) -> int | None:
    literal = wants(given, ("number",), "whole number", report)
    if literal is None:
        return None
    if not literal.text.isdigit() or not int(literal.text):
        report.add(
            "bad-length",
            f"{literal.span.text} is no length",
            literal.span,
            "a length is a whole number from 1",
        )
        return None
    if int(literal.text) > _LONGEST:
        report.add(
            "bad-length",
            f"{literal.span.text} characters are too many",
            literal.span,
            f"a text has at most {_LONGEST:_}; leave the bound out, or keep it in a file",
        )
        return None
    return int(literal.text)


# As the forms have it: controls, and what ends a line where there is only one.
_NOT_ON_A_LINE = re.compile("[\x00-\x1f\x7f-\x9f\u2028\u2029]")
_NOT_IN_LINES = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f]")


@dataclass(frozen=True, eq=False)
class Text(Kind):
    word: ClassVar[str] = "text"
    annotation: ClassVar[str] = "str"
    textual: ClassVar[bool] = True
    controls: ClassVar[Mapping[str, str]] = {"area": "LongText", "text": "Text"}
    samples: ClassVar[frozenset[str]] = frozenset(("from", "uniform", "words", "sentences", *POOLS))
    shortest: int = 1
    longest: int | None = None

    @classmethod
    def read(cls, node: Type, report: Report) -> Text | None:
        bounds: Bounds[int] | None = read_bounds(node, report, _length)
        return None if bounds is None else cls(bounds.low or 1, bounds.high)

    @property
    def one_line(self) -> bool:
        return self.longest is not None and self.longest <= _ONE_LINE

    @property
    def long(self) -> bool:
        return not self.one_line

    def stored(self) -> Stored:
        length = f"{self.shortest}..{'' if self.longest is None else self.longest}"
        return Stored(f"text {self.longest}" if self.one_line else "text", length=length)

    def default(self, given: Bound, report: Report) -> str | None:
        literal = wants(given, ("string",), "text", report)
        if literal is None:
            return None
        if not self.shortest <= len(literal.text) <= (self.longest or len(literal.text)):
            report.add(
                "wrong-value",
                f"this text has {len(literal.text)} characters, outside {self._lengths}",
                literal.span,
                "change the text or the length",
            )
            return None
        if (_NOT_ON_A_LINE if self.one_line else _NOT_IN_LINES).search(literal.text):
            report.add(
                "wrong-value",
                "this text holds a character that no form takes",
                literal.span,
                "take it out" + (", or make the text one of several lines" * self.one_line),
            )
            return None
        return literal.text

    @property
    def _lengths(self) -> str:
        return f"{self.shortest}..{'' if self.longest is None else self.longest}"

    def source(self, value: object) -> str:
        return quote(str(value))

    def control(self, field: Declared) -> Control:
        arguments = {}
        if self.shortest > 1:
            arguments["shortest"] = str(self.shortest)
        if self.longest is not None:
            arguments["longest"] = str(self.longest)
        return Control("Text" if self.one_line else "LongText", arguments)

    def draw(self, field: Declared, stream: Stream) -> Array:
        return stream.texts(self.shortest, self.longest)

    def cases(self, field: Declared) -> list[Case]:
        if field.pattern is not None:
            return _pattern_cases(field, self.shortest, self.longest)
        found = []
        if self.shortest > 1:
            found += [
                _of_length(self.shortest, True, "shortest"),
                _of_length(self.shortest - 1, False, "too short"),
            ]
        if self.longest is not None:
            found += [
                _of_length(self.longest, True, "longest"),
                _of_length(self.longest + 1, False, "too long"),
            ]
        return found

    def describe(self) -> str:
        if self.shortest > 1:
            return f"text {self._lengths}"
        return "text" if self.longest is None else f"text {self.longest}"


def _of_length(length: int, accepted: bool, why: str) -> Case:
    return Case(f'"b" * {length}', accepted, why)


def _pattern_cases(field: Declared, shortest: int, longest: int | None) -> list[Case]:
    from ..rules.strings import Strings

    assert field.pattern is not None
    strings = Strings(field.pattern, shortest, longest)
    first, last = strings.text(0), strings.text(strings.size - 1)
    # Of a length that is allowed, so that nothing but its form is wrong with it.
    tried = ("~" * len(first), f"{first[:-1]}~", f"{first[:-1]}\u00e9", f"{first}~")
    outside = next((s for s in tried if not strings.matches(s)), None)
    found = [Case(quote(first), True, "first that matches")]
    if last != first:
        found.append(Case(quote(last), True, "last that matches"))
    if outside:
        found.append(Case(quote(outside), False, "no match"))
    return found
