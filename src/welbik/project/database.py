"""A project's migrations and its database."""

from __future__ import annotations

import datetime as dt
import importlib
import sys
from collections.abc import Callable, Iterator, Sequence, Set
from contextlib import contextmanager
from dataclasses import dataclass
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING
from zoneinfo import ZoneInfo

from ..migrations import FOLDER
from ..migrations.difference import Difference, difference
from ..migrations.files import (
    Migration,
    as_migration,
    migration_name,
    read_migrations,
    tables_after,
    to_toml,
)
from ..migrations.plan import Work, statements
from ..migrations.risks import Risk
from ..migrations.run import (
    Way,
    all_risks,
    pending,
    run_migrations,
    with_columns_by_hand,
)
from ..migrations.steps import after
from ..problems import WelbikError
from ..schema.model import Field, Schema
from ..storage.backend import Database
from ..storage.connect import backend, connect, known
from ..storage.tables import Tables, fingerprint
from .settings import Settings
from .writing import write_all

if TYPE_CHECKING:
    from ..data.audit import Broken


@dataclass(frozen=True)
class Change:
    """What declarations ask for beyond the migrations there are."""

    existing: list[Migration]
    difference: Difference
    schema: Schema

    @property
    def tables(self) -> Tables:
        """The tables that the migrations lead to."""
        return tables_after(self.existing)


def declared_change(root: Path, schema: Schema) -> Change:
    existing = read_migrations(root / FOLDER)
    return Change(existing, difference(tables_after(existing), schema, existing), schema)


def write_migration(root: Path, change: Change) -> str:
    """Writes the next migration file; returns its path in the project."""
    name, text = next_migration(change)
    write_all(root, {name: text})
    return name


def next_migration(change: Change) -> tuple[str, str]:
    """The path in the project and the text of the migration that a change asks for."""
    steps = change.difference.steps
    schema = fingerprint(after(change.tables, steps))
    name = f"{FOLDER}/{migration_name(len(change.existing) + 1, steps)}.toml"
    return name, to_toml(steps, schema)


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


def open_database(settings: Settings, *, create: bool = False, loads: bool = False) -> Database:
    """The project's database; a missing one is made only with `create`.

    `loads` says that rows are to be loaded in bulk.
    """
    with _told_whence(settings):
        missing = not create and _is_missing(settings)
    if missing:
        place = database_place(settings)
        raise WelbikError(f"there is no database at {place} yet", "make it with: welbik migrate")
    with _told_whence(settings):
        return connect(
            settings.address,
            settings.root,
            create=create,
            inside=settings.address_inside,
            loads=loads,
        )


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
    found, address = known(settings.address, settings.address_inside)
    return found.place(address, settings.root)


def _is_missing(settings: Settings) -> bool:
    found, address = known(settings.address, settings.address_inside)
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
        found, address = known(settings.address, settings.address_inside)
        found.make(address)


def pending_sql(settings: Settings, change: Change, word: str = "") -> list[str]:
    """The SQL that migrating would run now, and what is written down of it.

    With the `word` of a database the SQL for one of that kind; of another kind than the
    project's for an empty one.
    """
    own = known(settings.address, settings.address_inside)[0]
    chosen = backend(word) if word else own
    todo = unseen(settings, change) if chosen is own else list(change.existing)
    state = tables_after(change.existing[: len(change.existing) - len(todo)])
    if change.difference.steps:
        name, text = next_migration(change)
        todo.append(as_migration(Path(name).stem, text))
    now, script = dt.datetime.now(ZoneInfo(settings.timezone)), []
    for migration in todo:
        script += as_script(statements(chosen.ddl, state, migration.steps, now))
        book = chosen.booked(migration.number, migration.name, migration.digest, migration.schema)
        # The table of them is made once.
        script += [one for one in book if one not in script]
        state = after(state, migration.steps)
    return chosen.ddl.script(script) if script else []


def as_script(made: Sequence[str | Work]) -> list[str]:
    """Statements alone; raises WelbikError where a function stands between them."""
    found = []
    for one in made:
        if not isinstance(one, str):
            raise WelbikError(
                f"a migration does what is no SQL: {one.describe()}", "run it with: welbik migrate"
            )
        found.append(one)
    return found


def way_of(settings: Settings, schema: Schema | None = None, *, allow_loss: bool = False) -> Way:
    """How this project's migrations are run."""

    def load(named: str) -> Callable[[Database], object]:
        return _function(settings.root, named)

    def ask(database: Database, promises: Set[tuple[str, str]]) -> list[Risk]:
        from ..data.audit import Audit

        if schema is None:
            return []
        broken = Audit(database, schema, settings.timezone, only=promises).broken()
        return [_as_risk(one, schema) for one in broken]

    return Way(settings.timezone, told_by(schema) if schema else {}, allow_loss, load, ask)


def _as_risk(broken: Broken, schema: Schema) -> Risk:
    table = schema.models[broken.model].table
    where = f"{table}.{broken.at}" if broken.at else table
    return Risk("refused", where, broken.what, broken.count, broken.rows)


def told_by(schema: Schema) -> dict[str, list[str]]:
    """By table the columns that tell its rows."""
    found = {}
    for model in schema:
        pieces = [model.by_name.get(piece.text) for piece in model.shown_as if piece.is_field]
        columns = [member.column for member in pieces if isinstance(member, Field)]
        # Half a name tells no row.
        found[model.table] = columns if len(columns) == len(pieces) else []
    return found


def _function(root: Path, named: str) -> Callable[[Database], object]:
    """The function that a step names as `module:name`, from a file of the project."""
    module, _, name = named.partition(":")
    remedy = "its module starts at the project's folder"
    if str(root) not in sys.path:
        sys.path.insert(0, str(root))
    top = find_spec(module.partition(".")[0])
    places = [*(top.submodule_search_locations or []), top.origin or "/"] if top else []
    if not all(_is_below(root, Path(place)) for place in places):
        raise WelbikError(f"a migration names {named}, which is not the project's", remedy)
    try:
        found: Callable[[Database], object] = getattr(importlib.import_module(module), name)
    except (ImportError, AttributeError) as error:
        raise WelbikError(
            f"a migration names {named}, which is not there: {error}", remedy
        ) from None
    return found


def _is_below(root: Path, path: Path) -> bool:
    return path.is_absolute() and path.resolve().is_relative_to(root.resolve())


def change_risks(settings: Settings, change: Change) -> list[Risk]:
    """What the rows stored say to a change; nothing where there is no database, or others come first."""
    with _told_whence(settings):
        if _is_missing(settings):
            return []
    with open_database(settings) as database:
        if pending(change.existing, database.applied()):
            return []
        return risks_of(database, settings, change)


def risks_of(database: Database, settings: Settings, change: Change) -> list[Risk]:
    """What the rows of an open database say to a change."""
    way = way_of(settings, change.schema)
    database.keep_time(settings.timezone)
    there = with_columns_by_hand(database, change.tables, change.difference.steps)
    return all_risks(database, *there, way, way.now)


def ready_database(settings: Settings, schema: Schema, *, loads: bool = False) -> Database:
    """The database, when it has every table as declared; else WelbikError says what to run."""
    change = declared_change(settings.root, schema)
    if change.difference:
        raise WelbikError(
            "the declarations have changed since the last migration", "run: welbik migrate"
        )
    database = open_database(settings, loads=loads)
    missing = pending(change.existing, database.applied())
    if missing:
        database.close()
        raise WelbikError(
            f"the database lacks the migration {missing[0].name}", "run: welbik migrate"
        )
    return database


def bring_up(settings: Settings, way: Way) -> list[Migration]:
    """Runs every migration that the database has not seen; makes the file if need be."""
    migrations = read_migrations(settings.root / FOLDER)
    with open_database(settings, create=True) as database:
        return run_migrations(database, migrations, way)
