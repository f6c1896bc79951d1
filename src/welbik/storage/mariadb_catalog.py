"""What MariaDB's catalogue tells of the tables of a database."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any

from .catalog import Catalog, FoundColumn, FoundIndex, FoundReference, FoundTable, by_table

Run = Callable[[str, Sequence[object]], list[tuple[Any, ...]]]
_HERE = "table_schema = database()"
_CHOICE = re.compile(r"'((?:[^']|'')*)'")


def read_catalog(run: Run, errors: tuple[type[Exception], ...]) -> Catalog:
    """All tables and views of the database."""
    found = Catalog()
    tables: dict[str, FoundTable] = {}
    listed = run(
        "SELECT table_name, table_type, coalesce(table_comment, ''), coalesce(table_rows, -1) "
        f"FROM information_schema.tables WHERE {_HERE}",
        (),
    )
    for name, kind, comment, rows in listed:
        if kind == "SEQUENCE":
            continue
        view = "VIEW" in kind
        if view and "invalid" in comment.lower():
            found.troubles.append((name, f"the view is broken: {comment}"))
            continue
        tables[name] = FoundTable(name, view, "" if view else comment, rows=int(rows))
    _columns(run, tables)
    _references(run, tables)
    _indexes(run, tables)
    asked = (
        "SELECT table_name, constraint_name, check_clause FROM information_schema.check_constraints "
        "WHERE constraint_schema = database() ORDER BY table_name, constraint_name"
    )
    for name, called, clause in run(asked, ()):
        if name not in tables:
            continue
        valid = re.fullmatch(r"json_valid\([`\"]?(.*?)[`\"]?\)", str(clause), re.IGNORECASE)
        column = tables[name].column(valid[1]) if valid else None
        if column is not None:
            # That is all that makes a text JSON here.
            column.native = "json"
        else:
            tables[name].checks.append((called, clause))
    for name in [n for n, table in tables.items() if not table.columns]:
        found.troubles.append((name, "the user may not read it: GRANT SELECT"))
        del tables[name]
    found.tables = by_table(tables.values())
    return found


def _columns(run: Run, tables: dict[str, FoundTable]) -> None:
    asked = (
        "SELECT table_name, column_name, column_type, is_nullable, column_default, "
        "coalesce(column_comment, ''), lower(extra), is_generated "
        f"FROM information_schema.columns WHERE {_HERE} ORDER BY table_name, ordinal_position"
    )
    for of, name, native, nullable, default, comment, extra, made in run(asked, ()):
        if of not in tables or "invisible" in extra:
            continue
        choices = ()
        if native.lower().startswith("enum("):
            choices = tuple(one.replace("''", "'") for one in _CHOICE.findall(native))
        tables[of].columns.append(
            FoundColumn(
                name,
                native,
                nullable == "NO",
                None if default in (None, "NULL") else default,
                comment,
                "auto_increment" in extra,
                made != "NEVER",
                "on update" in extra,
                choices,
            )
        )


def _references(run: Run, tables: dict[str, FoundTable]) -> None:
    asked = (
        "SELECT k.table_name, k.constraint_name, k.column_name, k.referenced_table_schema = database(), "
        "k.referenced_table_name, k.referenced_column_name, r.delete_rule "
        "FROM information_schema.key_column_usage k "
        "JOIN information_schema.referential_constraints r "
        "ON r.constraint_schema = k.constraint_schema AND r.constraint_name = k.constraint_name "
        "AND r.table_name = k.table_name "
        "WHERE k.constraint_schema = database() AND k.referenced_table_name IS NOT NULL "
        "ORDER BY k.table_name, k.constraint_name, k.ordinal_position"
    )
    grouped: dict[tuple[str, str], list[tuple[Any, ...]]] = {}
    for row in run(asked, ()):
        grouped.setdefault((row[0], row[1]), []).append(row)
    known = {name.lower(): name for name in tables}
    for (of, _), rows in grouped.items():
        if of in tables:
            other = str(rows[0][4]) if rows[0][3] else f"another database's {rows[0][4]}"
            columns, targets = tuple(r[2] for r in rows), tuple(r[5] for r in rows)
            removal = rows[0][6] if rows[0][6] in ("CASCADE", "SET NULL") else "NO ACTION"
            other = known.get(other.lower(), other)
            tables[of].references.append(FoundReference(columns, other, targets, removal))


def _indexes(run: Run, tables: dict[str, FoundTable]) -> None:
    asked = (
        "SELECT table_name, index_name, non_unique, column_name, sub_part, index_type, collation "
        f"FROM information_schema.statistics WHERE {_HERE} "
        "ORDER BY table_name, index_name, seq_in_index"
    )
    grouped: dict[tuple[str, str], list[tuple[Any, ...]]] = {}
    for row in run(asked, ()):
        grouped.setdefault((row[0], row[1]), []).append(row)
    for (of, name), rows in grouped.items():
        if of not in tables:
            continue
        columns = tuple(row[3] for row in rows)
        if name == "PRIMARY":
            tables[of].key = columns
            continue
        special = "of the beginnings of texts" if any(row[4] for row in rows) else ""
        special = special or ("in descending order" if any(r[6] == "D" for r in rows) else "")
        if rows[0][5] != "BTREE":
            special = f"by {rows[0][5].lower()}"
        tables[of].indexes.append(FoundIndex(name, columns, not rows[0][2], special))
