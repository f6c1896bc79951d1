"""Tables as SQLite's statements: what makes, changes and removes them.

Decimals are kept as whole numbers of their smallest place, so that order and sums are
exact; dates and moments as ISO 8601 text.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from decimal import Decimal

from ..rules.sql import Sqlite, quote
from ..rules.sql import text as _text
from ..schema.entries import REMOVED
from .checks import TableNames, check_sql
from .tables import Column, Index, Table, ends

Keys = Mapping[str, str]
"""Which column is the key of a table, where it is not `id`."""


def sql_type(type_: str) -> str:
    word, *numbers = type_.split()
    if word == "text":
        return f"VARCHAR({numbers[0]})" if numbers else "TEXT"
    if word == "decimal":
        # The name holds INT, which is what gives the column whole-number affinity.
        return f"SCALED_INTEGER({numbers[0]}, {numbers[1]})"
    names = {"reference": "INTEGER", "integer": "INTEGER", "bigint": "BIGINT", "double": "DOUBLE"}
    names |= {"uuid": "CHAR(32)", "json": "JSON", "time": "TIME", "seconds": "INTEGER"}
    return names.get(word) or {"boolean": "BOOLEAN", "date": "DATE", "timestamp": "TIMESTAMP"}[word]


def literal(value: str, type_: str) -> str:
    """A neutral value (see `Kind.neutral`) as SQL."""
    word, *numbers = type_.split()
    if word in ("integer", "bigint", "double", "seconds"):
        return value
    if word == "decimal":
        return str(int(Decimal(value).scaleb(int(numbers[1]))))
    if word == "boolean":
        return "1" if value == "yes" else "0"
    if word == "timestamp":
        return _text(value.replace("T", " ")[:19].ljust(19, "0") + ".000000")
    if word == "time":
        return _text(f"{value[:8].ljust(5, '0')}{':00' * (value.count(':') < 2)}.000000")
    if word == "uuid":
        return _text(value.replace("-", ""))
    return _text(value)


def _checks(table: str, column: Column) -> Iterator[str]:
    name = quote(column.name)
    for what, tested, given in (
        ("range", name, column.range),
        ("length", f"length({name})", column.length),
    ):
        if not given:
            continue
        type_ = column.type if what == "range" else "integer"
        low, high = (literal(end, type_) if end else "" for end in ends(given))
        rule = (
            f"{tested} BETWEEN {low} AND {high}"
            if low and high
            else f"{tested} >= {low}"
            if low
            else f"{tested} <= {high}"
        )
        yield f"CONSTRAINT {quote(f'{table}_{column.name}_{what}')} CHECK ({rule})"
    if column.among:
        values = ", ".join(_text(value) for value in column.among)
        yield f"CONSTRAINT {quote(f'{table}_{column.name}_among')} CHECK ({name} IN ({values}))"
    if column.type == "boolean":
        yield f"CONSTRAINT {quote(f'{table}_{column.name}_boolean')} CHECK ({name} IN (0, 1))"


def _column(table: str, column: Column, keys: Keys) -> str:
    parts = [quote(column.name), sql_type(column.type)]
    if column.required:
        parts.append("NOT NULL")
    if column.references:
        action = {"remove": " ON DELETE CASCADE", "clear": " ON DELETE SET NULL"}.get(
            column.removal, ""
        )
        key = quote(keys.get(column.references) or "id")
        parts.append(f"REFERENCES {quote(column.references)} ({key}){action}")
    parts.extend(_checks(table, column))
    return " ".join(parts)


def create_table(table: Table, keys: Keys, name: str = "") -> list[str]:
    """`keys` says which column is the key of a table, where it is not `id`."""
    columns = [] if table.key else ['"id" INTEGER PRIMARY KEY AUTOINCREMENT']
    columns += [_column(table.name, column, keys) for column in table.columns]
    if table.key:
        columns.append(f"PRIMARY KEY ({quote(table.key)})")
    for check in table.checks:
        rule = check_sql(table, check.rule, Sqlite(TableNames(table)))
        columns.append(f"CONSTRAINT {quote(f'{table.name}_{check.name}_rule')} CHECK ({rule})")
    body = ",\n  ".join(columns)
    return [f"CREATE TABLE {quote(name or table.name)} (\n  {body}\n)"]


def create_indexes(table: Table) -> list[str]:
    """Every unique column, reference and declared index, each once."""
    wanted = [
        Index((column.name,), column.unique)
        for column in table.columns
        if column.unique or column.references
    ]
    singles = {index.columns for index in wanted if index.unique}
    wanted += [index for index in table.indexes if index.unique or index.columns not in singles]
    return [create_index(table.name, index) for index in dict.fromkeys(wanted)]


def create_index(table: str, index: Index) -> str:
    kind = "UNIQUE INDEX" if index.unique else "INDEX"
    columns = ", ".join(quote(column) for column in index.columns)
    where = f" WHERE {quote(REMOVED)} IS NULL" if index.live else ""
    return f"CREATE {kind} {quote(index.name(table))} ON {quote(table)} ({columns}){where}"


def drop_index(table: str, index: Index) -> str:
    return f"DROP INDEX {quote(index.name(table))}"


_UUID = (
    "lower(hex(randomblob(6)) || '4' || substr(hex(randomblob(2)), 2) || "
    "substr('89ab', 1 + abs(random() % 4), 1) || substr(hex(randomblob(2)), 2) || hex(randomblob(6)))"
)
"""A version 4 identifier as RFC 9562 lays it out, as it is stored."""


def add_column(
    before: Table, after: Table, column: Column, fill: str, keys: Keys, made: str = ""
) -> list[str]:
    """An optional column is added in place; a required one needs the table made anew.

    `made` as `migrations.steps.AddColumn` has it.
    """
    if made:
        word, _, source = made.partition(" ")
        named = f"{quote(source)}" if source else "NULL"
        # With its number behind it no word meets another.
        slug = f"slug_word({named}, {_text(before.name.replace('_', '-'))}) || '-' || rowid"
        return rebuild(before, after, {column.name: _UUID if word == "uuid" else slug}, keys)
    if column.required:
        fills = {column.name: literal(fill, column.type)} if fill else {}
        return rebuild(before, after, fills, keys)
    table, name = quote(after.name), quote(column.name)
    statements = [f"ALTER TABLE {table} ADD COLUMN {_column(after.name, column, keys)}"]
    if fill:
        statements.append(f"UPDATE {table} SET {name} = {literal(fill, column.type)}")
    return statements + create_indexes(Table(after.name, (column,)))


def rename_column(table: str, old: str, new: str) -> list[str]:
    return [f"ALTER TABLE {quote(table)} RENAME COLUMN {quote(old)} TO {quote(new)}"]


def rename_table(before: Table, after: Table) -> list[str]:
    """Indexes are named after their table, so they are made anew."""
    dropped = [text.split(" ON ")[0] for text in create_indexes(before)]
    return [
        *(f"DROP INDEX {text.partition('INDEX ')[2]}" for text in dropped),
        f"ALTER TABLE {quote(before.name)} RENAME TO {quote(after.name)}",
        *create_indexes(after),
    ]


def drop_table(name: str) -> list[str]:
    return [f"DROP TABLE {quote(name)}"]


def rebuild(before: Table, after: Table, fills: dict[str, str], keys: Keys) -> list[str]:
    """The table made anew with its rows, by the steps SQLite's own manual gives (ALTER TABLE, 7)."""
    kept = [column for column in after.columns if before.column(column.name)]
    own = [] if after.key else ['"id"']
    names = [*own, *(quote(c.name) for c in kept), *(quote(name) for name in fills)]
    values = [*own, *(quote(c.name) for c in kept), *fills.values()]
    new = f"{after.name}__new"
    return [
        *create_table(after, keys, new),
        f"INSERT INTO {quote(new)} ({', '.join(names)})\nSELECT {', '.join(values)} FROM {quote(before.name)}",
        *([] if after.key else [_next_number(before.name, new)]),
        f"DROP TABLE {quote(before.name)}",
        f"ALTER TABLE {quote(new)} RENAME TO {quote(after.name)}",
        *create_indexes(after),
    ]


def _next_number(before: str, new: str) -> str:
    """Numbers go on where they were: none of a removed row is given again."""
    return (
        f"UPDATE sqlite_sequence SET seq = (SELECT max(seq) FROM sqlite_sequence\n"
        f"WHERE name IN ({_text(before)}, {_text(new)})) WHERE name = {_text(new)}"
    )
