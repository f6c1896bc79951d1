"""What SQLite tells of the tables in a file."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from .catalog import Catalog, FoundColumn, FoundIndex, FoundReference, FoundTable, by_table

Run = Callable[[str, Sequence[object]], list[tuple[Any, ...]]]
_CHECK = re.compile(r"\bCHECK\s*\(", re.IGNORECASE)
_NAMED = re.compile(r'CONSTRAINT\s+("(?:[^"]|"")+"|`[^`]+`|\[[^\]]+\]|\w+)\s*$', re.IGNORECASE)
_OWN = re.compile(r"\s+(GENERATED ALWAYS|NOT NULL|NULL|PRIMARY KEY|UNIQUE)\b.*", re.IGNORECASE)


def read_catalog(run: Run, errors: tuple[type[Exception], ...]) -> Catalog:
    """All tables and views of a file."""
    found = Catalog()
    sources: dict[str, str] = {}
    tables: dict[str, FoundTable] = {}
    listed = run(
        "SELECT name, type, coalesce(sql, '') FROM sqlite_master "
        "WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\'",
        (),
    )
    shadows = {name for name, source in _virtual(listed) for name in _parts(name, source)}
    for name, kind, source in listed:
        if name in shadows:
            continue
        table = FoundTable(name, view=kind == "view")
        try:
            _columns(run, table, source)
        except errors as error:
            found.troubles.append((name, f"it can't be read: {error}"))
            continue
        tables[name], sources[name] = table, source
    for table in tables.values():
        if not table.view:
            _references(run, table, tables)
            _indexes(run, table)
            table.checks = [*conditions(sources[table.name])]
    found.tables = by_table(tables.values())
    return found


def _virtual(listed: Sequence[tuple[Any, ...]]) -> Iterator[tuple[str, str]]:
    for name, _, source in listed:
        if source.upper().startswith("CREATE VIRTUAL"):
            yield str(name), str(source)


def _parts(name: str, source: str) -> Iterator[str]:
    """The tables in which a virtual one keeps what it has."""
    ends = "data idx content docsize config segments segdir stat node parent rowid"
    for end in ends.split():
        yield f"{name}_{end}"


def _columns(run: Run, table: FoundTable, source: str) -> None:
    keys: list[tuple[int, str]] = []
    asked = 'SELECT name, type, "notnull", dflt_value, pk, hidden FROM pragma_table_xinfo(?)'
    for name, native, required, default, key, hidden in run(asked, (table.name,)):
        if hidden == 1:
            continue
        native = _OWN.sub("", str(native or "")).strip()
        column = FoundColumn(name, native, bool(required), default, made=hidden in (2, 3))
        if key:
            keys.append((key, name))
        table.columns.append(column)
    table.key = tuple(name for _, name in sorted(keys))
    for column in table.columns:
        # It lets keys be empty where nobody forbids it, and nobody means that.
        column.required |= column.name in table.key
    if len(table.key) == 1:
        own = table.column(table.key[0])
        # Only this very word makes a column the number of its row.
        if (
            own is not None
            and own.native.upper() == "INTEGER"
            and "WITHOUT ROWID" not in source.upper()
        ):
            own.counted = True


def _references(run: Run, table: FoundTable, tables: dict[str, FoundTable]) -> None:
    asked = (
        'SELECT id, seq, "table", "from", "to", on_delete FROM pragma_foreign_key_list(?) '
        "ORDER BY id, seq"
    )
    known = {name.lower(): name for name in tables}
    grouped: dict[int, list[tuple[Any, ...]]] = {}
    for row in run(asked, (table.name,)):
        grouped.setdefault(row[0], []).append(row)
    for rows in grouped.values():
        other = known.get(str(rows[0][2]).lower(), str(rows[0][2]))
        targets = [row[4] for row in rows]
        if targets[0] is None:
            targets = [*tables[other].key] if other in tables else []
        columns = tuple(_spelled(table, row[3]) for row in rows)
        if other in tables:
            targets = [_spelled(tables[other], name) for name in targets]
        table.references.append(FoundReference(columns, other, tuple(targets), rows[0][5]))
    table.references.reverse()


def _spelled(table: FoundTable, name: str) -> str:
    """A column as its table calls it: references may write it in other letters."""
    return next((c.name for c in table.columns if c.name.lower() == str(name).lower()), str(name))


def _indexes(run: Run, table: FoundTable) -> None:
    for name, unique, origin, partial in run(
        'SELECT name, "unique", origin, partial FROM pragma_index_list(?) ORDER BY name',
        (table.name,),
    ):
        if origin == "pk":
            continue
        rows = run(
            'SELECT name, "desc", coll FROM pragma_index_xinfo(?) WHERE "key" ORDER BY seqno',
            (name,),
        )
        names = tuple(str(row[0]) for row in rows if row[0] is not None)
        special = "of some rows" if partial else ""
        if len(names) < len(rows):
            special = "of an expression"
        elif any(row[1] for row in rows):
            special = special or "in descending order"
        table.indexes.append(FoundIndex(name, names, bool(unique), special))


def conditions(source: str) -> Iterator[tuple[str, str]]:
    """The conditions in the statement that made a table, with their names where they have one."""
    plain = _blanked(source)
    for found in _CHECK.finditer(plain):
        begin = end = found.end()
        depth = 1
        while depth and end < len(plain):
            depth += (plain[end] == "(") - (plain[end] == ")")
            end += 1
        named = _NAMED.search(source[: found.start()])
        yield (named[1].strip('"`[]') if named else ""), source[begin : end - 1]


def _blanked(source: str) -> str:
    """The same text with blanks for what stands between quotes, or in comments."""
    parts = re.compile(r"'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|`[^`]*`|--[^\n]*|/\*.*?\*/", re.DOTALL)
    return parts.sub(lambda found: " " * len(found[0]), source)
