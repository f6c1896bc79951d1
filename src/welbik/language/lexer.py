"""Text to logical lines of tokens.

A statement starts at column 0, the members of its block are indented alike, and a
line indented deeper than its member continues it: so layout is settled here, and
the parser sees one list of tokens for each statement or member.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import NamedTuple

from .diagnostics import Report
from .source import Source, Span

_TOKEN = re.compile(
    r"""(?P<space>[ \t\r]+|\#[^\n]*)
      | (?P<word>[A-Za-z_][A-Za-z0-9_]*)
      | (?P<datetime>\d{4}-\d{2}-\d{2}T\d{2}:\d{2}(?::\d{2})?)
      | (?P<date>\d{4}-\d{2}-\d{2}(?!\d))
      | (?P<time>\d{1,6}:\d{2}(?::\d{2})?)
      | (?P<number>\d[\d_]*(?:\.(?=\d)[\d_]+)?)
      | (?P<string>"(?:[^"\\\n]|\\.)*")
      | (?P<open>"[^\n]*)
      | (?P<op><->|->|<-|\.\.|<=|>=|!=|\|\||[-+*/=<>.,:|()%])
      | (?P<stray>&&|.)
    """,
    re.VERBOSE,
)
_MOST_DIGITS = 60
_ESCAPE = re.compile(r"\\(.)")
_ESCAPES = {'"': '"', "\\": "\\", "n": "\n"}
_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\u2028\u2029]")


class Token(NamedTuple):
    """A piece of a line: its kind (word, number, date, string, op …) and its offsets."""

    kind: str
    text: str
    start: int
    end: int


@dataclass(slots=True)
class Line:
    """One statement (`member` false) or one member of the block above it."""

    source: Source
    member: bool
    start: int
    pieces: list[tuple[int, int]]
    """Offsets of the physical lines it is made of: tokens are cut only when asked for."""

    @property
    def span(self) -> Span:
        start, end = self.pieces[0]
        return Span(self.source, self.start, max(end, start))

    def tokens(self, report: Report) -> list[Token]:
        """The tokens of the line; what is none is reported and left out."""
        found: list[Token] = []
        for start, end in self.pieces:
            for match in _TOKEN.finditer(self.source.text, start, end):
                kind = match.lastgroup or "stray"
                if kind == "space":
                    continue
                if kind in ("open", "stray"):
                    self._complain(kind, match, report)
                    if kind == "stray":
                        continue
                    kind = "string"
                if kind == "number" and match.end() - match.start() > _MOST_DIGITS:
                    span = Span(self.source, match.start(), match.end())
                    said = f"a number has at most {_MOST_DIGITS} digits"
                    report.add("too-long-number", said, span, "write a smaller one")
                    found.append(Token(kind, "0", match.start(), match.end()))
                    continue
                found.append(Token(kind, match.group(), match.start(), match.end()))
        return found

    def _complain(self, kind: str, match: re.Match[str], report: Report) -> None:
        span = Span(self.source, match.start(), match.end())
        if kind == "open":
            report.add("open-text", "this text is not closed", span, 'end it with "')
        else:
            report.add(
                "stray-character",
                f"{match.group()!r} means nothing here",
                span,
                _MEANT.get(match.group(), "take it out, or put text between double quotes"),
            )


_MEANT = {
    "&&": "write: and",
    "&": "write: and",
    "!": "write: not",
    "[": "take it out; values stand in round brackets: in (low, high)",
    "]": "take it out; values stand in round brackets: in (low, high)",
}
"""What other languages mean by characters that mean nothing here."""


def unquote(token: Token, source: Source, report: Report) -> str:
    """The text that a string token stands for."""
    inner = token.text[1:-1] if len(token.text) > 1 and token.text[-1] == '"' else token.text[1:]

    def replace(match: re.Match[str]) -> str:
        if match.group(1) not in _ESCAPES:
            at = token.start + 1 + match.start()
            report.add(
                "unknown-escape",
                f"{match.group()} is no escape",
                Span(source, at, at + 2),
                r"known are \" for a quote, \\ for a backslash and \n for a new line",
            )
        return _ESCAPES.get(match.group(1), match.group(1))

    return _ESCAPE.sub(replace, inner) if "\\" in inner else inner


def _has_content(text: str) -> bool:
    stripped = text.strip()
    return bool(stripped) and not stripped.startswith("#")


class _Layout:
    """Sorts physical lines into statements, members and continuations."""

    def __init__(self, source: Source, report: Report) -> None:
        self.source = source
        self.report = report
        self.lines: list[Line] = []
        self.indent: str | None = None
        self.first_character: str | None = None

    def add(self, text: str, start: int) -> None:
        body = text.lstrip(" \t")
        space = text[: len(text) - len(body)]
        begin, end = start + len(space), start + len(text)
        if not space:
            self.indent = None
            self.lines.append(Line(self.source, False, begin, [(begin, end)]))
            return
        self._check_indent(space, start)
        if not self.lines:
            self._say(
                start, len(space), "nothing for this line to belong to", "start it at column 1"
            )
            self.lines.append(Line(self.source, False, begin, [(begin, end)]))
        elif self.indent is None or len(space) == len(self.indent):
            self.indent = space
            self.lines.append(Line(self.source, True, begin, [(begin, end)]))
        elif len(space) > len(self.indent):
            self.lines[-1].pieces.append((begin, end))
        else:
            wanted = len(self.indent)
            self._say(
                start,
                len(space),
                f"indented by {len(space)}, its block by {wanted}",
                "indent the members of a block alike",
            )
            self.lines.append(Line(self.source, True, begin, [(begin, end)]))

    def _check_indent(self, space: str, start: int) -> None:
        if self.first_character is None:
            self.first_character = space[0]
        wrong = next((at for at, c in enumerate(space) if c != self.first_character), None)
        if wrong is not None:
            kept = "spaces" if self.first_character == " " else "tabs"
            self.report.add(
                "mixed-indent",
                "tabs and spaces are mixed in the indentation",
                Span(self.source, start + wrong, start + wrong + 1),
                f"this file began with {kept}: keep to them",
            )
            self.first_character = space[wrong]
            self.indent = space

    def _say(self, start: int, width: int, message: str, remedy: str) -> None:
        self.report.add("uneven-indent", message, Span(self.source, start, start + width), remedy)


def lines(source: Source, report: Report) -> list[Line]:
    """The logical lines of a file, comments and empty lines left out."""
    for match in _CONTROL.finditer(source.text):
        span = Span(source, match.start(), match.end())
        code = ord(match.group())
        report.add(
            "control-character",
            f"a control character (U+{code:04X}) stands here",
            span,
            "take it out",
        )
    layout = _Layout(source, report)
    start = 0
    for text in source.text.split("\n"):
        if _has_content(text):
            layout.add(text.rstrip("\r"), start)
        start += len(text) + 1
    return layout.lines
