"""What may be a relation that the database does not know of, told by names and by what is stored."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

from ..rules.sql import quote
from ..storage.backend import Database
from ..storage.catalog import FoundReference
from . import names
from .drafts import Draft, Line
from .facts import Fact
from .tables import Adoption, reference_line

_LOOKED_AT = 1_000
"""Values that are looked up: enough to tell what leads nowhere."""
_ENDS = ("id", "key", "fk", "no", "nr", "code")
_ABOVE = frozenset(("parent", "mother", "father", "above", "superior", "vorgesetzter", "eltern"))
"""What rows call others of their own kind."""
_ANY = frozenset(("id", "uid", "key", "code", "name", "no", "nr", "number", "type", "kind"))
"""What keys are called that say nothing of their table."""


def proposed(work: Adoption, database: Database) -> None:
    """Says in comments what may be a relation; the values that are stored lead somewhere then."""
    by_name: dict[str, str] = {}
    by_key: dict[str, str] = {}
    for table in work.drafts:
        words = names.words_of(table)
        by_name["_".join([*words[:-1], names.singular(words[-1])]) if words else table] = table
        by_name.setdefault(names.singular(words[-1]) if words else table, table)
        key = work.tables[table].key
        if len(key) == 1 and names.words_of(key[0])[-1:] != ["id"] and key[0].lower() not in _ANY:
            by_key.setdefault(key[0].lower(), table)
    for draft in work.drafts.values():
        for line in draft.lines:
            if line.target or not line.column or line.name == "id" or line.says("set by database"):
                continue
            said = next(_said(work, database, draft, line, by_name, by_key), "")
            if said:
                line.comments.append(f"This may be a relation: {said}")


def _said(
    work: Adoption,
    database: Database,
    draft: Draft,
    line: Line,
    by_name: Mapping[str, str],
    by_key: Mapping[str, str],
) -> Iterator[str]:
    """The relations that a column may be, the likeliest first."""
    for target, named in _meant(line, draft.table, by_name, by_key):
        keys = work.tables[target].key
        own = target == draft.table and line.column in keys
        if len(keys) != 1 or own or line.type.split()[0] != _key_type(work, target):
            continue
        given, leading = _leading(database, draft.table, line, target, keys[0])
        # A name that says what it leads to is enough where nothing is stored yet.
        if leading * 2 > given or (named and not given):
            loose = f" ({given - leading} of {given} lead nowhere)" if leading < given else ""
            yield f"{_line(work, draft, line, target)}{loose}"


def _meant(
    line: Line, table: str, by_name: Mapping[str, str], by_key: Mapping[str, str]
) -> Iterator[tuple[str, bool]]:
    """The tables that a column's name may mean, and whether it says that it leads there."""
    words = names.words_of(line.column)
    ends = len(words) > 1 and words[-1] in _ENDS
    stem = words[:-1] if ends else words
    for start in range(len(stem)):
        found = by_name.get("_".join(stem[start:]))
        if found is not None and (ends or not start):
            yield found, ends
    if stem and stem[-1] in _ABOVE:
        yield table, True
    found = by_key.get(line.column.lower())
    if found is not None and found != table:
        yield found, False


def _key_type(work: Adoption, table: str) -> str:
    line = work.drafts[table].line(work.tables[table].key[0])
    return line.type.split()[0] if line is not None else "integer"


def _leading(database: Database, table: str, line: Line, target: str, key: str) -> tuple[int, int]:
    """How many values of a column were looked up, and how many of them are keys of another table."""
    nothing = "0" if line.type.startswith("integer") else "''"
    column = quote(line.column)
    some = (
        f"(SELECT {column} AS led FROM {quote(table)} "
        f"WHERE {column} IS NOT NULL AND {column} <> {nothing} LIMIT {_LOOKED_AT})"
    )
    there = f"EXISTS (SELECT 1 FROM {quote(target)} WHERE {quote(key)} = some_rows.led)"
    asked = f"SELECT count(*), sum(CASE WHEN {there} THEN 1 ELSE 0 END) FROM {some} AS some_rows"
    try:
        with database.asking() as take_back:
            try:
                ((given, leading),) = database.run(asked)
            except database.errors:
                take_back()
                return 0, 0
    except database.errors:
        return 0, 0
    return int(given), int(leading or 0)


def _line(work: Adoption, draft: Draft, line: Line, target: str) -> str:
    """What would be declared instead of a column's line."""
    table = work.tables[draft.table]
    reference = FoundReference((line.column,), target, work.tables[target].key, "NO ACTION")
    # Its name is free then.
    said = reference_line(work, table, reference, replace(draft, taken=draft.taken - {line.name}))
    fact = work.facts.get(draft.table, {}).get(line.column, Fact())
    if said.says("required") and (fact.zeros or fact.blank):
        said.modifiers.remove("required")
        said.modifiers.append(f'empty stored as "{0 if fact.zeros else ""}"')
    return said.text().strip()
