"""What the tests of a generated application use."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from ..data.supply import Factory
from ..data.verify import Verifier, worked_out
from ..migrations import FOLDER
from ..migrations.files import read_migrations
from ..migrations.run import run_migrations
from ..problems import WelbikError
from ..schema.model import Schema
from ..storage.address import read_address
from ..storage.backend import Database
from ..storage.connect import IN_MEMORY as IN_MEMORY
from ..storage.connect import connect, known
from ..storage.tables import tables_of
from .database import declared_change, way_of
from .declarations import schema_of
from .settings import read_settings


def make_database(root: Path, address: str) -> None:
    """A new and empty database at an address, made by the project's migrations.

    Raises WelbikError where the declarations are ahead of the migrations.
    """
    settings = read_settings(root)
    if declared_change(settings.root, schema_of(settings.root)).difference:
        raise WelbikError(
            "the declarations have changed since the last migration: run welbik migrate"
        )
    database = connect(address, settings.root, create=True)
    try:
        run_migrations(database, read_migrations(settings.root / FOLDER), way_of(settings))
    finally:
        database.close()


class EmptyDatabase:
    """A database for tests, which is as empty again before each as the migrations made it."""

    def __init__(self, address: str, folder: Path, database: Database) -> None:
        self.address, self.folder, self._database = address, folder, database

    def restore(self, engine: Any) -> None:
        """Takes all rows away; `engine` is what the site is connected by."""
        self._database.restore(engine)

    def references(self, table: str) -> list[tuple[str, str, str]]:
        """The columns of a table that refer to others: to which, and what a removal does to them."""
        with connect(self.address, self.folder) as database:
            return database.references(table)

    def hurry(self, connection: Any, record: object) -> None:
        """Readies a connection of the site: what is lost with the power is made anew."""
        self._database.hurry(connection)


@contextmanager
def empty_database(root: Path, folder: Path) -> Iterator[EmptyDatabase]:
    """A new database of the kind that the project has: a file in `folder`, or one of the server's.

    Nobody else's is touched: two runs side by side have one each. It is removed at the end.
    Raises WelbikError where none can be made, or the declarations are ahead of the migrations.
    """
    settings = read_settings(root)
    found, _ = known(settings.address, settings.address_inside)
    address = found.beside(settings.address, folder, f"welbik_test_{secrets.token_hex(6)}")
    found.make(read_address(address))
    try:
        make_database(root, address)
        database = connect(address, settings.root)
        try:
            database.prepare(tables_of(schema_of(settings.root)), settings.timezone)
            database.keep_empty()
            yield EmptyDatabase(address, folder, database)
        finally:
            database.close()
    finally:
        found.remove(read_address(address))


def made_up(root: Path) -> Factory:
    """Made-up values for the project's models."""
    settings = read_settings(root)
    return Factory(schema_of(settings.root), settings.seed, settings.timezone)


def computed_values(root: Path, address: str, model: str) -> dict[str, dict[object, object]]:
    """What the computed fields of a model's rows in the database at an address come to.

    By field, then by the key of the row; worked out by the database from the declarations.
    """
    with _stored(root, address) as (database, schema, timezone):
        return worked_out(database, schema, schema.models[model], timezone)


def broken_rules(root: Path, address: str) -> list[str]:
    """The rules that rows of the database at an address break, as they are declared."""
    with _stored(root, address) as (database, schema, timezone):
        names = set(schema.models)
        judge = Verifier(database, schema, timezone, accept=False)
        return [str(one) for one in judge.broken(names, names)]


@contextmanager
def _stored(root: Path, address: str) -> Iterator[tuple[Database, Schema, str]]:
    settings = read_settings(root)
    schema = schema_of(settings.root)
    database = connect(address, settings.root)
    try:
        database.prepare(tables_of(schema), settings.timezone)
        yield database, schema, settings.timezone
    finally:
        database.close()
