"""Keys that people may change: rows that refer to them follow."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from .database import Base, defer_references, session


def follow(row: Any, before: Any) -> None:
    """Lets all rows that refer to a row by the key it had refer to its new one.

    Belongs into the transaction that stores the row. Its history goes along.
    """
    table = sa.inspect(type(row)).local_table
    with session().no_autoflush:
        defer_references()
        for other in Base.metadata.tables.values():
            for column in other.columns:
                if any(key.column.table is table for key in column.foreign_keys):
                    there = sa.update(other).where(column == before)
                    session().execute(there.values({column: row.id}))
        if row.HISTORY:
            kept = row.HISTORY.table
            mine = sa.update(kept).where(kept.c.row == str(before))
            session().execute(mine.values(row=str(row.id)))
