"""Finding rows."""

from __future__ import annotations

from typing import Any, TypeVar

from flask import abort
from sqlalchemy import select

from .database import session

Row = TypeVar("Row")


def find(
    model: type[Row], part: int | str, by: Any = None, *, removed: bool = False
) -> Row:
    """The row that an address names, by its key or by the column `by`; 404 when there is none.

    Rows in the bin are found only where `removed` says so.
    """
    row: Any
    if by is not None:
        column: Any = getattr(model, "removed_at", None)
        named = select(model).where(by == part)
        if column is not None:
            named = named.where(column.is_not(None) if removed else column.is_(None))
        row = session().scalar(named)
    else:
        row = (
            None
            if isinstance(part, int) and part >= 2**63
            else session().get(model, part)
        )
    gone = getattr(row, "removed_at", None) is not None
    if row is None or gone != removed:
        abort(404)
    found: Row = row
    return found
