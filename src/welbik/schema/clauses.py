"""How rows are shown: `shown as`, `list` and `sort`, and what holds where nothing is said."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from ..language import syntax
from ..language.diagnostics import Report
from ..language.source import Span
from ..problems import did_you_mean, nearest
from .model import AnyMember, Collection, Computed, Field, Many, Piece, Reference, Sort

_HOLE = re.compile(r"\{([^{}]*)\}")
_TELLING = ("name", "title", "label", "code", "mark", "subject", "number")
_MOST_COLUMNS = 6
_MOST_SEARCHED = 4
_MOST_FILTERS = 6


class ModelNames(NamedTuple):
    """What a model's members are called, before any of them is resolved.

    `columns` can be shown, sorted and searched, `many` can only be filtered by; `unread`
    could not be read.
    """

    columns: tuple[str, ...]
    references: Mapping[str, str]
    unread: frozenset[str]
    many: tuple[str, ...] = ()
    several: frozenset[str] = frozenset()
    """What leads to many rows."""

    @classmethod
    def of(cls, node: syntax.Model) -> ModelNames:
        columns = [
            m.name.text for m in node.members if isinstance(m, syntax.Field | syntax.Reference)
        ]
        references = {
            m.name.text: m.target.text for m in node.members if isinstance(m, syntax.Reference)
        }
        unread = {m.name.text for m in node.members if isinstance(m, syntax.Unread)}
        many = tuple(m.name.text for m in node.members if isinstance(m, syntax.Many))
        sides = {m.name.text for m in node.members if isinstance(m, syntax.Collection)}
        return cls(tuple(columns), references, frozenset(unread), many, frozenset({*many, *sides}))

    def knows(self, word: syntax.Word, model: str, report: Report) -> bool:
        """Whether a word names a column; if not, why, unless that is reported elsewhere."""
        if word.text in self.unread:
            return False
        if word.text in self.columns:
            return True
        if word.text in self.several:
            report.add(
                "unknown-field",
                f"{word.text!r} leads to many rows of {model}, and one value is wanted here",
                word.span,
                "declare what is wanted of them: a computed field, such as count(…) or max(…)",
            )
            return False
        report.add(
            "unknown-field",
            f"{model} has no field {word.text!r}",
            word.span,
            did_you_mean(word.text, self.columns),
            fix=nearest(word.text, self.columns),
        )
        return False


class Paths:
    """Looks up paths of names from a model on, across relations."""

    def __init__(self, known: Mapping[str, ModelNames], report: Report) -> None:
        self.known = known
        self.report = report

    def knows(self, word: syntax.Word, model: str) -> bool:
        """Whether a path leads to a column; if not, that is reported."""
        start = word.span.start
        *before, last = word.text.split(".")
        for name in before:
            names = self.known[model]
            piece = syntax.Word(name, word.span._replace(start=start, end=start + len(name)))
            start += len(name) + 1
            if name in names.unread:
                return False
            if name not in names.references:
                if names.knows(piece, model, self.report):
                    self.report.add(
                        "bad-path",
                        f"{name!r} leads to no other row",
                        piece.span,
                        "a path follows relations: apiary.name",
                    )
                return False
            model = names.references[name]
            if model not in self.known:
                return False
        piece = syntax.Word(last, word.span._replace(start=start, end=word.span.end))
        return self.known[model].knows(piece, model, self.report)


def resolve_sort(
    keys: Sequence[syntax.SortKey] | None, model: str, paths: Paths
) -> tuple[Sort, ...]:
    return tuple(
        Sort(key.path.text, key.descending) for key in keys or () if paths.knows(key.path, model)
    )


def resolve_paths(
    words: Sequence[syntax.Word] | None,
    model: str,
    paths: Paths,
    report: Report,
    *,
    many: bool = False,
) -> tuple[str, ...]:
    """The paths that lead somewhere, each once; to a relation to `many` only where it may."""
    found: list[str] = []
    for word in words or ():
        if word.text in found:
            report.add(
                "said-twice", f"{word.text!r} is listed twice", word.span, "keep one of the two"
            )
        elif (many and word.text in paths.known[model].many) or paths.knows(word, model):
            found.append(word.text)
    return tuple(found)


def default_columns(members: Sequence[AnyMember]) -> tuple[str, ...]:
    """The first few short ones."""
    shown = [m for m in members if isinstance(m, Field | Reference | Computed)]
    public = [m for m in shown if not (isinstance(m, Field) and m.internal)] or shown
    short = [m.name for m in public if not _is_long(m)]
    return tuple((short or [m.name for m in public])[:_MOST_COLUMNS])


def default_search(members: Sequence[AnyMember]) -> tuple[str, ...]:
    """The short texts that people would type a part of."""
    texts = [m for m in members if isinstance(m, Field) and _is_words(m)]
    return tuple(m.name for m in texts if not m.internal)[:_MOST_SEARCHED]


def _is_words(field: Field) -> bool:
    return field.kind.plain_text and not field.kind.long


def default_filters(members: Sequence[AnyMember], columns: Sequence[str]) -> tuple[str, ...]:
    """What is listed and has choices, a range, or a row behind it; texts are searched instead."""
    found = []
    for member in members:
        if member.name not in columns or isinstance(member, Computed | Many | Collection):
            continue
        if isinstance(member, Field) and (_is_words(member) or _is_long(member) or member.unique):
            continue
        found.append(member.name)
    return tuple(found[:_MOST_FILTERS])


def _is_long(member: AnyMember) -> bool:
    return isinstance(member, Field) and member.kind.long


def resolve_shown_as(
    node: syntax.Model,
    members: Sequence[AnyMember],
    own: ModelNames,
    singular: str,
    report: Report,
) -> tuple[Piece, ...]:
    """The pieces of `shown as`, or of what a reader would take for the row's name."""
    if node.shown_as is None:
        return _default_shown_as(members, singular)
    text, span = node.shown_as.text, node.shown_as.span
    parts: list[Piece] = []
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
        elif own.knows(word, node.name.text, report):
            parts.append(Piece(word.text, True))
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


def _plain(text: str, span: Span, parts: list[Piece], report: Report) -> None:
    if "{" in text or "}" in text:
        report.add("bad-shown-as", "a brace has no partner", span, 'write: shown as "{name}"')
    elif text:
        parts.append(Piece(text, False))


def _default_shown_as(members: Sequence[AnyMember], singular: str) -> tuple[Piece, ...]:
    fields = [m for m in members if isinstance(m, Field)]
    short = [f for f in fields if _is_words(f) and not f.internal]
    for wanted in _TELLING:
        for field in short:
            if field.name == wanted or field.name.endswith("_" + wanted):
                return (Piece(field.name, True),)
    best = [f for f in short if f.required and f.unique] + [f for f in short if f.required] + short
    if best:
        return (Piece(best[0].name, True),)
    # No text of its own: what it belongs to and when tells rows apart.
    names = [m.name for m in members if isinstance(m, Reference) and m.required][:1]
    names += [f.name for f in fields if f.kind.names_rows][:1]
    names += [f.name for f in fields if f.name not in names and not _is_long(f) and not f.internal]
    parts: list[Piece] = []
    for name in names[:2]:
        parts += [Piece(" · ", False)] if parts else []
        parts.append(Piece(name, True))
    # Nothing but optional relations: only its number is left.
    return tuple(parts) or (Piece(f"{singular} ", False), Piece("id", True))
