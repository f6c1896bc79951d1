"""What was changed and when, kept beside the rows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from . import clock
from .columns import Moment
from .database import Base, session

_MOST = 50


_labels: dict[Any, Mapping[str, str]] = {}


@dataclass(frozen=True)
class Entry:
    """One change: when, and for each field its label, what it was and what it became."""

    at: dt.datetime
    changes: Sequence[tuple[str, str, str]]


def label(model: Any, labels: Mapping[str, str]) -> None:
    """Says what the fields of a model are called where its changes are shown."""
    _labels[model] = labels


def table(name: str) -> sa.Table:
    """The table that keeps the changes of another."""
    return sa.Table(
        f"{name}_history",
        Base.metadata,
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("row", sa.String(254), nullable=False),
        sa.Column("changed_at", Moment(), nullable=False),
        sa.Column("changes", sa.JSON(), nullable=False),
    )


def note(row: Any, changes: Mapping[str, Sequence[str]]) -> None:
    """Keeps what changed, by the names of the fields: what each was and what it became."""
    if changes:
        values = {
            "row": str(row.id),
            "changed_at": clock.now(),
            "changes": dict(changes),
        }
        session().execute(row.HISTORY.insert().values(values))


def of(row: Any) -> Sequence[Entry]:
    """The last changes of a row, newest first."""
    kept = row.HISTORY
    found = (
        sa.select(kept.c.changed_at, kept.c.changes)
        .where(kept.c.row == str(row.id))
        .order_by(kept.c.changed_at.desc(), kept.c.id.desc())
        .limit(_MOST)
    )
    labels = _labels.get(type(row), {})
    return [
        Entry(at, [(labels.get(name, name), *told) for name, told in changes.items()])
        for at, changes in session().execute(found)
    ]
