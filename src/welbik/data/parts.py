"""Shares of all made-up rows, each made on any machine: together they are the whole, row for row."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from ..problems import WelbikError
from ..schema.model import Field, Many, Model, Schema
from ..schema.tables import SchemaNames
from ..storage.backend import Database
from .columns import Drawn
from .making import BATCH, Columns, Maker, Making, filled
from .marks import columns_of, has_marks, marks_of
from .memory import Memory, Run
from .pairs import pairs_of, refuse_beyond_counts

_POLL_SECONDS = 1.0
_SHARE = 200_000
"""Rows that are stored together."""


class Part(NamedTuple):
    """The `number`-th of `of` shares, counted from 1."""

    number: int
    of: int

    def __str__(self) -> str:
        return f"{self.number}/{self.of}"

    def range(self, rows: int) -> tuple[int, int]:
        """The numbers of its rows: the first, and the one after the last."""
        return rows * (self.number - 1) // self.of, rows * self.number // self.of

    @property
    def whole(self) -> bool:
        return self.of == 1


def read_part(text: str) -> Part:
    """`3/16`; raises WelbikError where it is none."""
    number, _, of = text.partition("/")
    if number.isdigit() and of.isdigit() and 1 <= int(number) <= int(of):
        return Part(int(number), int(of))
    raise WelbikError(f"{text!r} is no part", "write it as 3/16: the third of sixteen", status=2)


class Tables:
    """Every table with made-up rows, pairs of many-to-many relations last, in batches.

    Raises WelbikError where a rule reads pairs in a way that only a database is asked for.
    """

    def __init__(self, making: Making) -> None:
        refuse_beyond_counts(making.schema)
        self.maker = Maker(making)
        self.schema = making.schema
        self.counts = making.counts

    def each(self) -> Iterator[Model | Many]:
        """What has a table, so that those that rows refer to come first."""
        yield from self.schema.parents_first
        for model in self.schema:
            yield from (many for many in model.many if many.declares)

    def rows(self, of: Model | Many) -> int:
        """How many rows are made; of pairs, how many rows have some."""
        return int(self.counts.get(of.name if isinstance(of, Model) else of.model, 0))

    def columns(self, of: Model | Many) -> list[str]:
        return self.maker.names(of) if isinstance(of, Model) else [of.column, of.target_column]

    def types(self, of: Model | Many) -> list[str]:
        """The neutral types of the columns."""
        if isinstance(of, Many):
            return [self._key_type(of.model), self._key_type(of.target)]
        own = ["integer"] if of.numbered else []
        times = ["timestamp"] * 2 if "times" in of.keeps else []
        members = [
            m.kind.stored().type if isinstance(m, Field) else self._key_type(m.target)
            for m in filled(of)
        ]
        return [*own, *members, *times]

    def _key_type(self, name: str) -> str:
        key = self.schema.key_of(self.schema.models[name])
        return key.kind.stored().type if isinstance(key, Field) else "integer"

    def batch(self, of: Model | Many, start: int, stop: int) -> Columns:
        """The columns of the rows between two numbers."""
        if isinstance(of, Model):
            return self.maker.columns(of, start, stop)
        return pair_columns(self.maker, of, start, stop)


def pair_columns(maker: Maker, many: Many, start: int, stop: int) -> Columns:
    """The pairs of the rows between two numbers, as keys."""
    schema, counts = maker.making.schema, maker.making.counts
    model, target = schema.models[many.model], schema.models[many.target]
    index = np.arange(start, stop)
    have, rows = (int(counts.get(one.name, 0)) for one in (target, model))
    owners, others = pairs_of(maker.drawer, model, many, index, have, (rows, 0))
    mine = maker.keys(model, Drawn(index[owners], None))
    return [mine, maker.keys(target, Drawn(others, None))]


def store_part(
    database: Database,
    making: Making,
    part: Part,
    tell: Callable[[str, int], None],
    *,
    wait: bool = False,
) -> dict[str, int]:
    """Stores a share of every table in a database that others store shares in meanwhile.

    Returns how many rows of each table were added. What is there of this part stays. Raises WelbikError
    where rows are not there that some of these refer to, or waits for them.
    """
    refuse_circles(making.schema)
    Memory(database).prepare()
    tables = Tables(making)
    added: dict[str, int] = {}
    for of in tables.each():
        first, last = part.range(tables.rows(of))
        for begin in range(first, last, _SHARE):
            end = min(last, begin + _SHARE)
            _await(database, tables, of, begin, wait=wait, part=part)
            rows = store_range(database, tables, of, begin, end)
            if rows:
                added[of.table] = added.get(of.table, 0) + rows
            tell(of.table if isinstance(of, Many) else of.name, end - begin)
    return added


def refuse_circles(schema: Schema) -> None:
    """Raises WelbikError where models refer to each other in a circle: no part could come first."""
    rank = {model.name: at for at, model in enumerate(schema.parents_first)}
    for model in schema:
        for reference in model.references:
            if rank[reference.target] > rank[model.name]:
                raise WelbikError(
                    f"{model.name} and {reference.target} refer to each other in a circle: their rows are "
                    "stored together, and not in parts",
                    "fill as a whole: welbik fill; or write files: --to FOLDER",
                )


def store_range(database: Database, tables: Tables, of: Model | Many, first: int, last: int) -> int:
    """Stores the rows between two numbers, or nothing where they are there; returns how many."""
    making = tables.maker.making
    if covers(Memory(database).runs.get(of.table, []), first, last):
        return 0
    names, count = tables.columns(of), 0
    numbered = isinstance(of, Model) and of.numbered
    key = making.firsts[of.name] + first if numbered and isinstance(of, Model) else 0
    columns = tuple(m.column for m in filled(of)) if isinstance(of, Model) else ()
    day = making.today.isoformat()
    run = Run(first, last, key, making.seed, day, making.now, columns, (), making.counts)
    keys: list[object] = []
    with database.alongside():
        for begin in range(first, last, BATCH):
            made = tables.batch(of, begin, min(last, begin + BATCH))
            if made and len(made[0]):
                database.insert(of.table, names, made)
                count += len(made[0])
                if isinstance(of, Model) and has_marks(of):
                    keys += made[names.index(SchemaNames(making.schema).key(of.name))]
        if isinstance(of, Model) and has_marks(of):
            marks = marks_of(database, SchemaNames(making.schema), of, keys)
            run = replace(run, marks=marks, marked=columns_of(of))
        Memory.note(database, of.table, run)
    return count


def covers(runs: list[Run], first: int, last: int) -> bool:
    """Whether rows between two numbers are all there."""
    at = first
    for run in sorted(runs, key=lambda run: run.first):
        if run.first <= at < run.last:
            at = run.last
    return at >= last


def needed(tables: Tables, of: Model | Many, begin: int) -> dict[str, int]:
    """How many rows of which tables must be there before those of one from a number on."""
    schema: Schema = tables.schema
    if isinstance(of, Many):
        both = [schema.models[of.model], schema.models[of.target]]
        return {model.table: tables.rows(model) for model in both}
    found = {}
    for reference in of.references:
        target = schema.models[reference.target]
        found[target.table] = begin if target is of else tables.rows(target)
    return found


def _await(
    database: Database, tables: Tables, of: Model | Many, begin: int, *, wait: bool, part: Part
) -> None:
    """Sees that all is there that rows refer to."""
    while True:
        runs = Memory(database).runs
        lacking = {
            table: rows
            for table, rows in needed(tables, of, begin).items()
            if not covers(runs.get(table, []), 0, rows)
        }
        if not lacking:
            return
        if not wait:
            told = ", ".join(
                _lacking(runs.get(table, []), table, rows, part) for table, rows in lacking.items()
            )
            raise WelbikError(
                f"part {part} of {of.table} refers to rows that are not there yet: {told}",
                "store those parts first, then run this one again; or let it wait: --wait",
            )
        time.sleep(_POLL_SECONDS)


def _lacking(runs: list[Run], table: str, rows: int, part: Part) -> str:
    missing = [
        str(number)
        for number in range(1, part.of + 1)
        if not covers(runs, *Part(number, part.of).range(rows))
    ]
    return f"{table} (part {', '.join(missing[:8])}{' …' if len(missing) > 8 else ''} of {part.of})"
