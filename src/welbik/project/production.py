"""Whether made-up rows may be added to a project's database."""

from __future__ import annotations

from ..data.replacing import made_up
from ..problems import WelbikError
from ..schema.model import Schema
from ..storage.backend import Database
from ..storage.tables import tables_of
from .settings import FILE, Settings


def refuse_made_up_rows(settings: Settings) -> None:
    """Raises WelbikError if the database is one of production."""
    if settings.production:
        raise WelbikError(
            f"made-up rows are never added here: 'production = true' stands in {FILE}",
            "use another database: set DATABASE_URL, and 'production' to false there",
        )


def why_no_made_up_rows(settings: Settings, schema: Schema, database: Database) -> str:
    """Why nothing but `fill` itself may add made-up rows to an open database; empty if all may.

    Rows that are neither made up nor fixed are people's.
    """
    if settings.production:
        return f"'production = true' stands in {FILE}"
    database.prepare(tables_of(schema), settings.timezone)
    known = made_up(database, schema)
    for model in schema:
        stored = database.count(model.table)
        fixed = len(schema.rows[model.name].rows) if model.name in schema.rows else 0
        if stored > known.get(model.name, 0) + fixed:
            return f"people's rows of {model.name} are stored"
    return ""
