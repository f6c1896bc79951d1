"""Finding rows."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import Any, TypeVar
from uuid import UUID

from flask import abort
from sqlalchemy import Column, Select, bindparam, inspect, select
from sqlalchemy.orm import RelationshipDirection, aliased
from werkzeug.exceptions import Gone

from . import light, prepared
from .database import fetch, session
from .fields import INTEGER, ONE_LINE
from .paging import fits

Row = TypeVar("Row")
_PART = "part"
_LONGEST_KEY = 1_000
_ASKED: dict[tuple[Any, ...], prepared.Prepared] = {}


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
    if by is not None:
        if not _can_be_key(by, part):
            abort(404)
        named = _not_in_bin_first(select(model).where(by == part), model)
        row: Row | None = session().scalar(named)
    else:
        of: Any = model
        row = fetch(model, part) if _can_be_key(of.id, part) else None
    return _there(row)


def _can_be_key(column: Any, part: int | str | UUID) -> bool:
    """Whether a column could hold what an address says."""
    if isinstance(part, int):
        return fits(column, part)
    return not isinstance(part, str) or not ONE_LINE.search(part)


def shown(model: type[Row], part: int | str | UUID, by: Any = None) -> Row:
    """What `find` gives, to be only shown: the ORM keeps nothing of it."""
    of: Any = model
    if not _can_be_key(of.id if by is None else by, part):
        abort(404)
    rows, read = _whole(of, by)
    lines = prepared.ask(_ASKED, (of, by), lambda: rows, {_PART: part})
    row: Row | None = read(lines[0]) if lines else None
    return _there(row)


def _there(row: Row | None) -> Row:
    if row is None:
        abort(404)
    binned = in_bin(row)
    if binned is not None:
        raise InBin(binned)
    return row


@cache
def _whole(model: Any, by: Any) -> tuple[Select[Any], Callable[[Any], Any]]:
    """The statement for a row with what it leads to, and what reads its results."""
    column = model.id if by is None else by
    related = {
        one.key: aliased(one.mapper.class_)
        for one in inspect(model).relationships
        if one.direction is RelationshipDirection.MANYTOONE
    }
    found = select(*_columns(model))
    for name, other in related.items():
        to = getattr(model, name).of_type(other)
        found = found.add_columns(*_columns(other, told=False)).outerjoin(to)
    found = found.where(column == bindparam(_PART, type_=column.type))
    return _not_in_bin_first(found, model), light.reader(found, related, light.Whole)


def _columns(model: Any, *, told: bool = True) -> list[Any]:
    """The columns of a model or an alias, its key first; with what is `told` by a query or not."""
    mapper = inspect(model).mapper
    keys = [mapper.get_property_by_column(key).key for key in mapper.primary_key]
    others = [
        one.key
        for one in mapper.column_attrs
        if not one.deferred and (told or isinstance(one.columns[0], Column))
    ]
    return [getattr(model, name) for name in dict.fromkeys([*keys, *others])]


def _not_in_bin_first(rows: Select[Any], model: Any) -> Select[Any]:
    column: Any = getattr(model, "removed_at", None)
    # A word may be used anew once its row is in the bin.
    return rows if column is None else rows.order_by(column.is_not(None))


def in_bin(row: Any) -> Any:
    """The row itself if it lies in the bin, or what it is part of; None where neither does."""
    while getattr(row, "removed_at", None) is None:
        if not row.OWNER:
            return None
        row = getattr(row, row.OWNER)
        if row is None:
            return None
    return row


def key_of(target: Any, text: str) -> Any:
    """What a text stands for as the key of a model; None where it is no key at all."""
    if target.id.property.columns[0].type.python_type is UUID:
        try:
            return UUID(text)
        except ValueError:
            return None
    if target.id.property.columns[0].type.python_type is int:
        number = int(text) if INTEGER.fullmatch(text) else None
        return number if number is not None and fits(target.id, number) else None
    return None if ONE_LINE.search(text) or len(text) > _LONGEST_KEY else text
