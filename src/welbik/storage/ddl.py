"""Tables as statements: what makes, changes and removes them.

One class writes what databases share; each database's own file says what it writes its own way.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import ClassVar

from ..rules.sql import Sql, quote, text
from ..schema.entries import REMOVED
from .checks import TableNames, check_sql
from .tables import Column, Index, Table, ends, identifier

Keys = Mapping[str, str]
"""Which column is the key of a table, where it is not `id`."""


class Ddl:
    """What a database's statements are; this class writes the standard's words."""

    sql: ClassVar[type[Sql]]
    types: ClassVar[Mapping[str, str]] = {
        **{"reference": "INTEGER", "integer": "INTEGER", "bigint": "BIGINT", "seconds": "INTEGER"},
        **{"double": "DOUBLE PRECISION", "boolean": "BOOLEAN", "date": "DATE", "time": "TIME"},
        **{"timestamp": "TIMESTAMP", "uuid": "UUID", "json": "JSON", "text": "TEXT"},
    }
    exact: ClassVar[bool] = True
    """Whether it has decimals, which are whole numbers of their smallest place elsewhere."""
    number: ClassVar[str]
    """The column of a key that is a number of its own."""

    def type_name(self, type_: str) -> str:
        """The type that a column of a neutral type has."""
        word, *numbers = type_.split()
        if word == "text" and numbers:
            return f"VARCHAR({numbers[0]})"
        if word == "decimal":
            return f"NUMERIC({numbers[0]}, {numbers[1]})"
        return self.types[word]

    def literal(self, value: str, type_: str) -> str:
        """A neutral value (see `Kind.neutral`) as SQL."""
        word = type_.split()[0]
        if word in ("integer", "bigint", "double", "seconds", "decimal"):
            return value
        if word == "boolean":
            return "TRUE" if value == "yes" else "FALSE"
        if word == "timestamp":
            return text(value.replace("T", " ")[:19].ljust(19, "0") + ".000000")
        if word == "time":
            return text(f"{value[:8].ljust(5, '0')}{':00' * (value.count(':') < 2)}.000000")
        return text(value)

    def length(self, column: str) -> str:
        """How many characters a column has."""
        return f"length({column})"

    # Constraints

    def checks(self, table: Table, column: Column) -> Iterator[tuple[str, str]]:
        """The conditions of a column, each with its name."""
        name = quote(column.name)
        for what, tested, given in (
            ("range", name, column.range),
            ("length", self.length(name), column.length),
        ):
            if given:
                type_ = column.type if what == "range" else "integer"
                low, high = (self.literal(end, type_) if end else "" for end in ends(given))
                yield identifier(table.name, column.name, what), _between(tested, low, high)
        if column.among:
            values = ", ".join(text(value) for value in column.among)
            yield identifier(table.name, column.name, "among"), f"{name} IN ({values})"

    def rules(self, table: Table) -> Iterator[tuple[str, str]]:
        """The rules of a table as conditions, each with its name."""
        for check in table.checks:
            condition = check_sql(table, check.rule, self.sql(TableNames(table)))
            yield identifier(table.name, check.name, "rule"), condition

    def reference(self, column: Column, keys: Keys) -> str:
        """What a column refers to, and what becomes of it when that goes."""
        action = {"remove": " ON DELETE CASCADE", "clear": " ON DELETE SET NULL"}
        key = quote(keys.get(column.references) or "id")
        return (
            f"REFERENCES {quote(column.references)} ({key}){action.get(column.removal, '')}"
            f"{self.deferrable}"
        )

    deferrable: ClassVar[str] = ""
    """What lets references rest until a transaction ends."""

    # Tables

    def column(self, table: Table, column: Column, keys: Keys) -> str:
        """A column of a new table, or one that is added, without its conditions."""
        parts = [quote(column.name), self.type_name(column.type)]
        parts += ["NOT NULL"] if column.required else []
        return " ".join(parts)

    def create_table(self, table: Table, keys: Keys) -> list[str]:
        """A table without its references: those come when all tables are there."""
        return [self._table(table, table.name, keys)]

    def _table(self, table: Table, name: str, keys: Keys) -> str:
        lines = [] if table.key else [f'"id" {self.number}']
        lines += [self.column(table, column, keys) for column in table.columns]
        lines += [f"PRIMARY KEY ({quote(table.key)})"] if table.key else []
        lines += [check(*one) for column in table.columns for one in self.checks(table, column)]
        lines += [check(*rule) for rule in self.rules(table)]
        return f"CREATE TABLE {quote(name)} (\n  {self._lines(table, lines)}\n){self.options}"

    def _lines(self, table: Table, lines: list[str]) -> str:
        return ",\n  ".join(lines)

    options: ClassVar[str] = ""
    """What follows the columns of every table."""

    def add_references(self, table: Table, columns: list[Column], keys: Keys) -> list[str]:
        """Lets columns refer to what they refer to."""
        return [
            f"ALTER TABLE {quote(table.name)} ADD CONSTRAINT {quote(name)} "
            f"FOREIGN KEY ({quote(column.name)}) {self.reference(column, keys)}"
            for column in columns
            for name in [identifier(table.name, column.name, "reference")]
        ]

    def create_indexes(self, table: Table) -> list[str]:
        return [self.create_index(table, index) for index in indexes_of(table)]

    def create_index(self, table: Table, index: Index) -> str:
        kind = "UNIQUE INDEX" if index.unique else "INDEX"
        columns = ", ".join(quote(column) for column in index.columns)
        where = f" WHERE {quote(REMOVED)} IS NULL" if index.live else ""
        return f"CREATE {kind} {quote(index.name(table.name))} ON {quote(table.name)} ({columns}){where}"

    def add_index(self, table: Table, index: Index) -> list[str]:
        """An index over a table that is there."""
        return [self.create_index(table, index)]

    def drop_index(self, table: str, name: str) -> str:
        return f"DROP INDEX {quote(name)}"

    # Changes

    def add_column(
        self, before: Table, after: Table, column: Column, fill: str, keys: Keys, made: str = ""
    ) -> list[str]:
        """A column in place; rows already there get `fill`, or one of their own.

        `made` as `migrations.steps.AddColumn` has it.
        """
        table, name = quote(after.name), quote(column.name)
        value = self._made(before, made) if made else ""
        written = self.column(after, replace(column, required=False) if value else column, keys)
        if fill:
            written += f" DEFAULT {self.literal(fill, column.type)}"
        added = [f"ADD COLUMN {written}"]
        added += [f"ADD {check(*one)}" for one in self.checks(after, column)]
        statements = [f"ALTER TABLE {table} {', '.join(added)}"]
        if fill:
            statements.append(f"ALTER TABLE {table} ALTER COLUMN {name} DROP DEFAULT")
        if value:
            statements.append(f"UPDATE {table} SET {name} = {value}")
            if column.required:
                statements.append(self.require(after, column))
        return statements + self.create_indexes(Table(after.name, (column,), key=after.key))

    def require(self, table: Table, column: Column) -> str:
        """A column that may be empty no longer may."""
        return f"ALTER TABLE {quote(table.name)} ALTER COLUMN {quote(column.name)} SET NOT NULL"

    def _made(self, table: Table, made: str) -> str:
        word, _, source = made.partition(" ")
        if word == "uuid":
            return self.new_uuid()
        key = quote(table.key or "id")
        # With its key behind it no word meets another.
        return self.slug(quote(source) if source else "NULL", table.name.replace("_", "-"), key)

    def new_uuid(self) -> str:
        """A random identifier, another one for each row."""
        raise NotImplementedError

    def slug(self, source: str, otherwise: str, key: str) -> str:
        """A word for addresses made of a text, its row's key behind it."""
        raise NotImplementedError

    def drop_column(self, before: Table, after: Table, name: str, keys: Keys) -> list[str]:
        return [f"ALTER TABLE {quote(after.name)} DROP COLUMN {quote(name)}"]

    def rename_column(
        self, before: Table, after: Table, old: str, new: str, keys: Keys
    ) -> list[str]:
        """Constraints and indexes are named after their columns, so they are called anew too."""
        table = quote(after.name)
        said = [f"ALTER TABLE {table} RENAME COLUMN {quote(old)} TO {quote(new)}"]
        return said + self._call_anew(before, after)

    def rename_table(self, before: Table, after: Table, keys: Keys) -> list[str]:
        said = [f"ALTER TABLE {quote(before.name)} RENAME TO {quote(after.name)}"]
        return said + self._call_anew(before, after)

    def _call_anew(self, before: Table, after: Table) -> list[str]:
        table = after.name
        named = zip(self.constraints(before), self.constraints(after), strict=True)
        found = [self.rename_constraint(table, old, new) for old, new in named if old != new]
        return found + self._index_names(before, after)

    def _index_names(self, before: Table, after: Table) -> list[str]:
        pairs = zip(indexes_of(before), indexes_of(after), strict=True)
        names = [(old.name(before.name), new.name(after.name)) for old, new in pairs]
        return [self.rename_index(after.name, old, new) for old, new in names if old != new]

    def constraints(self, table: Table) -> list[str]:
        """The names of a table's checks and references, in the order of its columns."""
        found = [name for column in table.columns for name, _ in self.checks(table, column)]
        found += [identifier(table.name, check.name, "rule") for check in table.checks]
        references = [column for column in table.columns if column.references]
        return found + [identifier(table.name, c.name, "reference") for c in references]

    def rename_constraint(self, table: str, old: str, new: str) -> str:
        return f"ALTER TABLE {quote(table)} RENAME CONSTRAINT {quote(old)} TO {quote(new)}"

    def rename_index(self, table: str, old: str, new: str) -> str:
        return f"ALTER INDEX {quote(old)} RENAME TO {quote(new)}"

    def set_rules(self, before: Table, after: Table, keys: Keys) -> list[str]:
        """The rules of a table anew; its stored rows must keep them."""
        table, kept = quote(after.name), set(before.checks) & set(after.checks)
        gone = [
            identifier(after.name, check.name, "rule")
            for check in before.checks
            if check not in kept
        ]
        come = self.rules(replace(after, checks=tuple(c for c in after.checks if c not in kept)))
        return [
            # A column that went took the rules that read it along.
            *(f"ALTER TABLE {table} DROP CONSTRAINT IF EXISTS {quote(name)}" for name in gone),
            *(f"ALTER TABLE {table} ADD {check(*rule)}" for rule in come),
        ]

    def drop_table(self, name: str) -> list[str]:
        return [f"DROP TABLE {quote(name)}"]

    def script(self, statements: list[str]) -> list[str]:
        """Statements as a script for somebody else to run: what must be said around them."""
        return statements


def check(name: str, condition: str) -> str:
    return f"CONSTRAINT {quote(name)} CHECK ({condition})"


def _between(tested: str, low: str, high: str) -> str:
    if low and high:
        return f"{tested} BETWEEN {low} AND {high}"
    return f"{tested} >= {low}" if low else f"{tested} <= {high}"


def indexes_of(table: Table) -> list[Index]:
    """Every unique column, reference and declared index, each once."""
    wanted = [
        Index((column.name,), column.unique)
        for column in table.columns
        if column.unique or column.references
    ]
    singles = {index.columns for index in wanted if index.unique}
    wanted += [index for index in table.indexes if index.unique or index.columns not in singles]
    return list(dict.fromkeys(wanted))
