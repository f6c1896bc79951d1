"""What a database remembers of made-up rows: which they are, and a fill that is under way."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from ..storage.backend import Database
from ..storage.books import MADE

UNDER_WAY = "welbik_filling"
_MADE = {"of": "text 200", "said": "text"}
_UNDER_WAY = {"said": "text"}


@dataclass(frozen=True)
class Run:
    """Rows of one table that were made together.

    `first` up to and without `last` are their numbers, `key` the key of the first where keys are
    numbers of their own; those in `skipped` were not stored. `columns` are those that they were made
    with, `at` when that was, in seconds since 1970. Rows with keys of other kinds are told by `marks`, in
    their order, which are made of the columns `marked`; see the module `marks`.
    """

    first: int
    last: int
    key: int
    seed: int
    day: str
    at: int
    columns: tuple[str, ...] = ()
    skipped: tuple[int, ...] = ()
    counts: Mapping[str, int] = field(default_factory=dict)
    marks: str = ""
    marked: tuple[str, ...] = ()

    def joined(self, other: Run) -> Run | None:
        """Both as one, where one goes on with what the other began."""
        stored = self.last - self.first - len(self.skipped)
        # Keys that are no numbers do not go on.
        key = self.key if self.marks else self.key + stored
        mine: dict[str, Any] = {"first": self.first, "last": self.last, "key": self.key}
        mine |= {"skipped": self.skipped, "marks": self.marks}
        if other.first != self.last or other.key != key or replace(other, **mine) != self:
            return None
        skipped, marks = (*self.skipped, *other.skipped), self.marks + other.marks
        return replace(self, last=other.last, skipped=skipped, marks=marks)

    @property
    def size(self) -> int:
        return self.last - self.first - len(self.skipped)


class Memory:
    """The made-up rows of a database, by table; `save` within the transaction that changes them."""

    def __init__(self, database: Database) -> None:
        self.database = database
        self.runs: dict[str, list[Run]] = {}
        for of, said in database.book(MADE, _MADE):
            for run in json.loads(said):
                self.add(of, _read(run))

    def prepare(self) -> None:
        """Makes the tables that it is kept in: before any transaction."""
        self.database.keep_book(MADE, _MADE)
        self.database.keep_book(UNDER_WAY, _UNDER_WAY)

    def add(self, table: str, run: Run) -> None:
        runs = self.runs.setdefault(table, [])
        joined = runs[-1].joined(run) if runs else None
        if joined is not None:
            runs[-1] = joined
        else:
            runs.append(run)

    @staticmethod
    def note(database: Database, table: str, run: Run) -> None:
        """Writes one run down beside those that others write down meanwhile."""
        database.add_to_book(MADE, [(table, json.dumps([asdict(run)]))])

    def next_number(self, table: str) -> int | None:
        """The number after those of all rows that were made; None where that is not known."""
        runs = self.runs.get(table)
        return None if runs is None else max((run.last for run in runs), default=0)

    def save(self) -> None:
        rows = [
            (of, json.dumps([asdict(run) for run in runs]))
            for of, runs in sorted(self.runs.items())
        ]
        self.database.write_book(MADE, rows)

    def under_way(self) -> dict[str, Any] | None:
        """What was written down of a fill that has not ended."""
        rows = self.database.book(UNDER_WAY, _UNDER_WAY)
        found: dict[str, Any] | None = json.loads(rows[0][0]) if rows else None
        return found

    def go_on(self, said: Mapping[str, Any] | None) -> None:
        """Writes down how far a fill is; None where it has ended."""
        rows = [] if said is None else [(json.dumps(said),)]
        self.database.write_book(UNDER_WAY, rows)


def _read(said: dict[str, Any]) -> Run:
    lists: dict[str, Any] = {n: tuple(said.pop(n, ())) for n in ("columns", "skipped", "marked")}
    return Run(**said, **lists)
