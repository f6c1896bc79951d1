"""Long texts where several rows stand: of each only as much is read as is shown."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from .show import MOST_SHOWN

_LONG = 1_000
"""Beyond so many characters, or without a bound, a text is long."""


def is_long(column: Any) -> bool:
    """Whether a column, of a table or an alias, may hold a long text."""
    (held, *_) = getattr(getattr(column, "property", None), "columns", [column])
    kind = getattr(held, "type", None)
    return (
        isinstance(held, sa.Column)
        and isinstance(kind, sa.String)
        and (kind.length or _LONG + 1) > _LONG
    )


def brief(column: Any) -> Any:
    """What is read of a column in a list: the start of a long text, and a sign that it goes on."""
    if not is_long(column):
        return column
    begin = sa.func.substr(column, 1, MOST_SHOWN - 1, type_=sa.String())
    is_all = sa.func.substr(column, 1, MOST_SHOWN, type_=sa.String()) == column
    return sa.case((is_all, column), else_=begin.concat("…"))


def start(column: Any) -> Any:
    """What a list is sorted by: of a long text the start."""
    if not is_long(column):
        return column
    return sa.func.substr(column, 1, MOST_SHOWN, type_=sa.String())


def deferred(model: Any) -> list[Any]:
    """Options for rows of a model that leave long texts unread until one is asked for."""
    attributes = sa.inspect(model).column_attrs
    return [
        orm.defer(one.class_attribute)
        for one in attributes
        if is_long(one.class_attribute)
    ]
