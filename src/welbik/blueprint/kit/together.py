"""One field set on several rows: tried on each in one transaction, stored on all or on none."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

from flask import current_app
from sqlalchemy.exc import DBAPIError, IntegrityError
from werkzeug.exceptions import HTTPException

from . import again, clock
from .database import fetch, session
from .forms import Form
from .show import NOTHING

AT_ONCE = 200
"""Beyond so many rows the page tells how far it is."""
_STEP = 100
_SHOWN = 100
_TAKEN = "Another row has these values already."
_BUSY = (
    "The database was busy, so nothing is stored. Wait a moment, then send it again."
)
_FAILED = "Something went wrong, so nothing is stored."


class Outcome(NamedTuple):
    """What becomes of a row: the value it has and gets, or what is wrong with that."""

    row: str
    key: Any
    before: str
    after: str
    problem: str


class Together:
    """What setting a field does to some rows; `typed` has what each gets, by its key.

    Going through it does the work, and says how many rows are done. It is stored at the end
    where that is wanted (`sure`) and no row is refused.
    """

    def __init__(
        self, form: Form, name: str, typed: Mapping[Any, str], *, sure: bool
    ) -> None:
        self.form = form
        self.name = name
        self.typed = typed
        self.sure = sure
        self.moment: dt.datetime = clock.now()
        self.outcomes: list[Outcome] = []
        self.said = ""
        self.stored = False

    def __iter__(self) -> Iterator[int]:
        try:
            yield from self._steps()
        except HTTPException:
            raise
        except Exception as error:
            # The page has begun: it goes on and says so.
            session().rollback()
            passing = isinstance(error, DBAPIError) and again.is_passing(error)
            self.said = _BUSY if passing else _FAILED
            if not passing:
                current_app.logger.error("A change of several rows.", exc_info=error)

    def _steps(self) -> Iterator[int]:
        for done, (key, text) in enumerate(self.typed.items(), 1):
            self.outcomes.append(self._try(key, text))
            if done % _STEP == 0:
                yield done
        if self.sure and not self.refused:
            session().commit()
            self.stored = True
        else:
            session().rollback()

    def finish(self) -> None:
        """Does all of it, where nobody waits for news."""
        for _ in self._steps():
            pass

    @property
    def refused(self) -> int:
        return sum(bool(one.problem) for one in self.outcomes)

    @property
    def shown(self) -> list[Outcome]:
        """Those to be looked at: what is refused comes first, and of many only some."""
        return sorted(self.outcomes, key=lambda one: not one.problem)[:_SHOWN]

    @property
    def fitting(self) -> list[Any]:
        """The keys of those that can have it."""
        return [one.key for one in self.outcomes if not one.problem]

    def _try(self, key: Any, text: str) -> Outcome:
        """Sets the field of a row in the transaction, if nothing forbids it."""
        field = self.form.fields[self.name]
        row: Any = fetch(self.form.model, key)
        if row is None:
            return Outcome(str(key), key, NOTHING, NOTHING, "It is gone.")
        entry = self.form.of(row)
        told = str(row)
        before = field.told(entry.typed[self.name]) or NOTHING
        entry.typed[self.name] = text
        entry.moment = self.moment
        entry.check(row)
        if not entry.problems:
            try:
                entry.store(row)
            except IntegrityError:
                session().rollback()
                entry.problems[self.name] = _TAKEN
        problem = " ".join(dict.fromkeys(entry.problems.values()))
        return Outcome(told, key, before, field.told(text) or NOTHING, problem)
