"""Made-up rows taken away, so that they can be made anew; what people entered or changed stays."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator

from ..rules.sql import quote
from ..schema.model import Model, Schema
from ..schema.tables import SchemaNames
from ..storage.backend import Database
from ..storage.tables import tables_of
from .memory import UNDER_WAY, Memory, Run

_GROWING = 2000
"""Rounds after which what is left of a tree stays: people's rows hang on it."""


def made_up(database: Database, schema: Schema) -> dict[str, int]:
    """How many made-up rows there are, by model, as far as they are known."""
    memory = Memory(database)
    found = {model.name: _count(database, memory, model) for model in schema}
    return {name: rows for name, rows in found.items() if rows}


def _count(database: Database, memory: Memory, model: Model) -> int:
    where = _made(memory.runs.get(model.table, []), model)
    if not where:
        return 0
    table = quote(model.table)
    return int(database.run(f"SELECT count(*) FROM {table} WHERE {where}")[0][0])


def remove_made(database: Database, schema: Schema, timezone: str) -> dict[str, int]:
    """Takes away all made-up rows that nobody changed and nobody's own rows lead to.

    Returns how many of each model went. One transaction holds it.
    """
    database.prepare(tables_of(schema), timezone)
    memory = Memory(database)
    memory.prepare()
    removed: dict[str, int] = {}
    with database.transaction():
        for model in reversed(schema.parents_first):
            removed[model.name] = _remove(database, schema, memory, model)
        for model in schema:
            if model.table in memory.runs:
                # What is made next begins with the first row again.
                memory.runs[model.table] = [_nothing()]
        memory.save()
        if UNDER_WAY in database.table_names():
            memory.go_on(None)
    return {name: rows for name, rows in removed.items() if rows}


def _remove(database: Database, schema: Schema, memory: Memory, model: Model) -> int:
    where = _made(memory.runs.get(model.table, []), model)
    if not where:
        return 0
    names = SchemaNames(schema)
    table, key = quote(model.table), f"{quote(model.table)}.{quote(names.key(model.name))}"
    where += _untouched(database, memory, model)
    where += "".join(f" AND {one}" for one in _free(schema, memory, model, key))
    count = 0
    for _ in range(_GROWING):
        keys = f"SELECT {quote(names.key(model.name))} FROM {table} WHERE {where}"
        gone = int(database.run(f"SELECT count(*) FROM ({keys}) AS gone")[0][0])
        if not gone:
            break
        for owner in schema:
            for many in owner.many:
                if many.declares and many.model == model.name:
                    pairs = f"DELETE FROM {quote(many.table)} WHERE {quote(many.column)} IN"
                    database.run(f"{pairs} (SELECT * FROM ({keys}) AS gone)")
        own = quote(names.key(model.name))
        database.run(f"DELETE FROM {table} WHERE {own} IN (SELECT * FROM ({keys}) AS gone)")
        count += gone
    return count


def _made(runs: list[Run], model: Model) -> str:
    """The made-up rows of a table as a condition; empty where none are known."""
    if not model.numbered:
        return ""
    number = f"{quote(model.table)}.{quote(model.number)}"
    parts = [f"{number} BETWEEN {run.key} AND {run.key + run.size - 1}" for run in runs if run.size]
    return f"({' OR '.join(parts)})" if parts else ""


def _untouched(database: Database, memory: Memory, model: Model) -> str:
    """Leaves out what somebody changed after it was made, where rows keep their times."""
    if "times" not in model.keeps:
        return ""
    last = max(run.at for run in memory.runs[model.table])
    at = dt.datetime.fromtimestamp(last, dt.UTC).strftime("%Y-%m-%d %H:%M:%S.%f")
    changed = database.neutral(f"{quote(model.table)}.{quote('updated_at')}", "timestamp")
    return f" AND {changed} <= '{at}'"


def _free(schema: Schema, memory: Memory, model: Model, key: str) -> Iterator[str]:
    """Conditions that no row which stays leads to a row."""
    for other in schema:
        for reference in other.references:
            if reference.target != model.name:
                continue
            table = quote(other.table)
            # Asked under another name: a tree leads to itself.
            condition = f"leads.{quote(reference.column)} = {key}"
            yield f"NOT EXISTS (SELECT 1 FROM {table} AS leads WHERE {condition})"
        for many in other.many:
            if many.declares and many.target == model.name:
                pairs = quote(many.table)
                condition = f"leads.{quote(many.target_column)} = {key}"
                yield f"NOT EXISTS (SELECT 1 FROM {pairs} AS leads WHERE {condition})"


def _nothing() -> Run:
    return Run(0, 0, 0, 0, "", 0)
