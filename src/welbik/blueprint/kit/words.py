"""Searching: every word that is typed must stand in one of the columns."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from .columns import sql

_MOST = 8


def having(rows: sa.Select[Any], text: str, columns: Sequence[Any]) -> sa.Select[Any]:
    """Those rows in which each word of a text is found, whatever its case."""
    for word in text.split()[:_MOST]:
        rows = rows.where(sa.or_(*(holds(column, word) for column in columns)))
    return rows


def holds(column: Any, word: str) -> Any:
    """The condition that a word stands in a column, whatever the case of its letters."""
    if not isinstance(column.type, sa.String):
        column = sa.cast(column, sa.String())
    likes: Any = column.icontains(word, autoescape=True)
    if word.isascii():
        return likes
    # SQLite folds the case of A to Z alone: all forms of a letter are asked for there.
    return sql(
        "{0} GLOB {1}",
        column,
        sa.literal(f"*{''.join(map(_any_case, word))}*"),
        likes,
        type_=sa.Boolean(),
        other="{2}",
    )


def _any_case(letter: str) -> str:
    """A pattern of GLOB for all forms of a letter that are one letter each."""
    forms = {letter, letter.lower(), letter.upper(), letter.casefold(), letter.title()}
    forms |= {form for one in forms for form in (one.lower(), one.upper())}
    if "σ" in forms:
        forms.add("ς")
    alone = sorted(form for form in forms if len(form) == 1)
    return f"[{''.join(alone)}]" if len(alone) > 1 or letter in "*?[" else letter
