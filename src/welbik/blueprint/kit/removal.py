"""What goes with a row when it is removed, and what stands in the way."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import inspect, select
from sqlalchemy.exc import IntegrityError

from .database import Base, session

_MOST = 500
"""Rows looked at in one query: databases limit how many values a query may hold."""


@dataclass
class Effects:
    """Rows by model: those that go too, those that lose the link, those in the way."""

    removed: dict[Any, list[Any]] = field(default_factory=dict)
    cleared: dict[Any, list[Any]] = field(default_factory=dict)
    blocking: dict[Any, list[Any]] = field(default_factory=dict)


def effects(row: Any) -> Effects:
    """Everything that removing a row would do, found before anything is done."""
    found = Effects()
    gone = {(type(row), row.id)}
    refusing: list[tuple[Any, Any]] = []
    todo = [(type(row), [row])]
    while todo:
        model, rows = todo.pop()
        for child, column, on_removal in _referring(model):
            others = [
                r for r in _children(child, column, rows) if (child, r.id) not in gone
            ]
            if on_removal == "CASCADE" and others:
                gone |= {(child, other.id) for other in others}
                found.removed.setdefault(child, []).extend(others)
                todo.append((child, others))
            elif on_removal == "SET NULL" and others:
                found.cleared.setdefault(child, []).extend(others)
            elif others:
                refusing.extend((child, other) for other in others)
    for child, other in refusing:
        found.blocking.setdefault(child, []).append(other)
    found.cleared = _staying(found.cleared, gone)
    found.blocking = _staying(found.blocking, gone)
    return found


def _staying(
    found: dict[Any, list[Any]], gone: set[tuple[Any, Any]]
) -> dict[Any, list[Any]]:
    """Each row once, and none that is removed anyway: it neither blocks nor loses a link."""
    staying = {
        child: [r for r in dict.fromkeys(rows) if (child, r.id) not in gone]
        for child, rows in found.items()
    }
    return {child: rows for child, rows in staying.items() if rows}


def _referring(model: Any) -> Iterator[tuple[Any, Any, str | None]]:
    """Every column that refers to a model: the class it is in, and what removal does."""
    for mapper in Base.registry.mappers:
        for column in mapper.local_table.columns:
            for key in column.foreign_keys:
                if key.column.table is inspect(model).local_table:
                    yield mapper.class_, column, key.ondelete


def _children(child: Any, column: Any, rows: Sequence[Any]) -> list[Any]:
    found: list[Any] = []
    numbers = [row.id for row in rows]
    for start in range(0, len(numbers), _MOST):
        some = column.in_(numbers[start : start + _MOST])
        found.extend(session().scalars(select(child).where(some).order_by(child.id)))
    return found


def remove(row: Any) -> bool:
    """Removes a row; false if something came to stand in the way meanwhile."""
    session().delete(row)
    try:
        session().commit()
    except IntegrityError:
        session().rollback()
        return False
    return True
