"""Bringing a project's database to its declarations, with what must be asked on the way."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from ..language.diagnostics import Report
from ..language.lexer import lines as read_lines
from ..language.source import Span
from ..migrations import FOLDER
from ..migrations.files import DoubledError, Migration, read_migrations
from ..migrations.risks import Risk
from ..migrations.run import Way, allowed, refused
from ..problems import WelbikError
from ..project_files import DECLARATION_LIMIT, read_file
from ..schema.model import Reference, Schema
from .database import (
    Change,
    bring_up,
    change_risks,
    declared_change,
    make_missing,
    open_database,
    take_back,
    unseen,
    way_of,
    write_migration,
)
from .declarations import schema_of
from .locking import alone
from .settings import Settings
from .writing import write_all


@dataclass(frozen=True)
class Asking:
    """Who answers what must be asked, and hears what is done; nobody answers without a terminal.

    `called` is given what went, what came and of which model; `loss` the values that go; `make`
    what is missing; `number` the file of a migration that gets another number, its new name, and why.
    """

    tell: Callable[[str], None]
    called: Callable[[str, str, str], bool] | None = None
    loss: Callable[[Sequence[Risk]], bool] | None = None
    make: Callable[[str], bool] | None = None
    number: Callable[[str, str, str], bool] | None = None


def possible_change(settings: Settings, schema: Schema | None = None) -> Change:
    """What the declarations ask for; raises WelbikError where some of it can't be done.

    `schema` is what they say, where they were read already.
    """
    change = declared_change(settings.root, schema or schema_of(settings.root))
    if change.difference.refused:
        reasons = "\n".join(f"  {reason}." for reason in change.difference.refused)
        raise WelbikError(f"these changes can't be made:\n{reasons}", "nothing was changed")
    return change


def migrate(
    settings: Settings, asking: Asking, *, allow_loss: bool = False, brief: bool = False
) -> list[Migration]:
    """Writes what has changed as a migration and runs all that the database has not seen.

    A change that the rows stored don't allow is refused before anything is written; one that
    takes values away needs `allow_loss`, or a yes. `brief` tells no single steps.
    """
    with alone(settings.root):
        _numbered(settings, asking)
        change = _as_called(settings, possible_change(settings), asking)
        done = _waiting(settings, change, asking, allow_loss)
        if not change.difference.steps:
            return done
        change = checked(settings, change, asking, allow_loss)
        for step in () if brief else change.difference.steps:
            asking.tell(step.describe())
        name = write_migration(settings.root, change)
        try:
            asking.tell(f"wrote {name}")
            return done + bring_up(settings, _telling(settings, change, asking, allow_loss))
        except BaseException:
            if take_back(settings, name):
                asking.tell(f"took {name} back")
            raise


def _numbered(settings: Settings, asking: Asking) -> None:
    """Gives the one of two migrations with one number that has not run here the next one."""
    try:
        read_migrations(settings.root / FOLDER)
    except DoubledError as error:
        ran = _names_that_ran(settings)
        new = [path for path in error.files if path.stem not in ran]
        if len(new) == 2:
            # None has run: the later one by its name gives way.
            new = new[1:]
        if len(new) != 1:
            raise
        old, name = new[0], f"{error.number:04}{new[0].name[4:]}"
        if asking.number is None or not asking.number(old.name, name, error.message):
            error.remedy = (
                f"{old.name} has not run on this database; where it has run nowhere else, rename it: "
                f"mv {FOLDER}/{old.name} {FOLDER}/{name}"
            )
            raise
        old.rename(old.with_name(name))
        asking.tell(f"renamed {FOLDER}/{old.name} to {name}")
        _numbered(settings, asking)


def _names_that_ran(settings: Settings) -> set[str]:
    try:
        with open_database(settings) as database:
            return {name for name, _, _ in database.applied()} | database.begun()
    except WelbikError:
        return set()


def _telling(settings: Settings, change: Change, asking: Asking, allow_loss: bool) -> Way:
    """How migrations are run, each told once it has."""
    return replace(
        way_of(settings, change.schema, allow_loss=allow_loss),
        tell=lambda migration: asking.tell(f"ran {migration.name}"),
        copied=lambda place: asking.tell(f"kept {place}, a copy from before"),
    )


def _waiting(
    settings: Settings, change: Change, asking: Asking, allow_loss: bool
) -> list[Migration]:
    """Runs the migrations that are there and the database has not had."""
    if not _unseen(settings, change, asking):
        return []
    return bring_up(settings, _telling(settings, change, asking, allow_loss))


def _unseen(settings: Settings, change: Change, asking: Asking) -> list[Migration]:
    """The migrations that the database has not had; a missing database is made where one says so."""
    try:
        return unseen(settings, change)
    except WelbikError as error:
        if not error.no_database or asking.make is None or not asking.make(error.message):
            raise
        make_missing(settings)
        return unseen(settings, change)


def checked(settings: Settings, change: Change, asking: Asking, allow_loss: bool = False) -> Change:
    """The change once the rows stored have nothing against it, its losses allowed."""
    found = change_risks(settings, change)
    for risk in found:
        if risk.kind == "cost":
            asking.tell("\n".join(risk.lines()))
    lost = [risk for risk in found if risk.kind == "loss"]
    if lost and not any(risk.kind == "refused" for risk in found):
        if allow_loss or (asking.loss is not None and asking.loss(lost)):
            found = [replace(risk, allowed=True) for risk in found]
        elif asking.loss is not None:
            raise WelbikError(
                "nothing was changed", "put what is gone back into the declarations to keep it"
            )
    error = refused(found, "this change")
    if error is not None:
        hints = change.difference.hints if lost else []
        error.remedy = "; ".join([*hints, error.remedy])
        raise error
    steps = allowed(change.difference.steps, found)
    return replace(change, difference=replace(change.difference, steps=steps))


def _end_of(span: Span) -> int:
    """Where what is declared at a place ends, continued lines included."""
    report = Report()
    for line in read_lines(span.source, report):
        if line.pieces[0][0] <= span.start <= line.pieces[-1][1]:
            return next(t.end for t in reversed(line.tokens(report)) if t.kind != "end")
    return span.end


def _as_called(settings: Settings, change: Change, asking: Asking) -> Change:
    """The change once it is known what is only called otherwise; that is declared then."""
    if asking.called is None:
        return change
    answered = False
    models = {model.table: model for model in change.schema}
    for table, old, new in change.difference.likely:
        model = models[table]
        member = next((m for m in model.members if m.column == new), None)
        if member is None or member.was or member.was_value:
            continue
        name = old.removesuffix("_id") if isinstance(member, Reference) else old
        if not asking.called(name, member.name, model.name):
            continue
        source = member.span.source
        text = (read_file(settings.root, source.name, DECLARATION_LIMIT) or b"").decode()
        if text != source.text:
            continue
        end = _end_of(member.span)
        write_all(settings.root, {source.name: f"{text[:end]}, was {name}{text[end:]}"})
        asking.tell(f"declared it in {source.name}: {member.name} …, was {name}")
        answered = True
        break
    return _as_called(settings, possible_change(settings), asking) if answered else change
