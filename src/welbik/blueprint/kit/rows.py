"""Finding rows."""

from __future__ import annotations

from typing import TypeVar

from flask import abort

from .database import session

Row = TypeVar("Row")


def find(model: type[Row], number: int) -> Row:
    """The row with an id; answers 404 when there is none."""
    row = session().get(model, number) if number < 2**63 else None
    if row is None:
        abort(404)
    return row
