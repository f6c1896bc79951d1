"""Columns that a visitor chose, or that rows are compared by: any value of a row, as pages show it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import sqlalchemy as sa
from sqlalchemy import orm

from . import texts
from .database import Base, session
from .show import NOTHING, amount, brief, plain, show


class Cell(NamedTuple):
    """A value in a column: how it is shown (`row`, `rows`, `file`, `number` or `text`)."""

    kind: str
    value: Any


class Column(NamedTuple):
    """A column by its path from the row on, and what it is called."""

    path: str
    label: str

    def of(self, row: Any) -> Any:
        """What a row holds there, a choice by its name; None where something on the way is empty."""
        *before, last = self.path.split(".")
        for name in before:
            row = getattr(row, name)
            if row is None:
                return None
        value = getattr(row, last)
        labels = getattr(row, f"{last.rstrip('_').upper()}_LABELS", None)
        return value if labels is None or value is None else labels[value]

    def cell(self, row: Any) -> Cell:
        """What a page shows of a row."""
        value = self.of(row)
        if value is None or value == []:
            return Cell("text", NOTHING)
        if isinstance(value, Base):
            return Cell("row", value)
        if isinstance(value, list):
            linked = isinstance(value[0], Base)
            return Cell("rows", value) if linked else Cell("number", show(len(value)))
        if hasattr(value, "digest"):
            return Cell("file", value)
        told = amount if self._is_worked_out(row) else brief
        number = hasattr(value, "real") and not isinstance(value, bool)
        return Cell("number" if number else "text", told(value))

    def _is_worked_out(self, row: Any) -> bool:
        if "." in self.path:
            return False
        columns = sa.inspect(type(row)).column_attrs
        found = columns.get(self.path)
        return found is not None and not isinstance(found.columns[0], sa.Column)


def differ(column: Column, rows: Sequence[Any]) -> bool:
    """Whether rows hold different values in a column."""
    return len({plain(column.of(row)) for row in rows}) > 1


def whole(
    model: Any,
    keys: Sequence[Any],
    columns: Sequence[Column],
    *,
    shortened: bool = False,
) -> list[Any]:
    """The rows of some keys in their order, with the related rows that columns show.

    `shortened` ones are only to be shown: of long texts they have the start.
    """
    relations = sa.inspect(model).relationships
    first = dict.fromkeys(column.path.partition(".")[0] for column in columns)
    wanted = [
        orm.selectinload(getattr(model, name)) for name in first if name in relations
    ]
    rows = sa.select(model).where(model.id.in_(keys)).options(*wanted)
    if shortened:
        rows = rows.options(*texts.deferred(model))
    found = {row.id: row for row in session().scalars(rows)}
    if shortened:
        _shorten(model, found)
    return [found[key] for key in keys if key in found]


def _shorten(model: Any, rows: dict[Any, Any]) -> None:
    """Gives rows the starts of their long texts."""
    attributes = sa.inspect(model).column_attrs
    long = [
        one.class_attribute for one in attributes if texts.is_long(one.class_attribute)
    ]
    if not long:
        return
    asked = sa.select(model.id, *map(texts.brief, long)).where(model.id.in_(rows))
    for key, *some in session().execute(asked):
        for attribute, text in zip(long, some, strict=True):
            orm.attributes.set_committed_value(rows[key], attribute.key, text)
