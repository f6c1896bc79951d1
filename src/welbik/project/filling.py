"""Filling a project's database with made-up rows."""

from __future__ import annotations

from dataclasses import replace

from ..data.drawer import Drawer
from ..data.fill import Filled, Tell, fill
from ..data.fixed import counts_with_fixed
from ..schema.model import Schema
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
