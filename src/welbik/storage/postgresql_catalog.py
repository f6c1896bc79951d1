"""What PostgreSQL's catalogue tells of the tables of a schema."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

from ..rules.sql import quote
from .catalog import Catalog, FoundColumn, FoundIndex, FoundReference, FoundTable, by_table

Run = Callable[[str, Sequence[object]], list[tuple[Any, ...]]]
_KINDS = "c.relkind IN ('r', 'p', 'v', 'm', 'f')"
_HERE = "c.relnamespace = CAST(quote_ident(current_schema()) AS regnamespace)"
_REMOVALS = {"c": "CASCADE", "n": "SET NULL", "d": "SET DEFAULT"}


def read_catalog(run: Run) -> Catalog:
    """All tables and views of the schema that is searched first."""
    found = Catalog()
    tables: dict[int, FoundTable] = {}
    listed = run(
        "SELECT c.oid, c.relname, c.relkind, coalesce(obj_description(c.oid, 'pg_class'), ''), "
        "c.reltuples, has_table_privilege(c.oid, 'SELECT') OR has_any_column_privilege(c.oid, 'SELECT') "
        f"FROM pg_class c WHERE {_HERE} AND {_KINDS} AND NOT c.relispartition AND NOT EXISTS "
        "(SELECT 1 FROM pg_depend d WHERE d.objid = c.oid AND d.deptype = 'e')",
        (),
    )
    for oid, name, kind, comment, rows, readable in listed:
        if not readable:
            found.troubles.append((name, "the user may not read it: GRANT SELECT"))
            continue
        tables[oid] = FoundTable(name, kind in ("v", "m", "f"), comment, rows=int(rows))
    _columns(run, tables)
    _constraints(run, tables)
    _indexes(run, tables)
    found.tables = by_table(tables.values())
    return found


def _columns(run: Run, tables: dict[int, FoundTable]) -> None:
    choices: dict[int, list[str]] = {}
    for of, label in run("SELECT enumtypid, enumlabel FROM pg_enum ORDER BY enumsortorder", ()):
        choices.setdefault(of, []).append(label)
    domains = _domains(run)
    asked = (
        "SELECT a.attrelid, a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, "
        "pg_get_expr(d.adbin, d.adrelid), coalesce(col_description(a.attrelid, a.attnum), ''), "
        "a.attidentity, a.attgenerated, t.typtype, "
        "t.oid "
        "FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid "
        "JOIN pg_type t ON t.oid = a.atttypid "
        "LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum "
        f"WHERE {_HERE} AND {_KINDS} AND a.attnum > 0 AND NOT a.attisdropped "
        "ORDER BY a.attrelid, a.attnum"
    )
    for (
        of,
        name,
        native,
        required,
        default,
        comment,
        identity,
        made,
        kind,
        type_,
    ) in run(asked, ()):
        if of not in tables:
            continue
        domain = domains.get(type_, _Domain(native, type_))
        tables[of].checks += [(one, _over(name, said)) for one, said in domain.conditions]
        counted = bool(identity.strip()) or str(default or "").startswith("nextval(")
        tables[of].columns.append(
            FoundColumn(
                name,
                domain.native,
                required or domain.required,
                None if counted or made.strip() else default or domain.default,
                comment,
                counted,
                bool(made.strip()),
                choices=tuple(choices.get(domain.base, ())),
                plain=kind == "b",
            )
        )


_VALUE = re.compile(r"'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|\b(VALUE)\b")


def _over(column: str, condition: str) -> str:
    """A condition of values as one of a column."""
    return _VALUE.sub(lambda found: found[0] if found[1] is None else quote(column), condition)


class _Domain(NamedTuple):
    """A type by a name of its own: the one below it, and what its values must be over VALUE."""

    native: str
    base: int
    required: bool = False
    default: str | None = None
    conditions: tuple[tuple[str, str], ...] = ()


def _domains(run: Run) -> dict[int, _Domain]:
    """The types that are others with conditions, by their number; one may be of another again."""
    asked = (
        "SELECT t.oid, format_type(t.typbasetype, t.typtypmod), t.typbasetype, t.typnotnull, "
        "t.typdefault, n.conname, pg_get_expr(n.conbin, 0) FROM pg_type t "
        "LEFT JOIN pg_constraint n ON n.contypid = t.oid AND n.contype = 'c' "
        "WHERE t.typtype = 'd' ORDER BY t.oid, n.conname"
    )
    found: dict[int, _Domain] = {}
    for of, native, base, required, default, name, condition in run(asked, ()):
        known = found.setdefault(of, _Domain(native, base, required, default))
        if name:
            found[of] = known._replace(conditions=(*known.conditions, (name, condition)))
    # One that is of another was made after that.
    for of, one in found.items():
        if one.base in found:
            below = found[one.base]
            found[of] = _Domain(
                below.native,
                below.base,
                one.required or below.required,
                one.default or below.default,
                (*below.conditions, *one.conditions),
            )
    return found


def _constraints(run: Run, tables: dict[int, FoundTable]) -> None:
    asked = (
        "SELECT n.conrelid, n.contype, n.conname, n.confrelid, o.relname, n.confdeltype, "
        "CASE WHEN n.contype = 'c' THEN pg_get_expr(n.conbin, n.conrelid) END, "
        "ARRAY(SELECT a.attname FROM unnest(n.conkey) WITH ORDINALITY AS k(num, at) "
        "JOIN pg_attribute a ON a.attrelid = n.conrelid AND a.attnum = k.num ORDER BY k.at)::text[], "
        "ARRAY(SELECT a.attname FROM unnest(n.confkey) WITH ORDINALITY AS k(num, at) "
        "JOIN pg_attribute a ON a.attrelid = n.confrelid AND a.attnum = k.num ORDER BY k.at)::text[], "
        f"(SELECT {_HERE} FROM pg_class c WHERE c.oid = n.confrelid) "
        "FROM pg_constraint n LEFT JOIN pg_class o ON o.oid = n.confrelid "
        "WHERE n.contype IN ('c', 'f', 'p') AND n.conrelid <> 0 ORDER BY n.conrelid, n.conname"
    )
    for of, kind, name, _, other, removal, condition, columns, targets, here in run(asked, ()):
        table = tables.get(of)
        if table is None:
            continue
        if kind == "p":
            table.key = tuple(columns)
        elif kind == "c":
            table.checks.append((name, condition))
        else:
            other = other if here else f"another schema's {other}"
            table.references.append(
                FoundReference(
                    tuple(columns), other, tuple(targets), _REMOVALS.get(removal, "NO ACTION")
                )
            )


def _indexes(run: Run, tables: dict[int, FoundTable]) -> None:
    asked = (
        "SELECT i.indrelid, x.relname, i.indisunique, i.indpred IS NOT NULL, i.indexprs IS NOT NULL, "
        "EXISTS (SELECT 1 FROM unnest(CAST(i.indoption AS int2[])) AS o WHERE o & 1 = 1), "
        "m.amname, ARRAY(SELECT a.attname FROM unnest(CAST(i.indkey AS int2[])) "
        "WITH ORDINALITY AS k(num, at) JOIN pg_attribute a ON a.attrelid = i.indrelid "
        "AND a.attnum = k.num WHERE k.at <= i.indnkeyatts ORDER BY k.at)::text[] FROM pg_index i "
        "JOIN pg_class x ON x.oid = i.indexrelid JOIN pg_class c ON c.oid = i.indrelid "
        "JOIN pg_am m ON m.oid = x.relam "
        f"WHERE {_HERE} AND NOT i.indisprimary AND i.indisvalid ORDER BY x.relname"
    )
    for of, name, unique, partial, expression, descending, method, columns in run(asked, ()):
        if of not in tables:
            continue
        special = "of some rows" if partial else ""
        special = "of an expression" if expression else special
        special = special or ("in descending order" if descending else "")
        special = special or (f"by {method}" if method != "btree" else "")
        tables[of].indexes.append(FoundIndex(name, tuple(columns), unique, special))
