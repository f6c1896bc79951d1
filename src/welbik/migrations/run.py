"""Bringing a database to the migrations of a project."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from functools import partial
from zoneinfo import ZoneInfo

from ..problems import WelbikError
from ..storage.backend import UNDO, Database, Statements
from ..storage.books import Anew
from ..storage.catalog import FoundTable
from ..storage.promises import is_rule
from ..storage.tables import Column, Table, Tables
from .entries import change_entries, rename_in_history
from .files import Migration
from .plan import Work, statements
from .risks import Risk, Told, risks
from .steps import (
    AddColumn,
    AddIndex,
    ChangeColumn,
    ChangeEntries,
    ChangeKey,
    CreateTable,
    DropColumn,
    DropIndex,
    DropTable,
    RenameColumn,
    RenameTable,
    SetPromises,
    SetRules,
    Step,
    after,
)

Load = Callable[[str], Callable[[Database], object]]
"""Finds the function that a step names as `module:name`."""


Ask = Callable[[Database, Set[tuple[str, str]]], list[Risk]]
"""Asks stored rows whether they keep promises, by table and text (see `storage.promises`)."""


@dataclass(frozen=True)
class Way:
    """How migrations are run: whose clock counts, what tells rows, and what may be lost."""

    timezone: str
    told: Told = field(default_factory=dict)
    allow_loss: bool = False
    load: Load | None = None
    ask: Ask | None = None
    tell: Callable[[Migration], None] = lambda migration: None
    copied: Callable[[str], None] = lambda place: None

    @property
    def now(self) -> dt.datetime:
        return dt.datetime.now(ZoneInfo(self.timezone))


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


def refused(found: Iterable[Risk], what: str) -> WelbikError | None:
    """The error that some risks are, where they don't let a change be made."""
    against = [risk for risk in found if risk.kind == "refused"]
    lost = [risk for risk in found if risk.kind == "loss" and not risk.allowed]
    if not against and not lost:
        return None
    lines = "\n".join(f"  {line}" for risk in against or lost for line in risk.lines())
    if against:
        remedies = dict.fromkeys(risk.remedy for risk in against if risk.remedy)
        said = "; ".join(remedies) or "mend these rows first, or loosen the declaration"
        return WelbikError(f"{what} can't be run:\n{lines}", f"{said}; nothing was changed")
    return WelbikError(
        f"{what} takes values away:\n{lines}",
        "to allow the loss: welbik migrate --allow-loss; nothing was changed",
    )


def allowed(steps: Iterable[Step], found: Iterable[Risk]) -> list[Step]:
    """Steps that say of themselves that their loss was allowed, where there is one."""
    places = {risk.where for risk in found if risk.kind == "loss"}
    return [
        replace(step, loss=True)
        if isinstance(step, DropColumn | DropTable | ChangeColumn) and step.named in places
        else step
        for step in steps
    ]


def run_migrations(
    database: Database, migrations: Sequence[Migration], way: Way
) -> list[Migration]:
    """Runs what the database has not seen, each migration whole or not at all."""
    half = next((name for name in database.begun() if name.startswith(UNDO)), "")
    if half:
        raise WelbikError(
            f"taking {half.removeprefix(UNDO)} back was broken off half-way",
            "finish that first: welbik migrate --undo --allow-loss",
        )
    todo = pending(migrations, database.applied())
    state = after({}, [s for m in migrations[: len(migrations) - len(todo)] for s in m.steps])
    database.keep_time(way.timezone)
    done: list[Migration] = []
    for migration in todo:
        before = dict(state)
        ran = database.migrate(
            migration.name,
            migration.digest,
            migration.schema,
            lambda m=migration, b=before: _work(database, b, m, way),  # type: ignore[misc]
            migration.number,
        )
        state = after(state, migration.steps)
        if ran:
            done.append(migration)
            way.tell(migration)
    return done


def _work(database: Database, state: Tables, migration: Migration, way: Way) -> Statements:
    """The statements of a migration, once the rows that are stored have nothing against it."""
    now, steps = way.now, migration.steps
    if migration.name not in database.begun():
        state, steps = taken_over(database, state, steps)
        _check_tables(database, state, steps)
        state, steps = with_columns_by_hand(database, state, steps)
    made = statements(database.ddl, state, steps, now)
    if migration.name not in database.begun():
        found = all_risks(database, state, steps, way, now)
        if way.allow_loss:
            found = [replace(risk, allowed=True) for risk in found]
        error = refused(found, migration.name)
        if error is not None:
            raise error
        _keep_copy(database, made, migration.name, way)
    tables = after(state, steps)
    return [
        *loaded(made, way, tables),
        *told_anew(steps),
        *_asked_at_the_end(state, steps, migration.name, way),
    ]


def all_risks(
    database: Database, state: Tables, steps: Sequence[Step], way: Way, now: dt.datetime
) -> list[Risk]:
    """What rows have against steps: what tables hold, and promises where their rows stay as they are."""
    found = risks(database, state, steps, now, way.told)
    early, _ = _asked(state, steps)
    return found + (way.ask(database, early) if early and way.ask is not None else [])


def new_promises(state: Tables, steps: Iterable[Step]) -> set[tuple[str, str]]:
    """The promises that rows are kept to from now on, by table and text."""
    return {
        (step.table, text)
        for step in steps
        if isinstance(step, SetPromises)
        for text in set(step.promises)
        - set(state[step.table].promises if step.table in state else ())
    }


def _asked(
    state: Tables, steps: Sequence[Step]
) -> tuple[set[tuple[str, str]], set[tuple[str, str]]]:
    """The new promises that rows can be asked for beforehand, and those to be asked at the end:
    where rows that they read are others by then."""
    still = (SetPromises, SetRules, AddIndex, DropIndex)
    moved = {
        step.table.name if isinstance(step, CreateTable) else step.table
        for step in steps
        if not isinstance(step, still)
    }
    new = new_promises(state, steps)
    late = {(table, text) for table, text in new if table in moved or is_rule(text) and moved}
    return new - late, late


def _asked_at_the_end(
    state: Tables, steps: Sequence[Step], name: str, way: Way
) -> list[Callable[[Database], object]]:
    """What asks the rows as they are by then; nothing where they were asked before."""
    _, late = _asked(state, steps)
    if not late or way.ask is None:
        return []
    ask = way.ask

    def asked(database: Database) -> None:
        error = refused(ask(database, late), name)
        if error is not None:
            raise error

    return [asked]


def taken_over(
    database: Database, state: Tables, steps: Sequence[Step]
) -> tuple[Tables, tuple[Step, ...]]:
    """Tables and steps where tables that others made are there: nothing is done to those.

    Raises WelbikError where one has not all the columns that are declared of it.
    """
    made = [s.table for s in steps if isinstance(s, CreateTable) and s.table.as_it_is]
    there = database.catalog().tables if made else {}
    found = dict(state)
    for table in made:
        if table.name in there and table.name not in state:
            columns = {column.name for column in there[table.name].columns}
            wanted = [*(c.name for c in table.columns), *([table.number] if table.numbered else [])]
            lacking = [name for name in wanted if name not in columns]
            if lacking:
                raise WelbikError(
                    f"the table {table.name} that is there has no column {lacking[0]}",
                    "declare it as it is: welbik adopt shows how; nothing was changed",
                )
            found[table.name] = table
    if made:
        # Pairs and kept changes of tables that Welbik itself made are beside them.
        found |= _there_too(there, found, steps)
    left = (s for s in steps if not (isinstance(s, CreateTable) and s.table.name in found))
    return found, tuple(left)


def _there_too(
    there: Mapping[str, FoundTable], state: Tables, steps: Iterable[Step]
) -> dict[str, Table]:
    """The tables to be made that are there with just the columns that they would have."""
    found = {}
    for table in (step.table for step in steps if isinstance(step, CreateTable)):
        known = there.get(table.name)
        if known is not None and table.name not in state:
            wanted = {*(c.name for c in table.columns), *([table.number] if table.numbered else [])}
            if wanted == {column.name for column in known.columns}:
                found[table.name] = table
    return found


def with_columns_by_hand(
    database: Database, state: Tables, steps: Sequence[Step]
) -> tuple[Tables, tuple[Step, ...]]:
    """Tables and steps where columns to be added are there already, by somebody's hand: they are
    changed to what is declared, and keep what they hold."""
    found, taken = dict(state), database.table_names()
    out: list[Step] = []
    looks = {
        name: database.look(name)
        for name in {s.table for s in steps if isinstance(s, AddColumn)} & taken
    }
    for step in steps:
        table = found.get(step.table) if isinstance(step, AddColumn) else None
        if (
            not isinstance(step, AddColumn)
            or table is None
            or f"column {step.column.name}" not in looks.get(step.table, {})
        ):
            out.append(step)
            continue
        # Of what kind exactly it is nobody knows: as wide as it can be.
        wide = {"text": "text", "integer": "bigint"}.get(
            step.column.type.split()[0], step.column.type
        )
        there = Column(step.column.name, wide)
        found[step.table] = replace(table, columns=(*table.columns, there))
        out.append(ChangeColumn(step.table, step.column, step.value, step.find))
    return found, tuple(out)


def loaded(made: Sequence[str | Work], way: Way, tables: Tables) -> Statements:
    """Statements, and between them functions: those that steps by hand name, and ours."""
    return [one if isinstance(one, str) else _function(one, way, tables) for one in made]


def told_anew(steps: Sequence[Step]) -> list[Callable[[Database], object]]:
    """What brings up what is known of made-up and fixed rows: they are called otherwise, or told apart otherwise."""
    found = [one for step in steps for one in _told_anew(step)]
    work: list[Callable[[Database], object]] = []
    for at, step in enumerate(steps):
        if isinstance(step, RenameColumn):
            table = step.table
            for later in steps[at:]:
                if isinstance(later, RenameTable) and later.table == table:
                    table = later.name
            work.append(partial(rename_in_history, table=table, old=step.old, new=step.name))
    return [*work, *([partial(Database.tell_anew, changes=found)] if found else [])]


def _told_anew(step: Step) -> Iterator[Anew]:
    if isinstance(step, RenameTable):
        yield Anew(step.table, "called", new=step.name)
    elif isinstance(step, RenameColumn):
        yield Anew(step.table, "column", step.old, step.name)
    elif isinstance(step, AddColumn) and step.value:
        yield Anew(step.table, "came", new=step.column.name)
    elif isinstance(step, DropColumn):
        yield Anew(step.table, "went", step.name)
    elif isinstance(step, DropTable):
        yield Anew(step.table, "dropped")
    elif isinstance(step, ChangeKey):
        # By their keys they are known no more.
        yield Anew(step.table, "dropped")


def _function(step: Work, way: Way, tables: Tables) -> Callable[[Database], object]:
    if isinstance(step, ChangeEntries):
        return partial(change_entries, table=tables[step.table], step=step)
    if way.load is None:
        raise WelbikError(f"{step.python} can't be run from here", "run: welbik migrate")
    return way.load(step.python)


def _keep_copy(database: Database, made: Sequence[str | Work], name: str, way: Way) -> None:
    """Where whole tables are made anew, a copy of what there was stays for a while."""
    if any(not isinstance(one, str) or one.startswith("DROP TABLE") for one in made):
        place = database.keep_copy(name)
        if place:
            way.copied(place)


def _check_tables(database: Database, state: Tables, steps: Iterable[Step]) -> None:
    taken = database.table_names()
    for step in steps:
        if isinstance(step, CreateTable) and step.table.name in taken - state.keys():
            raise WelbikError(
                f"the database already has a table {step.table.name} that no migration made",
                "point 'database' in welbik.toml at an empty database, or rename the model",
            )
