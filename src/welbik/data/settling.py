"""Fixed rows in a database, told by their unique text wherever they stand.

What is missing is added, what the declaration changed is changed, what a person changed is
left and named.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from ..schema.model import Field, FixedRows, Model, Reference, Schema
from ..schema.tables import SchemaNames
from ..storage.backend import Database
from ..storage.neutral import encode
from ..storage.tables import tables_of
from .columns import Here
from .fixed import declared_value

Values = dict[str, object]
"""Encoded values by column."""


@dataclass
class Settling:
    """The fixed rows of a model beside what is stored of them.

    `missing` are those to add, as encoded values; `changes` what the declaration changed, by
    the key of the row; `remarks` say what was left as a person has it. `keys` has the key of each row
    by its place in the declaration, None where it is not stored.
    """

    missing: dict[int, Values] = field(default_factory=dict)
    changes: list[tuple[object, Values]] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    keys: list[object] = field(default_factory=list)


class FixedTable:
    """The fixed rows of one model in a database."""

    def __init__(
        self,
        database: Database,
        schema: Schema,
        here: Here,
        model: Model,
        keys: Mapping[str, Sequence[object]],
    ) -> None:
        self.database, self.schema, self.here, self.model = database, schema, here, model
        self.rows = schema.rows[model.name]
        self.key = SchemaNames(schema).key(model.name)
        self._others = keys
        self.names = _telling(model, self.rows)
        self.declared = [self._declared(at) for at in range(len(self.rows.rows))]

    def settle(self) -> Settling:
        """Compares, and changes what the declaration changed. The caller holds the transaction."""
        found = self.compare()
        for key, values in found.changes:
            self.database.update(self.model.table, self.key, key, values)
        return found

    def compare(self) -> Settling:
        """What is stored beside what is declared, and nothing done."""
        found = Settling()
        stored = self._stored()
        by_text = {self._text(values): key for key, values in stored.items()}
        known = self.database.remembered()
        for at, declared in enumerate(self.declared):
            text = self._text(declared)
            key, before = known.get((self.model.table, text), (None, None))
            if key not in stored:
                if before is not None:
                    found.remarks.append(f"{self._told(text)} was removed by somebody: left out.")
                    found.keys.append(None)
                    continue
                key = by_text.get(text)
            found.keys.append(key)
            if key is None:
                found.missing[at] = declared
            else:
                self._change(found, text, key, stored[key], declared, before)
        texts = set(map(self._text, self.declared))
        for table, text in known:
            if table == self.model.table and text not in texts and known[table, text][0] in stored:
                found.remarks.append(f"{self._told(text)} is not declared any more, and stays.")
        return found

    def remember(self, keys: Sequence[object]) -> None:
        """Writes down what is declared, for the next time; `keys` as `Settling` has them."""
        pairs = zip(self.declared, keys, strict=True)
        rows = {self._text(declared): (key, declared) for declared, key in pairs}
        self.database.remember(self.model.table, rows)

    def _change(
        self,
        found: Settling,
        text: str,
        key: object,
        stored: Values,
        declared: Values,
        before: Mapping[str, object] | None,
    ) -> None:
        theirs = {
            column
            for column, value in declared.items()
            if stored[column] != value
            and (before is None or stored[column] != before.get(column, value))
        }
        ours = {c: v for c, v in declared.items() if stored[c] != v and c not in theirs}
        if ours:
            found.changes.append((key, ours))
        if theirs:
            what = ", ".join(sorted(theirs))
            found.remarks.append(f"{self._told(text)} has another {what} than declared: left so.")

    def _told(self, text: str) -> str:
        return f"{self.model.name} {', '.join(map(str, json.loads(text)))}"

    def _text(self, values: Mapping[str, object]) -> str:
        columns = [self.model.stored(name).column for name in self.names]
        return json.dumps([values[column] for column in columns], ensure_ascii=False)

    def _stored(self) -> dict[object, Values]:
        columns = list(dict.fromkeys(self.declared[0])) if self.declared else []
        keys = self.database.values(self.model.table, self.key)
        lists = [self.database.values(self.model.table, column) for column in columns]
        rows = zip(*lists, strict=True) if columns else [()] * len(keys)
        return {
            key: dict(zip(columns, row, strict=True)) for key, row in zip(keys, rows, strict=True)
        }

    def _declared(self, at: int) -> Values:
        """What a row has for the columns that are named; what is made by itself apart."""
        found: Values = {}
        for name in self.rows.names:
            member = self.model.stored(name)
            if isinstance(member, Reference):
                value = declared_value(self.schema, self.here, member, self.rows, at)
                keys = self._others.get(member.target, ())
                found[member.column] = None if value is None or not keys else keys[value]
                continue
            made = member.kind.self_made
            if made and any(row[self.rows.names.index(name)] is None for row in self.rows.rows):
                continue
            value = declared_value(self.schema, self.here, member, self.rows, at)
            column = np.empty(1, dtype=object)
            column[0] = value
            if isinstance(value, np.datetime64):
                column = np.array([value])
            elif isinstance(value, int) and not isinstance(value, bool):
                column = np.array([value], dtype=np.int64)
            empty = np.array([value is None])
            type_ = member.kind.stored().type
            found[member.column] = None if value is None else encode(type_, column, empty)[0]
        return found


def out_of_step(database: Database, schema: Schema, here: Here) -> int:
    """How many fixed rows are missing, or are not as the declaration has come to say."""
    database.prepare(tables_of(schema), here.timezone)
    keys: dict[str, Sequence[object]] = {}
    count = 0
    for model in schema.parents_first:
        if model.name in schema.rows:
            found = FixedTable(database, schema, here, model, keys).compare()
            keys[model.name] = found.keys
            count += len(found.missing) + len(found.changes)
    return count


def _telling(model: Model, rows: FixedRows) -> tuple[str, ...]:
    """The members by which a fixed row is told from others: what is unique, else all."""
    given = [
        name for at, name in enumerate(rows.names) if all(row[at] is not None for row in rows.rows)
    ]
    for name in given:
        member = model.stored(name)
        if isinstance(member, Field) and (member.unique or name == model.key):
            return (name,)
    for unique in model.uniques:
        if set(unique.names) <= set(given):
            return tuple(unique.names)
    return tuple(given) or rows.names
