"""Bringing a database to the migrations of a project."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import replace
from zoneinfo import ZoneInfo

from ..problems import WelbikError
from ..storage.backend import Database
from ..storage.ddl import Ddl
from ..storage.tables import Table, Tables
from .files import Migration
from .steps import (
    AddColumn,
    AddIndex,
    CreateTable,
    DropColumn,
    DropIndex,
    DropTable,
    RenameColumn,
    RenameTable,
    SetRules,
    Step,
    after,
)


def pending(
    migrations: Sequence[Migration], applied: Sequence[tuple[str, str, str]]
) -> list[Migration]:
    """The migrations that a database has not seen; raises WelbikError where the two disagree."""
    known = {migration.number: migration for migration in migrations}
    for number, (name, digest, _) in enumerate(applied, 1):
        migration = known.get(number)
        if migration is None:
            raise WelbikError(
                f"the database has had the migration {name}, which is not in migrations/",
                "get the newest migrations from version control, or point 'database' in welbik.toml elsewhere",
            )
        if digest not in (migration.digest, *migration.older):
            raise WelbikError(
                f"migrations/{migration.name}.toml is not what ran on this database as {name}",
                "bring back the file as it was; what is to change goes into a new migration",
            )
    return list(migrations[len(applied) :])


def statements(ddl: Ddl, tables: Tables, steps: Sequence[Step], today: dt.datetime) -> list[str]:
    """A database's SQL of steps, in order. `today` stands in for `today` and `now` of defaults."""
    out: list[str] = []
    state = dict(tables)
    made = {step.table.name: step.table for step in steps if isinstance(step, CreateTable)}
    keys = {name: table.key for name, table in (state | made).items() if table.key}
    for step in steps:
        following = after(state, [step])
        out += _sql(ddl, step, state, following, keys, today)
        state = following
    # What is referred to may be made later than what refers to it.
    for table in state.values():
        before = tables.get(_earlier(table.name, steps))
        new = [c for c in table.columns if c.references and _is_new(c.name, table, before, steps)]
        out += ddl.add_references(table, new, keys)
    return out


def _earlier(table: str, steps: Sequence[Step]) -> str:
    """What a table was called before the steps."""
    for step in reversed(steps):
        if isinstance(step, RenameTable) and step.name == table:
            table = step.table
    return table


def _is_new(column: str, table: Table, before: Table | None, steps: Sequence[Step]) -> bool:
    for step in reversed(steps):
        if isinstance(step, RenameColumn) and (step.table, step.name) == (table.name, column):
            column = step.old
    return before is None or before.column(column) is None


def _sql(
    ddl: Ddl,
    step: Step,
    before: Tables,
    following: Tables,
    keys: dict[str, str],
    today: dt.datetime,
) -> list[str]:
    if isinstance(step, CreateTable):
        return ddl.create_table(step.table, keys) + ddl.create_indexes(step.table)
    old = before[step.table]
    if isinstance(step, RenameTable):
        return ddl.rename_table(old, following[step.name], keys)
    if isinstance(step, DropTable):
        return ddl.drop_table(step.table)
    new = following[step.table]
    if isinstance(step, AddColumn):
        fill = _settle(step, today).fill
        return ddl.add_column(old, new, step.column, fill, keys, made=step.made)
    if isinstance(step, RenameColumn):
        return ddl.rename_column(old, new, step.old, step.name, keys)
    if isinstance(step, AddIndex):
        return ddl.add_index(new, step.index)
    if isinstance(step, DropIndex):
        return [ddl.drop_index(step.table, step.index.name(step.table))]
    if isinstance(step, DropColumn):
        return ddl.drop_column(old, new, step.name, keys)
    return ddl.set_rules(old, new, keys)


def _explained(
    database: Database, state: Tables, migration: Migration, error: WelbikError
) -> WelbikError:
    """Says which stored rows break a rule that is new, where that is why a migration failed."""
    before: list[Step] = []
    for step in migration.steps:
        if isinstance(step, SetRules) and step.table in state:
            table = after(state, before)[step.table]
            for check in step.checks:
                broken = database.breaking(table, check.rule)
                if broken:
                    return WelbikError(
                        f"{broken:,} row{'s' * (broken != 1)} of {table.name} break the rule: {check.rule}",
                        "mend these rows first, or loosen the rule; nothing was changed",
                    )
        before.append(step)
    return error


def _check_can_have(database: Database, step: AddColumn, table: str) -> None:
    """Raises WelbikError where rows are there and would be without what is required."""
    rows = database.count(table) if not (step.fill or step.made) else 0
    if not rows:
        return
    what = f"{step.table}.{step.column.name}"
    if step.column.references:
        remedy = (
            f"declare it without 'required': each row can then be given its {step.column.references} "
            "on its page, or many at once from the list"
        )
    else:
        remedy = "give it a default, which they get, or declare it without 'required'"
    raise WelbikError(
        f"{what} is required, and {rows:,} row{'s' * (rows != 1)} already there would be without it",
        f"{remedy}; nothing was changed",
    )


def _settle(step: AddColumn, today: dt.datetime) -> AddColumn:
    """The step with a fill that no longer moves with the clock; moments become UTC."""
    if not step.fill:
        return step
    word, *shift = step.fill.split()
    moved = today
    if word in ("today", "now") and shift:
        days = int(shift[1]) * (-1 if shift[0] == "-" else 1)
        moved = today + dt.timedelta(days=days)
    if step.column.type == "date" and word == "today":
        return replace(step, fill=moved.date().isoformat())
    if step.column.type == "timestamp":
        local = (
            moved
            if word == "now"
            else dt.datetime.fromisoformat(step.fill).replace(tzinfo=today.tzinfo)
        )
        return replace(step, fill=local.astimezone(dt.UTC).strftime("%Y-%m-%d %H:%M:%S"))
    return step


def run_migrations(
    database: Database,
    migrations: Sequence[Migration],
    timezone: str,
    tell: Callable[[Migration], None] = lambda migration: None,
) -> list[Migration]:
    """Runs what the database has not seen, each migration whole or not at all."""
    todo = pending(migrations, database.applied())
    state = after({}, [s for m in migrations[: len(migrations) - len(todo)] for s in m.steps])
    taken = database.table_names()
    done: list[Migration] = []
    for migration in todo:
        for step in migration.steps:
            if (
                isinstance(step, CreateTable)
                and step.table.name in taken
                and step.table.name not in state
            ):
                raise WelbikError(
                    f"the database already has a table {step.table.name} that no migration made",
                    "point 'database' in welbik.toml at an empty database, or rename the model",
                )
            if isinstance(step, AddColumn) and step.column.required and step.table in state:
                _check_can_have(database, step, state[step.table].name)
        today = dt.datetime.now(ZoneInfo(timezone))
        todo_sql = statements(database.ddl, state, migration.steps, today)
        try:
            ran = database.migrate(
                migration.name, migration.digest, migration.schema, todo_sql, migration.number
            )
        except WelbikError as error:
            raise _explained(database, state, migration, error) from error
        state = after(state, migration.steps)
        if ran:
            done.append(migration)
            tell(migration)
    return done
