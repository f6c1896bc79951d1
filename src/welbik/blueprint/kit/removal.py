"""What goes with a row when it is removed, and what stands in the way."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import inspect, select
from sqlalchemy.exc import IntegrityError

from . import clock, rules
from .database import Base, live, session

_MOST = 500
"""Rows looked at in one query: databases limit how many values a query may hold."""


@dataclass
class Effects:
    """Rows by model: those that go too, those that lose the link, those in the way."""

    removed: dict[Any, list[Any]] = field(default_factory=dict)
    cleared: dict[Any, list[Any]] = field(default_factory=dict)
    blocking: dict[Any, list[Any]] = field(default_factory=dict)
    broken: list[rules.Broken] = field(default_factory=list)
    said: list[str] = field(default_factory=list)


def restore(row: Any) -> bool:
    """Takes a row out of the bin; false if its values are taken, or a rule forbids it now."""
    change = rules.Change(row)
    row.removed_at = None
    try:
        session().flush()
        if not list(change.broken(())):
            session().commit()
            return True
    except IntegrityError:
        pass
    session().rollback()
    return False


def effects(*rows: Any) -> Effects:
    """Everything that removing rows of a model would do, found before anything is done."""
    found = Effects()
    gone = {(type(row), row.id) for row in rows}
    refusing: list[tuple[Any, Any]] = []
    todo = [(type(rows[0]), list(rows))] if rows else []
    while todo:
        model, parents = todo.pop()
        for child, column, on_removal in _referring(model):
            others = [
                r
                for r in _children(child, column, parents)
                if (child, r.id) not in gone
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
    keys = [row.id for row in rows]
    for start in range(0, len(keys), _MOST):
        some = column.in_(keys[start : start + _MOST])
        there = live(select(child).where(some).order_by(child.id), child)
        found.extend(session().scalars(there))
    return found


def remove(found: Effects, *rows: Any) -> bool:
    """Removes rows, or puts them into the bin; false if something stands in the way after all.

    A rule of other rows that would be broken by it is told in `found`.
    """
    has_bin = hasattr(rows[0], "removed_at")
    along = () if has_bin else found.removed.values()
    gone = [*rows, *(other for some in along for other in some)]
    changes = [rules.Change(other) for other in gone]
    for row in rows:
        if has_bin:
            row.removed_at = clock.now()
        else:
            session().delete(row)
    try:
        session().flush()
        for change in changes:
            found.broken += change.broken((), removed=True)
        if not found.broken:
            session().commit()
            return True
    except IntegrityError:
        pass
    found.said = list(dict.fromkeys(broken.words for broken in found.broken))
    session().rollback()
    return False
