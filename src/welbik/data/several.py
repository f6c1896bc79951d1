"""Values that together lead to a row of another table, as tables of others may ask of several columns.

No relation of the declarations says so; the database refuses values that are together those of no row.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from itertools import compress
from typing import NamedTuple

import numpy as np

from ..problems import WelbikError
from ..schema.model import Field, Model, Reference, Schema
from ..storage.backend import Database
from .columns import Mask
from .making import filled
from .raw import Places
from .streams import key_of, mixed

_TRIES = 60
"""Rows to lead to that are tried where others have the same already."""


class Several(NamedTuple):
    """Columns of a model's table that lead to a row of another by `others` of that."""

    columns: tuple[str, ...]
    target: Model
    others: tuple[str, ...]


def several_of(database: Database, schema: Schema) -> Mapping[str, Sequence[Several]]:
    """What leads by several columns in tables that others made, by model."""
    models = {model.table: model for model in schema}
    found: dict[str, list[Several]] = defaultdict(list)
    if not any(model.as_it_is for model in schema):
        return found
    for name, table in database.catalog().tables.items():
        model = models.get(name)
        mine = {member.column for member in filled(model)} if model is not None else set()
        for one in table.references:
            target = models.get(one.table)
            if model is None or target is None or len(one.columns) < 2 or target is model:
                continue
            if mine >= {*one.columns}:
                found[model.name].append(Several(one.columns, target, one.targets))
    return found


class _Ways(NamedTuple):
    """The rows that may be led to, all of them and `by` what those columns have of them that are relations."""

    of: Several
    rows: Sequence[tuple[object, ...]]
    led: tuple[str, ...]
    by: Mapping[tuple[object, ...], Sequence[tuple[object, ...]]]


class Leading:
    """Has new rows of a model lead to rows by several columns."""

    def __init__(
        self, database: Database, seed: int, model: Model, several: Sequence[Several]
    ) -> None:
        self.database, self.model, self.several = database, model, several
        self.names = [member.column for member in filled(model)]
        self.key = key_of(seed, model.name, "several")
        moved = {column for one in several for column in one.columns}
        groups = [unique.names for unique in model.uniques]
        groups += [tuple(model.keys)] if len(model.keys) > 1 else []
        told = [tuple(model.stored(name).column for name in names) for names in groups]
        self.groups = [columns for columns in told if moved & {*columns}]
        self.used = [set(self._stored(model, columns)) for columns in self.groups]
        self.ways = [self._ways(one) for one in several]

    def _stored(self, model: Model, columns: Sequence[str]) -> list[tuple[object, ...]]:
        values = [self.database.values(model.table, column) for column in columns]
        return [row for row in zip(*values, strict=True) if None not in row]

    def put(self, columns: list[list[object]], index: Places, first: int) -> Mask:
        """Puts values that lead somewhere in the place of drawn ones, from a row on; which rows could be kept."""
        kept = np.ones(len(index), dtype=bool)
        chance = mixed(index.astype(np.uint64), self.key)
        for at in range(first, len(index)):
            row = {name: column[at] for name, column in zip(self.names, columns, strict=True)}
            kept[at] = all(self._lead(way, row, int(chance[at])) for way in self.ways)
            if kept[at]:
                for used, group in zip(self.used, self.groups, strict=True):
                    used.add(tuple(row[name] for name in group))
                for name, column in zip(self.names, columns, strict=True):
                    column[at] = row[name]
        return kept

    def _ways(self, one: Several) -> _Ways:
        rows = sorted(set(self._stored(one.target, one.others)), key=str)
        led = [isinstance(self._member(name), Reference) for name in one.columns]
        by: dict[tuple[object, ...], list[tuple[object, ...]]] = defaultdict(list)
        for there in rows:
            by[tuple(compress(there, led))].append(there)
        return _Ways(one, rows, tuple(compress(one.columns, led)), by)

    def _lead(self, way: _Ways, row: dict[str, object], chance: int) -> bool:
        """Whether a row could be led to one that is free for it; it is then."""
        one = way.of
        if any(row[name] is None for name in one.columns):
            return True
        if not way.rows:
            return self._leave_empty(one, row)
        fitting = way.by.get(tuple(row[name] for name in way.led), way.rows)
        for step in range(min(_TRIES, len(fitting))):
            there = fitting[(chance + step) % len(fitting)]
            tried = row | dict(zip(one.columns, there, strict=True))
            groups = (tuple(tried[name] for name in group) for group in self.groups)
            if all(group not in used for group, used in zip(groups, self.used, strict=True)):
                row.update(tried)
                return True
        return False

    def _leave_empty(self, one: Several, row: dict[str, object]) -> bool:
        free = [name for name in one.columns if not self._member(name).required]
        if not free:
            told = " and ".join(self._member(name).name for name in one.columns)
            raise WelbikError(
                f"every {self.model.name} leads to a {one.target.name} by {told}, and there is none",
                f"make some first: welbik fill --add 10 {one.target.name}",
            )
        row[free[0]] = None
        return True

    def _member(self, column: str) -> Field | Reference:
        return next(member for member in filled(self.model) if member.column == column)
