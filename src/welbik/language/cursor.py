"""Walking along the tokens of one logical line."""

from __future__ import annotations

from .diagnostics import Report
from .lexer import Line, Token, unquote
from .source import Source, Span
from .syntax import Bound, Clock, Literal, Word
from .words import LENGTHS


class Skip(Exception):
    """The rest of a line or of a modifier can't be read; the problem is already reported."""


class Cursor:
    """A position in a line's tokens; the last token, of kind `end`, is empty."""

    def __init__(self, line: Line, report: Report) -> None:
        self.source: Source = line.source
        self.report = report
        self.tokens = line.tokens(report)
        end = self.tokens[-1].end if self.tokens else line.start
        self.tokens.append(Token("end", "", end, end))
        self.at = 0

    @property
    def now(self) -> Token:
        return self.tokens[self.at]

    def ahead(self, steps: int = 1) -> Token:
        return self.tokens[min(self.at + steps, len(self.tokens) - 1)]

    def step(self) -> Token:
        token = self.tokens[self.at]
        if token.kind != "end":
            self.at += 1
        return token

    def take(self, text: str) -> Token | None:
        """The token if it reads `text` (and is no quoted text), else nothing."""
        token = self.now
        return self.step() if token.text == text and token.kind != "string" else None

    def span(self, token: Token) -> Span:
        return Span(self.source, token.start, token.end)

    def since(self, token: Token) -> Span:
        last = self.tokens[max(self.at - 1, 0)]
        return Span(self.source, token.start, max(last.end, token.end))

    def fail(
        self,
        code: str,
        message: str,
        remedy: str = "",
        span: Span | None = None,
        fix: str | None = None,
    ) -> Skip:
        self.report.add(code, message, span or self.span(self.now), remedy, fix=fix)
        return Skip()

    def expect(self, text: str, remedy: str) -> Token:
        token = self.take(text)
        if token is None:
            raise self.fail("unexpected", f"expected {text!r}, found {self.found}", remedy)
        return token

    @property
    def found(self) -> str:
        token = self.now
        return "the end of the line" if token.kind == "end" else f"{token.text!r}"

    def word(self, what: str, remedy: str = "") -> Word:
        token = self.now
        if token.kind != "word":
            raise self.fail("unexpected", f"expected {what}, found {self.found}", remedy)
        self.step()
        return Word(token.text, self.span(token))

    def string(self, what: str) -> Word:
        token = self.now
        if token.kind != "string":
            remedy = 'put it between double quotes: "…"'
            raise self.fail("unexpected", f"expected {what}, found {self.found}", remedy)
        self.step()
        return Word(unquote(token, self.source, self.report), self.span(token))

    def optional_string(self) -> Word | None:
        return self.string("a text") if self.now.kind == "string" else None

    def path(self) -> Word:
        """Names joined by dots, as one word."""
        first = self.now
        self.word("a field's name")
        while self.now.text == "." and self.ahead().kind == "word":
            self.step()
            self.step()
        span = self.since(first)
        return Word(span.text, span)

    def to_comma(self) -> None:
        """Moves to the next comma outside brackets, or to the end."""
        depth = 0
        while self.now.kind != "end":
            text = self.now.text if self.now.kind == "op" else ""
            if text == "," and depth == 0:
                return
            depth = max(0, depth + (text == "(") - (text == ")"))
            self.step()

    @property
    def at_literal(self) -> bool:
        token = self.now
        if token.text in ("-", "+"):
            return self.ahead().kind == "number"
        return token.kind in ("number", "date", "datetime", "time")

    def literal(self, what: str) -> Literal:
        """A number (signed, or with a unit of time), date, time, text, `yes`/`no`, or a plain word."""
        first = self.step()
        kind, text = first.kind, first.text
        if text in ("-", "+") and self.now.kind == "number":
            kind, text = "number", text.replace("+", "") + self.step().text
        elif kind == "string":
            text = unquote(first, self.source, self.report)
        elif kind == "word":
            kind = "boolean" if text in ("yes", "no") else "word"
        elif kind not in ("number", "date", "datetime", "time"):
            found = "the end of the line" if kind == "end" else repr(text)
            raise self.fail("unexpected", f"expected {what}, found {found}", "", self.span(first))
        if (
            kind == "number"
            and self.now.text == "%"
            and self.now.start == self.tokens[self.at - 1].end
        ):
            self.step()
            kind = "percent"
        if kind == "number":
            text = text.replace("_", "")
            if self.now.kind == "word" and self.now.text in LENGTHS:
                kind, text = "length", f"{text} {self.step().text}"
        return Literal(kind, text, self.since(first))

    def bound(self, what: str) -> Bound:
        """A literal, or `today`/`now` with a shift."""
        first = self.now
        if first.text not in ("today", "now") or first.kind != "word":
            return self.literal(what)
        self.step()
        amount, unit = 0, "days"
        if self.now.text in ("+", "-"):
            sign = -1 if self.step().text == "-" else 1
            number = self.literal("a number of days")
            if number.kind != "number" or not number.text.isdigit():
                raise self.fail(
                    "unexpected",
                    "expected a whole number of days",
                    "write: today - 30 days",
                    number.span,
                )
            amount = sign * int(number.text)
            unit = self.word("a unit, such as days", "write: today - 30 days").text
        return Clock(first.text, amount, unit, self.since(first))
