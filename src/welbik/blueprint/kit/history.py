"""What was changed and when, kept beside the rows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from . import clock
from .columns import Moment
from .database import Base, session

_MOST = 50


@dataclass(frozen=True)
class Entry:
    """One change: when, and for each field what it was and what it became."""

    at: dt.datetime
    changes: dict[str, list[str]]


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


def note(row: Any, before: dict[str, str], after: dict[str, str]) -> None:
    """Keeps what changed between two fillings of a form; by label, as it is shown."""
    changes = {
        name: [before.get(name, ""), after[name]]
        for name in after
        if before.get(name, "") != after[name]
    }
    if changes:
        values = {"row": str(row.id), "changed_at": clock.now(), "changes": changes}
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
    return [Entry(at, changes) for at, changes in session().execute(found)]
