"""Finding rows."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from typing import Any, TypeVar
from uuid import UUID

from flask import abort
from sqlalchemy import Select, bindparam, inspect, select
from sqlalchemy.orm import RelationshipDirection, joinedload
from sqlalchemy.orm.interfaces import ORMOption
from werkzeug.exceptions import Gone

from .database import fetch, session

Row = TypeVar("Row")
_PART = "part"


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
    of: Any = model
    if by is not None:
        row = session().scalars(_named(of, by), {_PART: part}).first()
    elif isinstance(part, int) and part >= 2**63:
        row = None
    else:
        row = fetch(of, part, _led_to(of))
    if row is None:
        abort(404)
    binned = in_bin(row)
    if binned is not None:
        raise InBin(binned)
    found: Row = row
    return found


@cache
def _named(model: Any, by: Any) -> Select[Any]:
    """The statement for the row that has a certain word in a column."""
    word = bindparam(_PART, type_=by.type)
    found = select(model).where(by == word).options(*_led_to(model))
    column: Any = getattr(model, "removed_at", None)
    # A word may be used anew once its row is in the bin.
    return found if column is None else found.order_by(column.is_not(None))


@cache
def _led_to(model: Any) -> Sequence[ORMOption]:
    """What brings the rows along that a row leads to: its pages show them by name."""
    # One that leads to itself could not be stored before itself.
    return [
        joinedload(getattr(model, one.key))
        for one in inspect(model).relationships
        if one.direction is RelationshipDirection.MANYTOONE
        and one.mapper is not one.parent
    ]


def in_bin(row: Any) -> Any:
    """The row itself if it lies in the bin, or what it is part of; None where neither does."""
    while getattr(row, "removed_at", None) is None:
        if not row.OWNER:
            return None
        row = getattr(row, row.OWNER)
        if row is None:
            return None
    return row
