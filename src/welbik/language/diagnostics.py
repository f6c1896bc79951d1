"""Problems found in declarations, and their plain-text form."""

from __future__ import annotations

import unicodedata
from collections.abc import Callable
from typing import NamedTuple

from .source import Span

Paint = Callable[[str, str], str]
"""Takes a role ("problem", "place", "caret", "remedy") and a text; gives the text dressed."""


class Edit(NamedTuple):
    """What stands at a place, and what to put there instead."""

    span: Span
    text: str


class Problem(NamedTuple):
    """One thing wrong in the declarations.

    `code` is stable, `message` says what is wrong in one sentence, `remedy` what
    to do, `related` names other places that belong to it, and `edits` mend it where
    the mend is mechanical.
    """

    code: str
    message: str
    span: Span
    remedy: str = ""
    related: tuple[tuple[str, Span], ...] = ()
    edits: tuple[Edit, ...] = ()

    @property
    def order(self) -> tuple[str, int]:
        return self.span.source.name, self.span.start


class Report:
    """Collects problems while a file is read; asked for them once, sorted."""

    def __init__(self) -> None:
        self._problems: list[Problem] = []

    def add(
        self,
        code: str,
        message: str,
        span: Span,
        remedy: str = "",
        related: tuple[tuple[str, Span], ...] = (),
        *,
        fix: str | None = None,
        fix_from: int | None = None,
    ) -> None:
        """`fix` is what to put in place of `span`, or of all from `fix_from` to its end."""
        edits: tuple[Edit, ...] = ()
        if fix is not None:
            place = span if fix_from is None else span._replace(start=fix_from)
            edits = (Edit(place, fix),)
        self._problems.append(Problem(code, message, span, remedy, related, edits))

    def problems(self) -> list[Problem]:
        return sorted(self._problems, key=lambda problem: problem.order)


def where(span: Span) -> str:
    """`file:line:column`, as editors and terminals understand it."""
    line, column = span.place
    return f"{span.source.name}:{line}:{column}"


def width(text: str) -> int:
    """Columns that a terminal, or a formatter, gives to a text: wide characters take two, marks none."""
    if text.isascii():
        return len(text)
    wide = sum(unicodedata.east_asian_width(c) in "WF" for c in text)
    marks = sum(unicodedata.category(c) in ("Mn", "Me", "Cf") for c in text)
    return len(text) + wide - marks


# Besides tabs and lines what joins letters of some scripts, and emoji.
_SHAPING = "\t\n\u200c\u200d"


def visible(text: str) -> str:
    """A text as a terminal may have it: nothing in it moves about, hides or turns the line round."""
    return "".join(
        c if c.isprintable() or c in _SHAPING else "\N{REPLACEMENT CHARACTER}" for c in text
    )


def _excerpt(span: Span, paint: Paint) -> list[str]:
    line, column = span.place
    source = visible(span.source.line(line))
    before = source[: column - 1]
    # Tabs are kept, so that the caret stands where the terminal puts the text.
    pad = "".join("\t" if c == "\t" else " " * width(c) for c in before)
    marked = source[column - 1 : column - 1 + max(1, span.end - span.start)]
    carets = "^" * max(1, width(marked))
    number = f"{line:>5}"
    return [
        f"{paint('place', number + ' |')} {source}",
        f"{paint('place', '      |')} {pad}{paint('caret', carets)}",
    ]


def as_text(problem: Problem, paint: Paint = lambda role, text: text) -> str:
    """A problem as a few lines: place and message, source line, caret, remedy."""
    head = (
        f"{paint('place', where(problem.span) + ':')} {paint('problem', visible(problem.message))}"
    )
    lines = [head, *_excerpt(problem.span, paint)]
    if problem.remedy:
        lines.append(f"        {paint('remedy', visible(problem.remedy))}")
    for words, span in problem.related:
        lines.append(f"        {paint('place', where(span) + ':')} {words}")
    return "\n".join(lines)
