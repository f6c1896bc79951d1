"""Filling a project's database with made-up rows."""

from __future__ import annotations

from dataclasses import replace

from ..data.fill import Tell, fill
from ..data.fixed import counts_with_fixed
from ..data.rows import Drawer
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
            name: wanted - database.count(schema.models[name].table)
            for name, wanted in counts_with_fixed(schema, dict(schema.seed)).items()
        }
        return {name: number for name, number in lacks.items() if number > 0}
    finally:
        database.close()


def fill_project(
    settings: Settings, schema: Schema, tell: Tell = lambda model, rows: None
) -> dict[str, int]:
    """Fills up to the declared counts, whole or not at all; returns the rows added by model."""
    database = ready_database(settings, schema)
    try:
        return fill(database, Drawer(schema, settings.seed, settings.timezone), schema.seed, tell)
    finally:
        database.close()
