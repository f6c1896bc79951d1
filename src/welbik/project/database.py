"""A project's migrations and its database."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from zoneinfo import ZoneInfo

from ..migrations.difference import Difference, difference
from ..migrations.files import Migration, migration_name, read_migrations, tables_after, to_toml
from ..migrations.run import pending, run_migrations, statements
from ..migrations.steps import after
from ..problems import WelbikError
from ..schema.model import Schema
from ..storage.backend import Database
from ..storage.connect import backend, connect, known
from ..storage.tables import fingerprint
from .settings import Settings
from .writing import write_all

FOLDER = "migrations"


@dataclass(frozen=True)
class Change:
    """What declarations ask for beyond the migrations there are."""

    existing: list[Migration]
    difference: Difference


def declared_change(root: Path, schema: Schema) -> Change:
    existing = read_migrations(root / FOLDER)
    return Change(existing, difference(tables_after(existing), schema))


def write_migration(root: Path, change: Change) -> str:
    """Writes the next migration file; returns its path in the project."""
    steps = change.difference.steps
    schema = fingerprint(after(tables_after(change.existing), steps))
    name = f"{FOLDER}/{migration_name(len(change.existing) + 1, steps)}.toml"
    write_all(root, {name: to_toml(steps, schema)})
    return name


def take_back(settings: Settings, name: str) -> bool:
    """Removes a migration file that was just written, unless the database has had it after all."""
    path = settings.root / name
    try:
        database = open_database(settings)
        applied = {migration for migration, _, _ in database.applied()} | database.begun()
        database.close()
    except WelbikError:
        applied = set()
    if path.stem in applied:
        return False
    path.unlink(missing_ok=True)
    return True


def open_database(settings: Settings, *, create: bool = False) -> Database:
    """The project's database; a missing one is made only with `create`."""
    with _told_whence(settings):
        missing = not create and _is_missing(settings)
    if missing:
        place = database_place(settings)
        raise WelbikError(f"there is no database at {place} yet", "make it with: welbik migrate")
    with _told_whence(settings):
        return connect(settings.address, settings.root, create=create)


@contextmanager
def _told_whence(settings: Settings) -> Iterator[None]:
    """Says with what is wrong with an address which setting has it."""
    try:
        yield
    except WelbikError as error:
        error.remedy += f" (the address comes from {settings.address_from})"
        raise


def database_place(settings: Settings) -> str:
    """Where the project's database is, for people to read."""
    found, address = known(settings.address)
    return found.place(address, settings.root)


def _is_missing(settings: Settings) -> bool:
    found, address = known(settings.address)
    return found.is_missing(address, settings.root)


def unseen(settings: Settings, change: Change) -> list[Migration]:
    """The migrations that the database has not had; all of them where there is no database yet."""
    with _told_whence(settings):
        if _is_missing(settings):
            return change.existing
    database = open_database(settings)
    try:
        return pending(change.existing, database.applied())
    finally:
        database.close()


def make_missing(settings: Settings) -> None:
    """Makes the project's database on its server, which is there."""
    with _told_whence(settings):
        found, address = known(settings.address)
        found.make(address)


def pending_sql(settings: Settings, change: Change, word: str = "") -> list[str]:
    """The SQL that migrating would run now.

    With the `word` of a database the SQL for one of that kind; of another kind than the
    project's for an empty one.
    """
    own = known(settings.address)[0]
    chosen = backend(word) if word else own
    ddl = chosen.ddl
    todo = unseen(settings, change) if chosen is own else change.existing
    done = change.existing[: len(change.existing) - len(todo)]
    steps = [step for migration in todo for step in migration.steps] + change.difference.steps
    now = dt.datetime.now(ZoneInfo(settings.timezone))
    return ddl.script(statements(ddl, tables_after(done), steps, now))


def ready_database(settings: Settings, schema: Schema) -> Database:
    """The database, when it has every table as declared; else WelbikError says what to run."""
    change = declared_change(settings.root, schema)
    if change.difference:
        raise WelbikError(
            "the declarations have changed since the last migration", "run: welbik migrate"
        )
    database = open_database(settings)
    missing = pending(change.existing, database.applied())
    if missing:
        database.close()
        raise WelbikError(
            f"the database lacks the migration {missing[0].name}", "run: welbik migrate"
        )
    return database


def bring_up(
    settings: Settings, tell: Callable[[Migration], None] = lambda migration: None
) -> list[Migration]:
    """Runs every migration that the database has not seen; makes the file if need be."""
    migrations = read_migrations(settings.root / FOLDER)
    database = open_database(settings, create=True)
    try:
        return run_migrations(database, migrations, settings.timezone, tell)
    finally:
        database.close()
