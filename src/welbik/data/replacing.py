"""Made-up rows taken away, so that they can be made anew; what people entered or changed stays."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator

from ..rules.sql import quote
from ..schema.model import Model, Schema
from ..schema.tables import SchemaNames
from ..storage.backend import Database
from ..storage.tables import tables_of
from .marks import has_marks, marked, numbers_of
from .memory import UNDER_WAY, Memory, Run

_AT_ONCE = 500
"""Keys in one statement."""
_GROWING = 2000
"""Rounds after which what is left of a tree stays: people's rows hang on it."""


def made_up(database: Database, schema: Schema) -> dict[str, int]:
    """How many made-up rows there are, by model, as far as they are known."""
    memory = Memory(database)
    found = {model.name: _count(database, schema, memory, model) for model in schema}
    return {name: rows for name, rows in found.items() if rows}


def _count(database: Database, schema: Schema, memory: Memory, model: Model) -> int:
    if has_marks(model):
        return len(_keys(database, schema, memory, model))
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
    removed = dict.fromkeys(schema.models, 0)
    with database.transaction():
        gone = True
        while gone:
            # Pairs and circles lead against the order of models: what they held is free then.
            gone = False
            for model in reversed(schema.parents_first):
                rows = _remove(database, schema, memory, model)
                removed[model.name] += rows
                gone = gone or bool(rows)
        for model in schema:
            if model.table in memory.runs:
                # What is made next begins with the first row again.
                memory.runs[model.table] = [_nothing()]
        memory.save()
        if UNDER_WAY in database.table_names():
            memory.go_on(None)
    return {name: rows for name, rows in removed.items() if rows}


def _remove(database: Database, schema: Schema, memory: Memory, model: Model) -> int:
    # Statements with values have names of their own.
    name = database.name if has_marks(model) else quote
    own = name(SchemaNames(schema).key(model.name))
    free = "".join(
        f" AND {one}" for one in _free(schema, model, f"{name(model.table)}.{own}", name)
    )
    made: list[tuple[str, list[object]]] = []
    if has_marks(model):
        keys = _keys(database, schema, memory, model)
        for at in range(0, len(keys), _AT_ONCE):
            some = keys[at : at + _AT_ONCE]
            made.append((f"{own} IN ({', '.join([database.mark] * len(some))})", some))
    elif where := _made(memory.runs.get(model.table, []), model):
        made.append((where + _untouched(database, memory, model), []))
    count = 0
    for _ in range(_GROWING):
        gone = sum(_take(database, schema, model, f"{which}{free}", of) for which, of in made)
        if not gone:
            break
        count += gone
    return count


def _take(database: Database, schema: Schema, model: Model, where: str, of: list[object]) -> int:
    """Takes the rows away that meet a condition over values, and their pairs; returns how many."""
    name = database.name if of else quote
    own, table = name(SchemaNames(schema).key(model.name)), name(model.table)
    keys = f"SELECT {own} FROM {table} WHERE {where}"
    gone = int(database.run(f"SELECT count(*) FROM ({keys}) AS gone", of)[0][0])
    if not gone:
        return 0
    for owner in schema:
        for many in owner.many:
            if many.declares and many.model == model.name:
                pairs = f"DELETE FROM {name(many.table)} WHERE {name(many.column)} IN"
                database.run(f"{pairs} (SELECT * FROM ({keys}) AS gone)", of)
    database.run(f"DELETE FROM {table} WHERE {own} IN (SELECT * FROM ({keys}) AS gone)", of)
    return gone


def _keys(database: Database, schema: Schema, memory: Memory, model: Model) -> list[object]:
    """The keys of made-up rows that are as they were made, as the driver takes them."""
    names = SchemaNames(schema)
    type_ = database.type_of(model.table, names.key(model.name))
    found = []
    for run in memory.runs.get(model.table, []):
        rows = marked(database, names, model, run, numbers_of(run))
        found += [database.bound(key, type_) for _, key, _ in rows]
    return found


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


def _free(schema: Schema, model: Model, key: str, name: Callable[[str], str]) -> Iterator[str]:
    """Conditions that no row which stays leads to a row; `name` writes tables and columns."""
    for other in schema:
        for reference in other.references:
            if reference.target != model.name:
                continue
            # Asked under another name: a tree leads to itself.
            condition = f"leads.{name(reference.column)} = {key}"
            yield f"NOT EXISTS (SELECT 1 FROM {name(other.table)} AS leads WHERE {condition})"
        for many in other.many:
            if many.declares and many.target == model.name:
                condition = f"leads.{name(many.target_column)} = {key}"
                yield f"NOT EXISTS (SELECT 1 FROM {name(many.table)} AS leads WHERE {condition})"


def _nothing() -> Run:
    return Run(0, 0, 0, 0, "", 0)
