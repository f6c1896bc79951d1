"""Filling a project's database with made-up rows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from zoneinfo import ZoneInfo

from ..data.drawer import Drawer
from ..data.export import export
from ..data.fill import Filled, Tell, fill
from ..data.fixed import counts_with_fixed
from ..data.making import Making, making_of
from ..data.parts import Part, store_part
from ..data.replacing import made_up, remove_made
from ..data.stored import Stored, read_condition
from ..data.uploads import write_uploads
from ..problems import WelbikError, did_you_mean, no_model
from ..schema.model import Schema
from ..storage.backend import READ_SECONDS
from ..storage.connect import known
from ..storage.tables import tables_of
from .database import ready_database
from .production import refuse_made_up_rows
from .settings import Settings


def with_profile(schema: Schema, profile: str) -> Schema:
    """The schema with the counts of a profile for its seed; the usual ones where it is empty."""
    if profile and profile not in schema.profiles:
        known = did_you_mean(profile, list(schema.profiles))
        raise WelbikError(
            f"there is no profile {profile!r}", known or f"declare it: seed {profile}", status=2
        )
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
    settings: Settings,
    schema: Schema,
    tell: Tell = lambda model, rows: None,
    *,
    add: Mapping[str, int] | None = None,
    replace_made: bool = False,
    day: dt.date | None = None,
    fixed_alone: bool = False,
) -> Filled:
    """Fills up to the declared counts, or adds the given numbers of rows of some models (`add`).

    With `replace_made` made-up rows are deleted first; with `fixed_alone` only fixed rows are
    stored. Raises WelbikError for made-up rows in production.
    """
    if not fixed_alone:
        refuse_made_up_rows(settings)
    with ready_database(settings, schema, loads=True) as database:
        removed: dict[str, int] = {}
        if replace_made:
            removed = remove_made(database, schema, settings.timezone)
        drawer = Drawer(schema, settings.seed, settings.timezone, today=day)
        counts: Mapping[str, int] = {} if fixed_alone else schema.seed
        request = ""
        if add:
            there = {m.name: database.count(m.table, live="bin" in m.keeps) for m in schema}
            counts = {name: rows + add.get(name, 0) for name, rows in there.items()}
            request = f"add {sorted(add.items())}"
        files = settings.files / "files"
        done = fill(database, drawer, counts, tell, files, request=request)
        done.removed = removed
        return done


def made_rows(settings: Settings, schema: Schema) -> dict[str, int]:
    """How many stored rows were made up, by model."""
    with ready_database(settings, schema) as database:
        database.prepare(tables_of(schema), settings.timezone)
        return made_up(database, schema)


def making_for(settings: Settings, schema: Schema, day: dt.date | None = None) -> Making:
    """What the rows of a project are made of."""
    here = day or dt.datetime.now(ZoneInfo(settings.timezone)).date()
    counts = counts_with_fixed(schema, dict(schema.seed))
    return making_of(schema, settings.seed, settings.timezone, here, counts)


def fill_part(
    settings: Settings,
    schema: Schema,
    part: Part,
    tell: Tell,
    *,
    wait: bool = False,
    day: dt.date | None = None,
) -> dict[str, int]:
    """Stores a share of every table; see `data.parts`."""
    refuse_made_up_rows(settings)
    with ready_database(settings, schema, loads=True) as database:
        database.prepare(tables_of(schema), settings.timezone)
        making = making_for(settings, schema, day)
        write_uploads(schema, set(schema.models), settings.files / "files")
        return store_part(database, making, part, tell, wait=wait)


def export_project(
    settings: Settings,
    schema: Schema,
    folder: Path,
    form: str,
    part: Part,
    tell: Tell,
    day: dt.date | None = None,
) -> dict[str, int]:
    """Writes the made-up rows of every table to files; see `data.export`."""
    making = making_for(settings, schema, day)
    try:
        write_uploads(schema, set(schema.models), folder / "files")
        return export(
            making,
            folder,
            form,
            part,
            known(settings.address, settings.address_inside)[0].ddl,
            tell,
        )
    except OSError as error:
        raise WelbikError(
            f"rows can't be written to {folder}: {error.strerror or error}",
            "make room on the disk, or see to the folder's permissions",
        ) from None


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
        raise no_model(model, schema.models)
    asked = schema.models[model]
    condition = read_condition(schema, asked, where) if where else None
    with ready_database(settings, schema) as database:
        database.prepare(tables_of(schema), settings.timezone)
        database.limit_statements(READ_SECONDS)
        yield Stored(database, schema, asked, settings.timezone, columns, condition, sort)
