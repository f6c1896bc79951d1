"""Taking back the last migration that ran on a project's database."""

from __future__ import annotations

from dataclasses import dataclass

from ..migrations import FOLDER
from ..migrations.files import Migration, read_migrations, tables_after, to_toml
from ..migrations.plan import statements
from ..migrations.risks import Risk, risks
from ..migrations.run import loaded, pending, taken_over, told_anew
from ..migrations.steps import after
from ..migrations.undo import Back, back
from ..problems import WelbikError
from ..project_files import MIGRATION_LIMIT, read_file
from ..storage.backend import UNDO
from ..storage.tables import Tables
from .database import open_database, told_by, way_of
from .declarations import schema_of
from .settings import Settings


@dataclass(frozen=True)
class Undoing:
    """The last migration that ran, the steps back from it, and what rows say to those."""

    migration: Migration
    before: Tables
    after: Tables
    back: Back
    risks: list[Risk]
    begun: bool
    copy: str
    """Where what was there before the migration is kept; empty where it is not."""
    again: bool
    """Whether migrating makes the same file again, so that it need not be kept."""


def undoing(settings: Settings) -> Undoing:
    """What taking the last migration back comes to; raises WelbikError where nothing has run."""
    migrations = read_migrations(settings.root / FOLDER)
    schema = schema_of(settings.root)
    with open_database(settings) as database:
        database.keep_time(settings.timezone)
        applied = database.applied()
        pending(migrations, applied)
        if not applied:
            raise WelbikError("no migration has run on the database", "there is nothing to undo")
        last = migrations[len(applied) - 1]
        before = tables_after(migrations[: len(applied) - 1])
        later = tables_after(migrations[: len(applied)])
        way = back(before, last.steps)
        begun = f"{UNDO}{last.name}" in database.begun()
        now, copy = way_of(settings).now, database.copy_of(last.name)
        found = [] if begun else risks(database, later, way.steps, now, told_by(schema))
    text = read_file(settings.root, f"{FOLDER}/{last.name}.toml", MIGRATION_LIMIT) or b""
    plain = to_toml(last.steps, last.schema) == text.decode().replace("\r\n", "\n")
    newest = len(applied) == len(migrations)
    return Undoing(last, before, later, way, found, begun, copy, plain and newest)


def undo(settings: Settings, asked: Undoing) -> str:
    """Takes the last migration back; where a copy of what was there is kept, its place.

    The file goes too, where it is just what `migrate` writes; else it stays, and would be run again.
    """
    now, migration = way_of(settings).now, asked.migration
    with open_database(settings) as database:
        database.keep_time(settings.timezone)
        steps = asked.back.steps
        before, left = taken_over(database, asked.after, steps)
        plain = statements(database.ddl, before, left, now)
        tables = after(asked.after, steps)
        made = [*loaded(plain, way_of(settings), tables), *told_anew(steps)]
        place = "" if asked.begun else database.keep_copy(f"undo-{migration.name}")
        database.undo(migration.name, lambda: made, migration.number)
    if asked.again:
        (settings.root / FOLDER / f"{migration.name}.toml").unlink(missing_ok=True)
    return place
