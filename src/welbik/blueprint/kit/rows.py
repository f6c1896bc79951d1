"""Finding rows."""

from __future__ import annotations

from typing import Any, TypeVar
from uuid import UUID

from flask import abort
from sqlalchemy import select
from werkzeug.exceptions import Gone

from .database import fetch, session

Row = TypeVar("Row")


class InBin(Gone):
    """What is asked for lies in the bin, or is part of `row`, which does."""

    def __init__(self, row: Any) -> None:
        super().__init__()
        self.row = row


def find_under(
    parent: Any, model: type[Row], part: int | str | UUID, by: Any = None
) -> Row:
    """A row that is part of another, found under that one only."""
    row: Any = find(model, part, by)
    if getattr(row, row.OWNER) is not parent:
        abort(404)
    found: Row = row
    return found


def find(model: type[Row], part: int | str | UUID, by: Any = None) -> Row:
    """The row that an address names, by its key or by the column `by`.

    404 when there is none, 410 when it is in the bin.
    """
    row: Any
    if by is not None:
        named = select(model).where(by == part)
        column: Any = getattr(model, "removed_at", None)
        if column is not None:
            # A word may be used anew once its row is in the bin.
            named = named.order_by(column.is_not(None))
        row = session().scalars(named).first()
    else:
        row = None if isinstance(part, int) and part >= 2**63 else fetch(model, part)
    if row is None:
        abort(404)
    binned = in_bin(row)
    if binned is not None:
        raise InBin(binned)
    found: Row = row
    return found


def in_bin(row: Any) -> Any:
    """The row itself if it lies in the bin, or what it is part of; None where neither does."""
    while getattr(row, "removed_at", None) is None:
        if not row.OWNER:
            return None
        row = getattr(row, row.OWNER)
        if row is None:
            return None
    return row
