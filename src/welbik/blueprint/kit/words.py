"""Searching: every word that is typed must stand in one of the columns."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

_MOST = 8


def having(rows: sa.Select[Any], text: str, columns: Sequence[Any]) -> sa.Select[Any]:
    """Those rows in which each word of a text is found, whatever its case."""
    for word in text.split()[:_MOST]:
        found = [
            _as_text(column).icontains(word, autoescape=True) for column in columns
        ]
        rows = rows.where(sa.or_(*found))
    return rows


def _as_text(column: Any) -> Any:
    return (
        column if isinstance(column.type, sa.String) else sa.cast(column, sa.String())
    )
