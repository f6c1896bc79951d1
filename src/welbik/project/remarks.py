"""What is no problem of the declarations, and worth a word."""

from __future__ import annotations

from pathlib import Path

from ..language.diagnostics import Edit, Problem
from ..language.source import Span
from ..problems import WelbikError
from ..schema.model import Schema
from .mending import apply_edits
from .writing import write_all


def remarks(root: Path, schema: Schema) -> list[Problem]:
    """Each `was` that has done its work: the migrations that there are lead to what is declared."""
    if not _says_was(schema):
        return []
    # What reads migrations is not needed by most who check.
    from .database import declared_change

    try:
        change = declared_change(root, schema)
    except WelbikError:
        return []
    if change.difference or not change.existing:
        return []
    found = [
        _spent(field.was_span, field.was_span)
        for shape in schema.parts.values()
        for field in shape.fields
        if field.was_span is not None
    ]
    for model in schema:
        if model.was_span is not None:
            found.append(_spent(_line_of(model.was_span), model.was_span))
        for member in (*model.members, *model.many):
            if member.was_span is not None:
                found.append(_spent(member.was_span, member.was_span))
    return found


def _says_was(schema: Schema) -> bool:
    if any(field.was_span for shape in schema.parts.values() for field in shape.fields):
        return True
    return any(
        model.was_span or any(m.was_span for m in (*model.members, *model.many)) for model in schema
    )


def _spent(gone: Span, span: Span) -> Problem:
    said = span.text.lstrip(", ")
    said = said if said.startswith("was") else f"was {said}"
    message = f"{said!r} has done its work: a migration says it"
    return Problem("spent", message, span, "take it out: welbik check --fix", (), (Edit(gone, ""),))


def _line_of(span: Span) -> Span:
    """The whole line that a place is in, with its end."""
    text = span.source.text
    start = text.rfind("\n", 0, span.start) + 1
    end = text.find("\n", span.end) + 1
    return span._replace(start=start, end=end or len(text))


def take_out(root: Path, some: list[Problem]) -> None:
    """Takes out what remarks say has done its work, all of it or nothing."""
    if some:
        write_all(root, apply_edits(some))
