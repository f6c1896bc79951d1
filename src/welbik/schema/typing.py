"""Typing expressions: what every part of it needs, names and paths."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence

from ..language import syntax
from ..language.diagnostics import Report
from ..language.source import Span
from ..problems import did_you_mean, nearest
from ..rules.tree import Node, Step
from .coercion import describe
from .entries import REMOVED, Entry, Scope

_ELSEWHERE = {"true": "yes", "false": "no", "null": "is empty"}
"""What other languages call it, and what this one does."""


class Wrong(Exception):
    """An expression that makes no sense; the problem is already reported."""


class Typing(ABC):
    """Types expressions over rows of the models of a scope; problems are reported."""

    def __init__(self, scope: Scope, report: Report) -> None:
        self.scope = scope
        self.report = report

    changes_rows = False
    """Whether it is what stored rows get, and no rule or formula."""

    def wrong(
        self, code: str, message: str, span: Span, remedy: str, fix: str | None = None
    ) -> Wrong:
        self.report.add(code, message, span, remedy, fix=fix)
        return Wrong()

    @abstractmethod
    def node(self, written: syntax.Expression, model: str) -> Node:
        """The typed expression; raises Wrong, the problem reported, where it makes no sense."""

    def truth(self, written: syntax.Expression, model: str) -> Node:
        node = self.node(written, model)
        if node.type.name != "boolean":
            raise self.wrong(
                "no-condition",
                f"this gives {describe(node.type)}, and is neither true nor false",
                written.span,
                "compare it with something: frames > 8",
            )
        return node

    def entry(self, word: syntax.Word, model: str) -> Entry:
        entry = self.scope[model].get(word.text)
        if entry is None or entry.what == "removal":
            known = [name for name in self.scope[model] if name != REMOVED]
            meant = _ELSEWHERE.get(word.text)
            raise self.wrong(
                "unknown-field",
                f"{model} has no field {word.text!r}",
                word.span,
                f"write: {meant}" if meant else did_you_mean(word.text, known),
                # A value takes the place of a word; `is empty` that of the sign before it too.
                None if word.text == "null" else meant or nearest(word.text, known),
            )
        if entry.what == "unread":
            raise Wrong
        return entry

    def steps(self, words: Sequence[syntax.Word], model: str) -> tuple[tuple[Step, ...], str]:
        """The references that some words follow, and the model they lead to."""
        steps: list[Step] = []
        for word in words:
            entry = self.entry(word, model)
            if entry.what != "reference":
                many = entry.what in ("collection", "many")
                raise self.wrong(
                    "bad-path",
                    f"{word.text!r} leads to no single row",
                    word.span,
                    f"say which: count({word.text}), or sum, avg, min, max of a field"
                    if many
                    else "a path follows relations: hive.apiary.keeper",
                )
            steps.append(Step(model, word.text, entry.target, entry.required))
            model = entry.target
        return tuple(steps), model
