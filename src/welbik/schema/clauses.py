"""How rows are shown: `shown as`, `list` and `sort`, and what holds where nothing is said."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from ..kinds.text import Text
from ..language import syntax
from ..language.diagnostics import Report
from ..language.source import Span
from ..problems import did_you_mean
from .model import Field, Part, Reference, Sort

_HOLE = re.compile(r"\{([^{}]*)\}")
_TELLING = ("name", "title", "label", "code", "mark", "subject", "number")
_MOST_COLUMNS = 6


class ModelNames(NamedTuple):
    """What a model's members are called, before any of them is resolved."""

    columns: tuple[str, ...]
    references: Mapping[str, str]
    later: frozenset[str]

    @classmethod
    def of(cls, node: syntax.Model) -> ModelNames:
        columns = [
            m.name.text for m in node.members if isinstance(m, syntax.Field | syntax.Reference)
        ]
        references = {
            m.name.text: m.target.text for m in node.members if isinstance(m, syntax.Reference)
        }
        later = {m.name.text for m in node.members if isinstance(m, syntax.Later)}
        return cls(tuple(columns), references, frozenset(later))

    def knows(self, word: syntax.Word, model: str, report: Report) -> bool:
        """Whether a path names a column; if not, why, unless that is reported elsewhere."""
        head, dot, _ = word.text.partition(".")
        if head in self.later:
            return False
        if dot and head in self.references:
            report.add(
                "not-yet",
                "paths across relations are not supported yet",
                word.span,
                f"name {head} itself: its rows are shown by name",
            )
            return False
        if word.text in self.columns:
            return True
        remedy = did_you_mean(word.text, self.columns)
        report.add("unknown-field", f"{model} has no field {word.text!r}", word.span, remedy)
        return False


def resolve_sort(
    keys: Sequence[syntax.SortKey] | None,
    own: ModelNames,
    report: Report,
    model: str = "this model",
) -> tuple[Sort, ...]:
    return tuple(
        Sort(key.path.text, key.descending)
        for key in keys or ()
        if own.knows(key.path, model, report)
    )


def resolve_columns(
    node: syntax.Model, members: Sequence[Field | Reference], own: ModelNames, report: Report
) -> tuple[str, ...]:
    """The columns of the list page: as declared, or the first few short ones."""
    if node.columns is None:
        short = [m.name for m in members if not _is_long(m)]
        return tuple((short or [m.name for m in members])[:_MOST_COLUMNS])
    resolved = {m.name for m in members}
    found: list[str] = []
    for word in node.columns:
        if word.text in found:
            report.add(
                "said-twice", f"{word.text!r} is listed twice", word.span, "keep one of the two"
            )
        elif own.knows(word, "this model", report) and word.text in resolved:
            found.append(word.text)
    return tuple(found)


def _is_long(member: Field | Reference) -> bool:
    return isinstance(member, Field) and isinstance(member.kind, Text) and not member.kind.one_line


def resolve_shown_as(
    node: syntax.Model,
    members: Sequence[Field | Reference],
    own: ModelNames,
    singular: str,
    report: Report,
) -> tuple[Part, ...]:
    """The pieces of `shown as`, or of what a reader would take for the row's name."""
    if node.shown_as is None:
        return _default_shown_as(members, singular)
    text, span = node.shown_as.text, node.shown_as.span
    parts: list[Part] = []
    end = 0
    for match in _HOLE.finditer(text):
        _plain(text[end : match.start()], span, parts, report)
        hole = Span(span.source, span.start + 1 + match.start(1), span.start + 1 + match.end(1))
        word = syntax.Word(match.group(1), hole)
        if not word.text:
            report.add(
                "bad-shown-as",
                "there is no field between these braces",
                span,
                'write: shown as "{name}"',
            )
        elif own.knows(word, "this model", report):
            parts.append(Part(word.text, True))
        end = match.end()
    _plain(text[end:], span, parts, report)
    if not any(part.is_field for part in parts) and not re.search(r"[{}]", text):
        report.add(
            "bad-shown-as",
            "every row would be shown alike",
            span,
            'name a field between braces: "{name}"',
        )
    return tuple(parts)


def _plain(text: str, span: Span, parts: list[Part], report: Report) -> None:
    if "{" in text or "}" in text:
        report.add("bad-shown-as", "a brace has no partner", span, 'write: shown as "{name}"')
    elif text:
        parts.append(Part(text, False))


def _default_shown_as(members: Sequence[Field | Reference], singular: str) -> tuple[Part, ...]:
    fields = [m for m in members if isinstance(m, Field)]
    short = [
        f for f in fields if f.kind.annotation == "str" and not _is_long(f) and not f.kind.labels()
    ]
    for wanted in _TELLING:
        for field in short:
            if field.name == wanted or field.name.endswith("_" + wanted):
                return (Part(field.name, True),)
    best = [f for f in short if f.required and f.unique] + [f for f in short if f.required] + short
    if best:
        return (Part(best[0].name, True),)
    # No text of its own: what it belongs to and when tells rows apart.
    names = [m.name for m in members if isinstance(m, Reference) and m.required][:1]
    names += [f.name for f in fields if f.kind.word in ("date", "datetime")][:1]
    names += [f.name for f in fields if f.name not in names and not _is_long(f)]
    parts: list[Part] = []
    for name in names[:2]:
        parts += [Part(" · ", False)] if parts else []
        parts.append(Part(name, True))
    # Nothing but optional relations: only its number is left.
    return tuple(parts) or (Part(f"{singular} ", False), Part("id", True))
