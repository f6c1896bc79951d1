"""Searching: every word that is typed must stand in one of the columns."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from .database import dialect

_MOST, _LONGEST = 8, 60


def of(text: str) -> list[str]:
    """The words of a text that are looked for: each once, no more and no longer than may be."""
    plain = "".join(c if c.isprintable() else " " for c in text)
    return list(dict.fromkeys(word[:_LONGEST] for word in plain.split()))[:_MOST]


def having(rows: sa.Select[Any], text: str, columns: Sequence[Any]) -> sa.Select[Any]:
    """Those rows in which each word of a text is found, whatever its case."""
    for word in of(text):
        rows = rows.where(sa.or_(*(holds(column, word) for column in columns)))
    return rows


def holds(column: Any, word: str) -> Any:
    """The condition that a word stands in a column, whatever the case of its letters."""
    if not isinstance(column.type, sa.String):
        column = sa.cast(column, sa.String())
    return dialect().contains(column, word)
