"""Filling a project's database with made-up rows."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace

from ..data.drawer import Drawer
from ..data.fill import Filled, Tell, fill
from ..data.fixed import counts_with_fixed
from ..data.stored import Stored, read_condition
from ..problems import WelbikError, did_you_mean
from ..schema.model import Schema
from ..storage.tables import tables_of
from .database import ready_database
from .settings import Settings


def with_profile(schema: Schema, profile: str) -> Schema:
    """The schema with the counts of a profile for its seed; the usual ones where it is empty."""
    return replace(schema, seed=schema.profiles[profile]) if profile else schema


def missing_rows(settings: Settings, schema: Schema) -> dict[str, int]:
    """How many rows each model lacks of its declared count."""
    database = ready_database(settings, schema)
    try:
        lacks = {
            name: wanted
            - database.count(schema.models[name].table, live="bin" in schema.models[name].keeps)
            for name, wanted in counts_with_fixed(schema, dict(schema.seed)).items()
        }
        return {name: number for name, number in lacks.items() if number > 0}
    finally:
        database.close()


def fill_project(
    settings: Settings, schema: Schema, tell: Tell = lambda model, rows: None
) -> Filled:
    """Fills up to the declared counts, whole or not at all."""
    database = ready_database(settings, schema)
    drawer = Drawer(schema, settings.seed, settings.timezone)
    files = settings.files / "files"
    try:
        return fill(database, drawer, schema.seed, tell, files)
    finally:
        database.close()


@contextmanager
def stored_rows(
    settings: Settings,
    schema: Schema,
    model: str,
    columns: Sequence[str] = (),
    where: str = "",
    sort: Sequence[str] = (),
) -> Iterator[Stored]:
    """Stored rows of a model; see `data.stored`. Raises WelbikError for what is not there."""
    if model not in schema.models:
        raise WelbikError(
            f"there is no model {model!r}", did_you_mean(model, list(schema.models)), status=2
        )
    asked = schema.models[model]
    condition = read_condition(schema, asked, where) if where else None
    with ready_database(settings, schema) as database:
        database.prepare(tables_of(schema), settings.timezone)
        yield Stored(database, schema, asked, settings.timezone, columns, condition, sort)
