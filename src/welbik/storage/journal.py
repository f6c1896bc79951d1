"""Databases whose changes of tables commit by themselves: what is done is written down step by step.

A migration that was broken off, by an error or a pulled plug, goes on where it was.
"""

from __future__ import annotations

from abc import abstractmethod

from ..problems import WelbikError
from .backend import Database, Statements

_PROGRESS = "welbik_progress"


class Journal(Database):
    """A database that can take no change of a table back."""

    @abstractmethod
    def was_done(self, error: Exception) -> bool:
        """Whether a statement failed because it had been done before."""

    def begun(self) -> set[str]:
        return {*self._progress()}

    def _progress(self) -> dict[str, int]:
        """How many statements of a migration that was broken off are done, by its name."""
        if _PROGRESS not in self.table_names():
            return {}
        return {str(n): int(d) for n, d in self.run(f'SELECT "name", "done" FROM "{_PROGRESS}"')}

    def _run_all(self, name: str, digest: str, statements: Statements) -> None:
        self._make(_PROGRESS, {"name": "text 200", "done": "integer"}, "name")
        begun = self._progress().get(name)
        if begun is None:
            self._add(_PROGRESS, [(name, 0)])
        for number, statement in enumerate(statements):
            if number < (begun or 0):
                continue
            try:
                self._do(statement)
            except self.errors as error:
                # It may have been done just before the connection, or the machine, was lost.
                if not (number == begun and self.was_done(error)):
                    raise self._half_done(name, number, len(statements), error) from error
            self.run(f'UPDATE "{_PROGRESS}" SET "done" = %s WHERE "name" = %s', (number + 1, name))
        self.run(f'DELETE FROM "{_PROGRESS}" WHERE "name" = %s', (name,))

    def _half_done(self, name: str, done: int, of: int, error: Exception) -> WelbikError:
        if not done:
            self.run(f'DELETE FROM "{_PROGRESS}" WHERE "name" = %s', (name,))
            return self.refused(error)
        return WelbikError(
            f"the database refused a change: {self.told(error)}",
            f"{done} of the {of} statements of {name} are done; mend what it says, then run "
            "again: welbik migrate (it goes on from there)",
        )
