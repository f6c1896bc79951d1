"""All that `status` names, done in its order."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from ..data.fill import Filled, Tell
from ..migrations.files import Migration
from ..schema.model import Schema
from .building import carry_out, ready
from .database import ready_database
from .declarations import schema_of
from .filling import fill_project
from .migrating import Asking, checked, migrate, possible_change
from .planning import Plan
from .production import why_no_made_up_rows
from .settings import Settings


@dataclass
class Synced:
    """What was done: to the code, the database and the rows."""

    code: Plan
    migrations: list[Migration] = field(default_factory=list)
    rows: Filled | None = None
    no_rows: str = ""
    """Why no made-up rows were added; empty where they were."""


def sync(
    settings: Settings,
    asking: Asking,
    agreed: Callable[[Plan], bool],
    *,
    allow_loss: bool = False,
    built: Callable[[Plan], None] = lambda todo: None,
    tell: Tell = lambda model, rows: None,
) -> Synced:
    """Builds, migrates and fills; raises WelbikError before anything is written that the rows
    stored would not follow."""
    schema = schema_of(settings.root)
    change = possible_change(settings, schema)
    if change.difference.steps:
        # Asked before a line of code is ahead of what the database can't have.
        silent = Asking(lambda said: None, loss=asking.loss)
        agreed_to = checked(settings, change, silent, allow_loss).difference
        allow_loss = allow_loss or any(step.loss for step in agreed_to.losses)
    done = Synced(ready(settings, schema, agreed=agreed))
    # Some of what rows have against it is known at the end of a migration alone.
    done.migrations = migrate(settings, asking, allow_loss=allow_loss)
    carry_out(settings.root, done.code)
    built(done.code)
    if _wants_rows(schema):
        with ready_database(settings, schema) as database:
            done.no_rows = why_no_made_up_rows(settings, schema, database)
        alone = bool(done.no_rows)
        done.rows = fill_project(settings, schema_of(settings.root), tell, fixed_alone=alone)
    return done


def _wants_rows(schema: Schema) -> bool:
    return bool(schema.seed or schema.rows)
