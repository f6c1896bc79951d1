"""What the tests of a generated application use."""

from __future__ import annotations

from pathlib import Path

from ..data.supply import Factory
from ..data.verify import Verifier, worked_out
from ..migrations.files import read_migrations
from ..migrations.run import run_migrations
from ..problems import WelbikError
from ..storage.sqlite import Database
from .database import FOLDER, declared_change
from .declarations import schema_of
from .settings import read_settings


def make_database(root: Path, path: Path) -> None:
    """An empty SQLite database at `path`, made by the project's migrations.

    Raises WelbikError where the declarations are ahead of the migrations.
    """
    settings = read_settings(root)
    if declared_change(settings.root, schema_of(settings.root)).difference:
        raise WelbikError(
            "the declarations have changed since the last migration: run welbik migrate"
        )
    database = Database(path, create=True)
    try:
        run_migrations(database, read_migrations(settings.root / FOLDER), settings.timezone)
    finally:
        database.close()


def made_up(root: Path) -> Factory:
    """Made-up values for the project's models."""
    settings = read_settings(root)
    return Factory(schema_of(settings.root), settings.seed, settings.timezone)


def computed_values(root: Path, path: Path, model: str) -> dict[str, dict[object, object]]:
    """What the computed fields of a model's rows in the SQLite database at `path` come to.

    By field, then by the key of the row; worked out by the database from the declarations.
    """
    settings = read_settings(root)
    schema = schema_of(settings.root)
    database = Database(path)
    try:
        database.prepare(settings.timezone)
        return worked_out(database, schema, schema.models[model], settings.timezone)
    finally:
        database.close()


def broken_rules(root: Path, path: Path) -> list[str]:
    """The rules that rows of the SQLite database at `path` break, as they are declared."""
    settings = read_settings(root)
    schema = schema_of(settings.root)
    database = Database(path)
    try:
        database.prepare(settings.timezone)
        names = set(schema.models)
        judge = Verifier(database, schema, settings.timezone, accept=False)
        return [str(one) for one in judge.broken(names, names)]
    finally:
        database.close()
