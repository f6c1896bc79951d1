"""What tables are made of and changed by on MariaDB."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import ClassVar

from ..rules.sql import quote, text
from ..schema.entries import REMOVED
from .backend import BUSY_SECONDS
from .ddl import Ddl, Keys, check, indexed
from .mariadb_sql import MariadbSql
from .reshape import Change, Phases
from .tables import Column, Index, Table, ends, identifier

COLLATION = "utf8mb4_nopad_bin"
SESSION = (
    "SET SESSION sql_mode = 'ANSI_QUOTES,NO_BACKSLASH_ESCAPES,STRICT_ALL_TABLES', "
    "time_zone = '+00:00', "
    f"collation_connection = '{COLLATION}', innodb_lock_wait_timeout = {BUSY_SECONDS}"
)
LIVE = "welbik_live"
"""A column that is 1 in rows not in the bin. No index leaves rows out here: what is unique among
those that live has it beside."""
_NUMBER = "welbik_number"
"""An index that a new number has until it is the key."""
_SHORT = 255
"""Characters of a text that lies in the row itself, which has 65,535 bytes for all of them."""
_KEY_MOST = 768
"""Characters of a text that is a key: an index has 3,072 bytes for it."""
_PREFIX = 190
"""Characters of a longer one by which it is sorted in an index."""


class MariadbDdl(Ddl):
    """It changes in place too, each statement for itself: none can be taken back."""

    word = "mariadb"
    sql = MariadbSql
    bits_as_letters = True
    tied = True
    number = "INTEGER PRIMARY KEY AUTO_INCREMENT"
    options = f" ENGINE = InnoDB DEFAULT CHARACTER SET = utf8mb4 COLLATE = {COLLATION}"
    types: ClassVar[Mapping[str, str]] = {
        **Ddl.types,
        **{"double": "DOUBLE", "time": "TIME(6)", "timestamp": "DATETIME(6)"},
        **{"uuid": "CHAR(32)", "text": "LONGTEXT"},
    }

    called: ClassVar[Mapping[str, str]] = {
        **{r"int\(\d+\)": "integer", r"bigint\(\d+\)": "bigint", r"tinyint\(1\)": "boolean"},
        **{r"decimal(\(.*\))": r"numeric\1", r"(tiny|medium|long)?text": "longtext"},
        **{r"(datetime|time)(\(\d\))?": r"\1(6)", r"double(\(.*\))?": "double"},
    }

    def type_name(self, type_: str) -> str:
        return "LONGTEXT" if _is_long(type_) else super().type_name(type_)

    def literal(self, value: str, type_: str) -> str:
        return super().literal(value.replace("-", "") if type_ == "uuid" else value, type_)

    def length(self, column: str) -> str:
        return f"char_length({column})"

    def own_number(self, table: Table) -> str:
        return f"{quote(table.number)} {table.native or 'INTEGER'} PRIMARY KEY AUTO_INCREMENT"

    def checks(self, table: Table, column: Column) -> Iterator[tuple[str, str]]:
        if _is_long(column.type) and " " in column.type and not column.length:
            # A long text has no limit of its own.
            column = replace(column, length=f"..{column.type.split()[1]}")
        return super().checks(table, column)

    def rules(self, table: Table) -> Iterator[tuple[str, str]]:
        # No condition may read here what is emptied with the row that it refers to.
        emptied = [quote(column.name) for column in table.columns if column.removal == "clear"]
        for name, condition in super().rules(table):
            if not any(column in condition for column in emptied):
                yield name, condition

    def column(self, table: Table, column: Column, keys: Keys) -> str:
        wide = re.fullmatch(r"varchar\((\d+)\)", column.native, re.IGNORECASE)
        if wide and int(wide[1]) > _SHORT and column.type.startswith("text"):
            # Letters took fewer bytes where it was found: here a row may have no room for them.
            column = replace(column, native="")
        written = super().column(table, column, keys)
        if _is_long(column.type) and (column.references or column.name == table.key):
            most = int(column.type.partition(" ")[2] or ends(column.length)[1] or _KEY_MOST)
            short = f"VARCHAR({min(most, _KEY_MOST)})"
            return written.replace(self.type_name(column.type), short, 1)
        return written

    def _lines(self, table: Table, lines: list[str]) -> str:
        live = any(index.live for index in table.indexes)
        return super()._lines(table, [*lines, *([self._live] if live else [])])

    _live: ClassVar[str] = (
        f"{quote(LIVE)} TINYINT AS (CASE WHEN {quote(REMOVED)} IS NULL THEN 1 END) "
        "VIRTUAL INVISIBLE"
    )

    def create_index(self, table: Table, index: Index) -> str:
        kind = "UNIQUE INDEX" if index.unique else "INDEX"
        columns = [self._indexed(table, index, name) for name in indexed(table, index)]
        columns += [quote(LIVE)] if index.live else []
        name = quote(index.name(table.name))
        return f"CREATE {kind} {name} ON {quote(table.name)} ({', '.join(columns)})"

    def _indexed(self, table: Table, index: Index, name: str) -> str:
        column = table.column(name)
        long = column is not None and _is_long(column.type) and not column.references
        # What is unique is compared whole.
        return f"{quote(name)}({_PREFIX})" if long and not index.unique else quote(name)

    def reshape(self, change: Change, keys: Keys) -> Phases:
        found = super().reshape(change, keys)
        table = quote(change.after.name)
        live, was = (any(i.live for i in t.indexes) for t in (change.after, change.before))
        if live and not was:
            made = f"ALTER TABLE {table} ADD COLUMN IF NOT EXISTS {self._live}"
            found.finish.insert(0, made)
        return found

    def _taken(self, change: Change) -> list[str]:
        live, was = (any(i.live for i in t.indexes) for t in (change.after, change.before))
        gone = f"ALTER TABLE {quote(change.after.name)} DROP COLUMN IF EXISTS {quote(LIVE)}"
        # It reads when a row was removed, so it goes before that.
        return [*([gone] if was and not live else []), *super()._taken(change)]

    def numbers(self, change: Change) -> list[str]:
        if change.before.numbered or not change.after.numbered:
            return []
        number = self.own_number(change.after).replace("PRIMARY KEY", "NOT NULL")
        index = f"ADD UNIQUE INDEX {_NUMBER} ({quote(change.after.number)})"
        return [f"ALTER TABLE {quote(change.after.name)} ADD COLUMN {number}, {index}"]

    def without_key(self, change: Change) -> list[str]:
        # At once: a number that counts itself is never without an index.
        parts = [] if change.before.keyless else ["DROP PRIMARY KEY"]
        parts += [f"DROP COLUMN {quote(name)}" for name in change.gone_with_key]
        return [f"ALTER TABLE {quote(change.after.name)} {', '.join(parts)}"] if parts else []

    def with_key(self, change: Change, keys: Keys) -> list[str]:
        before, after = change.before, change.after
        pairs = [
            (self.column(before, old, keys), self.column(after, new, keys))
            for old, new in change.kept
        ]
        # A long text has another type where it is a key.
        parts = [f"MODIFY COLUMN {new}" for old, new in pairs if old != new]
        told = self.told_apart_by(after)
        parts += [f"ADD PRIMARY KEY ({told})"] if told else []
        parts += [f"DROP INDEX {_NUMBER}"] if after.numbered and not before.numbered else []
        return [f"ALTER TABLE {quote(after.name)} {', '.join(parts)}"] if parts else []

    def drop_reference(self, name: str) -> str:
        return f"DROP FOREIGN KEY IF EXISTS {quote(name)}"

    def alter_column(self, table: Table, before: Column, after: Column, keys: Keys) -> list[str]:
        written = self.column(table, after, keys)
        same = written == self.column(table, before, keys)
        return [] if same else [f"ALTER TABLE {quote(table.name)} MODIFY COLUMN {written}"]

    def drop_index(self, table: str, name: str) -> str:
        return f"DROP INDEX {quote(name)} ON {quote(table)}"

    def require(self, table: Table, column: Column) -> str:
        written = self.column(table, replace(column, required=True), {})
        return f"ALTER TABLE {quote(table.name)} MODIFY COLUMN {written}"

    def new_uuid(self) -> str:
        drawn = "md5(concat(uuid(), rand()))"
        return (
            f"concat(substr({drawn}, 1, 12), '4', substr({drawn}, 1, 3), "
            f"substr('89ab', 1 + floor(rand() * 4), 1), substr({drawn}, 1, 15))"
        )

    def slug(self, source: str, otherwise: str, key: str) -> str:
        plain = f"regexp_replace(lower(coalesce({source}, '')), '[^a-z0-9]+', '-')"
        word = f"trim(BOTH '-' FROM left(trim(BOTH '-' FROM {plain}), 60))"
        return f"concat(coalesce(nullif({word}, ''), {text(otherwise)}), '-', {key})"

    def _without(self, table: Table, columns: Sequence[Column]) -> list[str]:
        """Lets go of what columns are held to, and of the rules that read them."""
        names = [name for column in columns for name, _ in self.checks(table, column)]
        read = {quote(column.name) for column in columns}
        names += [name for name, rule in self.rules(table) if any(n in rule for n in read)]
        references = [identifier(table.name, c.name, "reference") for c in columns if c.references]
        return [
            *(f"DROP CONSTRAINT IF EXISTS {quote(name)}" for name in names),
            *(f"DROP FOREIGN KEY IF EXISTS {quote(name)}" for name in references),
        ]

    def rename_column(
        self, before: Table, after: Table, old: str, new: str, keys: Keys
    ) -> list[str]:
        if after.as_it_is:
            return super().rename_column(before, after, old, new, keys)
        table, column, named = quote(after.name), before.column(old), after.column(new)
        assert column is not None and named is not None
        parts = self._without(before, [column])
        said = [f"ALTER TABLE {table} {', '.join(parts)}"] if parts else []
        said.append(f"ALTER TABLE {table} RENAME COLUMN {quote(old)} TO {quote(new)}")
        gone = [name for name, rule in self.rules(before) if quote(old) in rule]
        checks = [*self.checks(after, named), *(r for r in self.rules(after) if r[0] in gone)]
        added = ", ".join(f"ADD {check(*one)}" for one in checks)
        said += [f"ALTER TABLE {table} {added}"] if added else []
        said += self._index_names(before, after)
        return said + (self.add_references(after, [named], keys) if named in after.bound else [])

    def rename_table(self, before: Table, after: Table, keys: Keys) -> list[str]:
        if after.as_it_is:
            return super().rename_table(before, after, keys)
        old, new = quote(before.name), quote(after.name)
        parts = self._without(before, before.columns)
        parts += [f"DROP CONSTRAINT IF EXISTS {quote(name)}" for name, _ in self.rules(before)]
        said = [f"ALTER TABLE {old} {', '.join(dict.fromkeys(parts))}"] if parts else []
        said.append(f"ALTER TABLE {old} RENAME TO {new}")
        checks = [check(*one) for column in after.columns for one in self.checks(after, column)]
        checks += [check(*rule) for rule in self.rules(after)]
        added = [f"ADD {one}" for one in checks]
        said += [f"ALTER TABLE {new} {', '.join(added)}"] if added else []
        said += self._index_names(before, after)
        return said + self.add_references(after, after.bound, keys)

    def rename_index(self, table: str, old: str, new: str) -> str:
        return f"ALTER TABLE {quote(table)} RENAME INDEX {quote(old)} TO {quote(new)}"

    def drop_table(self, name: str) -> list[str]:
        # What refers to it goes too, or no longer does.
        rest, again = (f"SET foreign_key_checks = {on}" for on in (0, 1))
        return [rest, *super().drop_table(name), again]

    def script(self, statements: list[str]) -> list[str]:
        return [SESSION, *statements]


def _is_long(type_: str) -> bool:
    word, *numbers = type_.split()
    return word == "text" and (not numbers or int(numbers[0]) > _SHORT)
