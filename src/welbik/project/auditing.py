"""A project's stored rows against its declarations."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from ..data.audit import Audit, Broken
from ..data.drawer import Drawer
from ..data.settling import out_of_step
from ..schema.model import Schema
from ..storage.backend import READ_SECONDS
from ..storage.tables import tables_of
from .database import ready_database
from .settings import Settings


def audit(
    settings: Settings, schema: Schema, tell: Callable[[str], None] = lambda model: None
) -> Iterator[Broken]:
    """Every declaration that stored rows break, fixed rows included; see `data.audit`."""
    with ready_database(settings, schema) as database:
        database.limit_statements(READ_SECONDS)
        database.prepare(tables_of(schema), settings.timezone)
        yield from Audit(database, schema, settings.timezone, tell).broken()
        here = Drawer(schema, settings.seed, settings.timezone).here
        count = out_of_step(database, schema, here) if schema.rows else 0
        if count:
            what = "that are fixed are missing or not as declared: welbik fill"
            yield Broken("rows", "", what, count, (), "")
