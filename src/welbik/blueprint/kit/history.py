"""What was changed and when, kept beside the rows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, NamedTuple

import sqlalchemy as sa

from . import clock, tables
from .columns import Moment
from .database import Base, session
from .rows import key_of
from .show import brief

_MOST = 50
_WHOLE, _DIGITS = 4, 15
_LARGEST = 100_000
"""Characters of a change: a larger one is told, and can't be undone."""


@dataclass(frozen=True)
class Entry:
    """One change: when, and for each field its label, what it was and what it became.

    `number` finds it again, where what it tells can be typed anew.
    """

    number: int
    at: dt.datetime
    changes: Sequence[tuple[str, str, str]]


class Shared(NamedTuple):
    """A change of one field of several rows: what each held before, as a form would hold it.

    `later` is the number of those that changed since.
    """

    name: str
    typed: Mapping[Any, str]
    later: int


class History:
    """What keeps the changes of a model's rows, in a table of its own.

    `labels` has what the fields are called where changes are shown.
    """

    labels: Mapping[str, str] = MappingProxyType({})

    def __init__(self, table: sa.Table) -> None:
        self.table = table

    def note(
        self,
        row: Any,
        changes: Mapping[str, Sequence[str]],
        moment: dt.datetime | None = None,
    ) -> None:
        """Keeps what changed, by the names of the fields: what each was and what it became.

        Each as people read it, then as a form would hold it. Changes of one `moment` were one.
        """
        if changes:
            values = {
                "row": str(row.id),
                "changed_at": moment or clock.now(),
                "changes": _bounded(changes),
            }
            session().execute(self.table.insert().values(values))

    def of(self, row: Any) -> Sequence[Entry]:
        """The last changes of a row, newest first."""
        kept = self.table
        found = (
            sa.select(kept.c.id, kept.c.changed_at, kept.c.changes)
            .where(kept.c.row == str(row.id))
            .order_by(kept.c.changed_at.desc(), kept.c.id.desc())
            .limit(_MOST)
        )
        entries = []
        for number, at, changes in session().execute(found):
            told = [(self.labels.get(n, n), *one[:2]) for n, one in changes.items()]
            # The first entry tells of a new row, and some of older versions hold no typed values.
            typed = all(
                len(one) == _WHOLE and one[0] is not None for one in changes.values()
            )
            made = all(not one[0] for one in changes.values())
            entries.append(Entry(number if typed and not made else 0, at, told))
        return entries

    def before(self, row: Any, number: str) -> dict[str, str]:
        """What a form of the row would have held before one of its changes, and all after it."""
        kept = self.table
        plain = number.isascii() and number.isdecimal()
        if not plain or len(number) > _DIGITS:
            return {}
        own = (kept.c.id == int(number), kept.c.row == str(row.id))
        first = sa.select(kept.c.changed_at).where(*own)
        since = (
            sa.select(kept.c.changes)
            .where(
                kept.c.row == str(row.id), kept.c.changed_at >= first.scalar_subquery()
            )
            .order_by(kept.c.changed_at.desc(), kept.c.id.desc())
        )
        found: dict[str, str] = {}
        for changes in session().scalars(since):
            found |= {n: one[2] for n, one in changes.items() if len(one) == _WHOLE}
        return found

    def together(self, model: Any, moment: dt.datetime) -> Shared | None:
        """What was changed at one moment in several rows; None where nothing was."""
        kept = self.table
        newer = kept.alias()
        since = sa.exists().where(newer.c.row == kept.c.row, newer.c.id > kept.c.id)
        asked = sa.select(kept.c.row, kept.c.changes, since).where(
            kept.c.changed_at == moment
        )
        found = session().execute(asked).all()
        names = {name for _, changes, _ in found for name in changes}
        if len(names) != 1:
            return None
        (name,) = names
        whole = all(len(changes[name]) == _WHOLE for _, changes, _ in found)
        typed = {
            key_of(model, row): changes[name][2]
            for row, changes, changed in found
            if not changed
        }
        later = sum(changed for *_, changed in found)
        return Shared(name, typed, later) if whole else None

    def last(self, row: Any) -> int:
        """The number of the last change of a row; 0 where there is none."""
        kept = self.table
        newest = sa.select(sa.func.max(kept.c.id)).where(kept.c.row == str(row.id))
        return session().scalar(newest) or 0


def _bounded(changes: Mapping[str, Sequence[str]]) -> dict[str, list[str]]:
    """Changes as they are kept: told in brief, and with what was typed unless that is very much."""
    size = sum(len(text) for one in changes.values() for text in one[2:])
    told = {name: list(map(brief, one[:2])) for name, one in changes.items()}
    if size > _LARGEST:
        return told
    return {name: [*told[name], *one[2:]] for name, one in changes.items()}


def table(name: str) -> History:
    """The table that keeps the changes of another."""
    kept = sa.Table(
        f"{name}_history",
        Base.metadata,
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("row", sa.String(254), nullable=False),
        sa.Column("changed_at", Moment(), nullable=False, index=True),
        sa.Column("changes", sa.JSON(), nullable=False),
        tables.index("row", "changed_at"),
    )
    tables.ready(kept)
    return History(kept)
