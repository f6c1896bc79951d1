"""What is out of step in a project, and which command mends it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ..migrations.drift import drift
from ..migrations.run import pending
from ..problems import WelbikError
from ..schema.model import Schema
from ..storage.backend import READ_SECONDS, Database
from .building import planned
from .database import Change, database_place, declared_change, open_database
from .declarations import read_declarations
from .planning import Plan
from .production import why_no_made_up_rows
from .settings import Settings


@dataclass(frozen=True)
class Finding:
    """One line of the status: `command` is empty where all is in step, or no command mends it.

    `lines` tell more of what is `wrong`.
    """

    subject: str
    state: str
    command: str = ""
    lines: tuple[str, ...] = ()

    @property
    def wrong(self) -> bool:
        return bool(self.command or self.lines)


def status(settings: Settings) -> list[Finding]:
    """The state of declarations, code, migrations, database and rows, in the order of work."""
    found = read_declarations(settings.root)
    if found.problems:
        return [Finding("declarations", _count(len(found.problems), "problem"), "welbik check")]
    schema = found.schema
    said = f"{_count(len(schema.models), 'model')} in {_count(found.files, 'file')}"
    if not schema.models:
        return [Finding("declarations", "no model yet", 'welbik add Hive "name text 80"')]
    code = planned(settings, schema)
    return [Finding("declarations", said), _code(code), *_database(settings, schema)]


def _count(number: int, noun: str) -> str:
    return f"{number:,} {noun}{'s' * (number != 1)}"


def _code(todo: Plan) -> Finding:
    clashes = len(todo.clashes)
    if clashes:
        said = f"{_count(clashes, 'file')} where your lines and the declarations clash"
        return Finding("code", said, "welbik build")
    parts = []
    for count, says in (
        (len(todo.writes), "to write"),
        (len(todo.of("gone")), "to take away"),
    ):
        if count:
            parts.append(f"{_count(count, 'file')} {says}")
    edited, out = len(todo.of("yours", "merged")), todo.of("out")
    said = f"; {_count(edited, 'file')} with edits of yours" if edited else ""
    if any(one.told for one in out):
        said = f"{_count(len(out), 'file')} that you took out"
        return Finding("code", said, f"welbik build --theirs {out[0].name}")
    said += f"; {_count(len(out), 'file')} taken out" if out else ""
    if parts:
        return Finding("code", f"{', '.join(parts)}{said}", "welbik build")
    return Finding("code", f"as declared{said}")


def _database(settings: Settings, schema: Schema) -> Iterator[Finding]:
    try:
        change = declared_change(settings.root, schema)
    except WelbikError as error:
        yield Finding("migrations", error.message, error.remedy)
        return
    if change.difference:
        count = len(change.difference.steps) + len(change.difference.refused)
        yield Finding(
            "migrations", f"{_count(count, 'change')} not in a migration yet", "welbik migrate"
        )
    else:
        yield Finding(
            "migrations", f"{_count(len(change.existing), 'migration')}, all that is declared"
        )
    try:
        database = open_database(settings)
        database.limit_statements(READ_SECONDS)
    except WelbikError as error:
        yield Finding("database", error.message, error.remedy.removeprefix("make it with: "))
        return
    try:
        missing = pending(change.existing, database.applied())
        if missing:
            yield Finding(
                "database", f"{_count(len(missing), 'migration')} not run", "welbik migrate"
            )
        else:
            yield Finding("database", f"has every migration: {database_place(settings)}")
            yield from _drift(database, change)
        if not missing and not change.difference:
            yield _rows(settings, schema, database)
    except WelbikError as error:
        yield Finding("database", error.message, error.remedy)
    finally:
        database.close()


def _drift(database: Database, change: Change) -> Iterator[Finding]:
    """What was changed by hand: each difference with what to do."""
    found = drift(database, change.tables)
    if found:
        lines = [line for one in found for line in (one.what, f"  {one.remedy}")]
        state = f"{_count(len(found), 'difference')} from what the migrations made"
        yield Finding("tables", state, lines=tuple(lines))


def _rows(settings: Settings, schema: Schema, database: Database) -> Finding:
    counts = {m.name: database.count(m.table, live="bin" in m.keeps) for m in schema}
    reason = why_no_made_up_rows(settings, schema, database)
    seed = {} if reason else schema.seed
    short = {name: wanted for name, wanted in seed.items() if counts[name] < wanted}
    shown = [f"{counts[name]:,} of {wanted:,} {name}" for name, wanted in list(short.items())[:3]]
    shown += [f"{len(short) - 3} more"] if len(short) > 3 else []
    fixed = _fixed(settings, schema, database) if schema.rows else 0
    shown += [f"{_count(fixed, 'fixed row')} not as declared"] if fixed else []
    if shown:
        command = "welbik sync" if reason else "welbik fill"
        return Finding("rows", ", ".join(shown), command)
    told = f"; none is made up, since {reason}" if reason else ""
    return Finding("rows", f"{sum(counts.values()):,} in {_count(len(counts), 'table')}{told}")


def _fixed(settings: Settings, schema: Schema, database: Database) -> int:
    from ..data.drawer import Drawer
    from ..data.settling import out_of_step

    drawer = Drawer(schema, settings.seed, settings.timezone)
    return out_of_step(database, schema, drawer.here)
