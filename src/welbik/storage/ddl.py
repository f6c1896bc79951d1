"""Tables as statements: what makes, changes and removes them.

One class writes what databases share; each database's own file says what it writes its own way.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from functools import lru_cache
from typing import ClassVar

from ..kinds.native import is_built_in
from ..problems import WelbikError
from ..rules.sql import Sql, quote, text
from ..schema.entries import REMOVED
from .checks import TableNames, check_sql
from .forms import form_of
from .reshape import BESIDE, Change, Phases
from .tables import Column, Index, Table, ends, identifier

Keys = Mapping[str, str]
"""Which column is the key of a table, where it is not `id`."""


class Ddl:
    """What a database's statements are; this class writes the standard's words."""

    word: ClassVar[str]
    """What the database is called in addresses and in migrations."""
    sql: ClassVar[type[Sql]]
    types: ClassVar[Mapping[str, str]] = {
        **{"reference": "INTEGER", "integer": "INTEGER", "bigint": "BIGINT", "seconds": "INTEGER"},
        **{"double": "DOUBLE PRECISION", "boolean": "BOOLEAN", "date": "DATE", "time": "TIME"},
        **{"timestamp": "TIMESTAMP", "uuid": "UUID", "json": "JSON", "text": "TEXT"},
    }
    bits_as_letters: ClassVar[bool] = False
    """Whether a text of `1` is no bit: those are the bits of its letters."""
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

    def held_type(self, column: Column) -> str:
        """The type of a column whose own type nobody else has, by how it holds values."""
        form = form_of(column)
        if form == "words":
            return self.type_name(f"text {max(map(len, column.yes_no))}")
        return self.type_name({"seconds": "bigint", "dashed": "text 36"}.get(form, column.type))

    own_forms: ClassVar[tuple[str, ...]] = ()
    """Neutral types that are kept as only Welbik does, whatever the column's type says."""
    called: ClassVar[Mapping[str, str]] = {}
    """Types under the names that the database's catalogue has for those written here."""

    def is_same(self, type_: str, native: str) -> bool:
        """Whether a column of a type that was found holds a neutral type just as ours would."""
        return self._plainly(native) == self._plainly(self.type_name(type_).split(" COLLATE ")[0])

    def _plainly(self, native: str) -> str:
        return _called(native, tuple(self.called.items()))

    def nothing(self, type_: str) -> str:
        """An empty value of a neutral type."""
        return "NULL"

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

    def given(self, value: str, type_: str) -> str:
        """A neutral value as SQL that is of its type wherever it stands."""
        return self.literal(value, type_)

    def length(self, column: str) -> str:
        """How many characters a column has."""
        return f"length({column})"

    def by_letters(self, value: str) -> str:
        """A text as it is compared letter by letter, whatever its column says."""
        return value

    # Constraints

    def checks(self, table: Table, column: Column) -> Iterator[tuple[str, str]]:
        """The conditions of a column, each with its name."""
        name = quote(column.name)
        if form_of(column) or column.empty is not None:
            # What others hold their own way is held to what they chose.
            return
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

    tied: ClassVar[bool] = False
    """Whether a reference needs its index: it is let go of before that goes."""
    anew_when_called: ClassVar[bool] = False
    """Whether what holds a table keeps its name when that gets another, until it is made anew."""
    settled: ClassVar[tuple[str, ...]] = ()
    """What must be said between rows that came and tables that change."""
    deferrable: ClassVar[str] = ""
    """What lets references rest until a transaction ends."""

    # Tables

    def column(self, table: Table, column: Column, keys: Keys) -> str:
        """A column of a new table, or one that is added, without its conditions."""
        native = column.native if is_built_in(column.native) else ""
        parts = [quote(column.name), native or self.held_type(column)]
        parts += ["NOT NULL"] if column.required else []
        return " ".join(parts)

    def create_table(self, table: Table, keys: Keys) -> list[str]:
        """A table without its references: those come when all tables are there."""
        return [self._table(table, table.name, keys)]

    def _table(self, table: Table, name: str, keys: Keys) -> str:
        lines = [self.own_number(table)] if table.numbered else []
        lines += [self.column(table, column, keys) for column in table.columns]
        told = ", ".join(map(quote, (table.key,) if table.key else table.keys))
        lines += [f"PRIMARY KEY ({told})"] if told and not table.keyless else []
        lines += [check(*one) for column in table.columns for one in self.checks(table, column)]
        lines += [check(*rule) for rule in self.rules(table)]
        return f"CREATE TABLE {quote(name)} (\n  {self._lines(table, lines)}\n){self.options}"

    def own_number(self, table: Table) -> str:
        """The column of the key that is a number of its own."""
        return f"{quote(table.number)} {self.number}"

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
        columns = ", ".join(map(quote, indexed(table, index)))
        where = f" WHERE {quote(REMOVED)} IS NULL" if index.live else ""
        return f"CREATE {kind} {quote(index.name(table.name))} ON {quote(table.name)} ({columns}){where}"

    def drop_index(self, table: str, name: str) -> str:
        return f"DROP INDEX {quote(name)}"

    # Changes

    def reshape(self, change: Change, keys: Keys) -> Phases:
        """What turns a table into another. Whatever is written the same for both stays."""
        new, found = change.after, Phases()
        self.refuse_unnamed(change, keys)
        table = quote(new.name)
        for column in change.come:
            found.grow += self._grown(change, column, keys)
        for column in change.anew:
            beside = replace(column, name=column.name + BESIDE, required=False)
            found.grow.append(f"ALTER TABLE {table} ADD COLUMN {self.column(new, beside, keys)}")
        if change.values:
            names = {column.name: column.name + BESIDE for column in change.anew}
            sets = [f"{quote(names.get(n, n))} = {value}" for n, value in change.values.items()]
            found.fill.append(f"UPDATE {table} SET {', '.join(sets)}")
        touched = [quote(column.name) for column in (*change.gone, *change.anew)]
        if self.tied:
            touched += [quote(now.name) for was, now in change.kept if was.type != now.type]
        found.shrink += self._let_go(change, touched, keys)
        found.shrink += self._taken(change)
        if change.has_other_key or change.gone_with_key:
            found.grow = [*self.numbers(change), *found.grow]
            found.key += self.change_key(change, keys)
        found.shrink += [
            _takes_its_place(new, column)
            for column in change.anew
            if column.name not in change.gone_with_key
        ]
        for before, after in change.kept:
            # What rows are told by changes when nothing refers to it.
            phase = found.key if before.name in change.before.told_by else found.shrink
            phase += self.alter_column(new, before, after, keys)
        found.shrink += [
            self.require(new, column)
            for column in (*change.come, *change.anew)
            if column.required and column.name in change.values.keys() - {*change.gone_with_key}
        ]
        found.finish += self._hold(change, touched, keys)
        return found

    def refuse_unnamed(self, change: Change, keys: Keys) -> None:
        """Raises WelbikError where something would go that others made: nobody knows its name."""
        old, new = change.before, change.after
        if not old.as_it_is:
            return
        gone = {column.name for column in change.gone}
        for column in old.columns:
            now = new.column(column.name)
            if now is None:
                continue
            same = (column.references, column.removal) == (now.references, now.removal)
            if (column in old.bound and not same) or (column.unique and not now.unique):
                what = "leads to" if column.references else "is unique"
                raise self._by_hand(f"{old.name}.{column.name} {what} as others made it")
        for index in old.indexes:
            if index not in new.indexes and not gone & set(index.columns):
                raise self._by_hand(f"the index of {old.name} over {', '.join(index.columns)}")

    @staticmethod
    def _by_hand(what: str) -> WelbikError:
        return WelbikError(
            f"this can't be changed by a declaration: {what}",
            "write the change as a step of SQL (docs/migrations.md, by hand), or put it back",
        )

    def _grown(self, change: Change, column: Column, keys: Keys) -> list[str]:
        table, name = quote(change.after.name), quote(column.name)
        if column.name in change.values:
            column = replace(column, required=False)
        written = self.column(change.after, column, keys)
        fill = change.fills.get(column.name)
        if fill is None:
            return [f"ALTER TABLE {table} ADD COLUMN {written}"]
        # With a default the rows that are there are not written anew.
        return [
            f"ALTER TABLE {table} ADD COLUMN {written} DEFAULT {fill}",
            f"ALTER TABLE {table} ALTER COLUMN {name} DROP DEFAULT",
        ]

    def _taken(self, change: Change) -> list[str]:
        table, names = quote(change.after.name), (*change.gone, *change.anew)
        gone = [c.name for c in names if c.name not in change.gone_with_key]
        return [f"ALTER TABLE {table} DROP COLUMN {quote(name)}" for name in gone]

    old_number: ClassVar[str] = ""
    """What rows are told apart by before they get a number; empty: it is given them at once."""

    def numbers(self, change: Change) -> list[str]:
        """Gives rows that had none a number of their own, which is to be their key."""
        raise NotImplementedError

    def change_key(self, change: Change, keys: Keys) -> list[str]:
        """Lets rows be told apart otherwise, once nothing refers to them by the old key."""
        anew = [c for c in change.anew if c.name in change.gone_with_key]
        places = [_takes_its_place(change.after, column) for column in anew]
        places += [self.require(change.after, column) for column in anew if column.required]
        return [*self.without_key(change), *places, *self.with_key(change, keys)]

    def without_key(self, change: Change) -> list[str]:
        """Takes the key away, and the columns that go with it."""
        raise NotImplementedError

    def with_key(self, change: Change, keys: Keys) -> list[str]:
        told = self.told_apart_by(change.after)
        return [f"ALTER TABLE {quote(change.after.name)} ADD PRIMARY KEY ({told})"] if told else []

    @staticmethod
    def told_apart_by(table: Table) -> str:
        """The columns of a table's key; nothing where it has none."""
        return ", ".join(map(quote, () if table.keyless else table.told_by))

    def _let_go(self, change: Change, touched: Sequence[str], keys: Keys) -> list[str]:
        """Lets go of what holds the table now and will not, or reads a column that goes."""
        table, old, new = quote(change.after.name), change.before, change.after
        references = self._anew(self._references(old, keys), self._references(new, keys), touched)
        indexes = self._anew(self._index_texts(old), self._index_texts(new), touched)
        if self.tied:
            loose = [
                quote(name)
                for i in indexes_of(old)
                if i.name(old.name) in indexes
                for name in i.columns
            ]
            references |= self._anew(self._references(old, keys), {}, loose, only=True)
        return [
            *(f"ALTER TABLE {table} {self.drop_reference(name)}" for name in references),
            *(self.drop_index(new.name, name) for name in indexes),
            *(
                f"ALTER TABLE {table} DROP CONSTRAINT IF EXISTS {quote(name)}"
                for name in self._anew(self._conditions(old), self._conditions(new), touched)
            ),
        ]

    def _hold(self, change: Change, touched: Sequence[str], keys: Keys) -> list[str]:
        """Holds the table to what it was not held to, or no more."""
        table, old, new = quote(change.after.name), change.before, change.after
        checks = self._anew(self._conditions(new), self._conditions(old), touched)
        indexes = self._anew(self._index_texts(new), self._index_texts(old), touched)
        references = self._anew(self._references(new, keys), self._references(old, keys), touched)
        if self.tied:
            lost = self._anew(self._index_texts(old), self._index_texts(new), touched)
            loose = [
                quote(name)
                for i in indexes_of(old)
                if i.name(old.name) in lost
                for name in i.columns
            ]
            references |= self._anew(self._references(new, keys), {}, loose, only=True)
        added = ", ".join(f"ADD {check(*one)}" for one in checks.items())
        held = [f"ALTER TABLE {table} {added}"] if added else []
        return [*held, *indexes.values(), *references.values()]

    @staticmethod
    def _anew(
        some: Mapping[str, str],
        others: Mapping[str, str],
        touched: Sequence[str],
        *,
        only: bool = False,
    ) -> dict[str, str]:
        """What others lack or have otherwise, or names what is touched; `only` the latter."""
        return {
            name: said
            for name, said in some.items()
            if (not only and others.get(name) != said) or any(one in said for one in touched)
        }

    def _conditions(self, table: Table) -> dict[str, str]:
        found = dict(one for column in table.columns for one in self.checks(table, column))
        return found | dict(self.rules(table))

    def _references(self, table: Table, keys: Keys) -> dict[str, str]:
        said = self.add_references(table, table.bound, keys)
        names = [identifier(table.name, column.name, "reference") for column in table.bound]
        return dict(zip(names, said, strict=True)) if said else {}

    def _index_texts(self, table: Table) -> dict[str, str]:
        return {i.name(table.name): self.create_index(table, i) for i in indexes_of(table)}

    def drop_reference(self, name: str) -> str:
        return f"DROP CONSTRAINT IF EXISTS {quote(name)}"

    def alter_column(self, table: Table, before: Column, after: Column, keys: Keys) -> list[str]:
        """A column changed where it is: its type where all that is stored fits, whether it may be empty."""
        changes = []
        if self.type_name(before.type) != self.type_name(after.type):
            changes.append(f"TYPE {self.type_name(after.type)}")
        if before.required != after.required:
            changes.append(f"{'SET' if after.required else 'DROP'} NOT NULL")
        name = quote(after.name)
        said = ", ".join(f"ALTER COLUMN {name} {one}" for one in changes)
        return [f"ALTER TABLE {quote(table.name)} {said}"] if said else []

    def require(self, table: Table, column: Column) -> str:
        """A column that may be empty no longer may."""
        return f"ALTER TABLE {quote(table.name)} ALTER COLUMN {quote(column.name)} SET NOT NULL"

    def made(self, table: Table, made: str) -> str:
        """What gives each row a value of its own; `made` as `migrations.steps.AddColumn` has it."""
        word, _, source = made.partition(" ")
        if word == "uuid":
            return self.new_uuid()
        key = quote(table.own)
        # With its key behind it no word meets another.
        return self.slug(quote(source) if source else "NULL", table.name.replace("_", "-"), key)

    def new_uuid(self) -> str:
        """A random identifier, another one for each row."""
        raise NotImplementedError

    def slug(self, source: str, otherwise: str, key: str) -> str:
        """A word for addresses made of a text, its row's key behind it."""
        raise NotImplementedError

    def rename_column(
        self, before: Table, after: Table, old: str, new: str, keys: Keys
    ) -> list[str]:
        """Constraints and indexes are named after their columns, so they are called anew too."""
        table = quote(after.name)
        said = [f"ALTER TABLE {table} RENAME COLUMN {quote(old)} TO {quote(new)}"]
        return said if after.as_it_is else said + self._call_anew(before, after)

    def rename_table(self, before: Table, after: Table, keys: Keys) -> list[str]:
        said = [f"ALTER TABLE {quote(before.name)} RENAME TO {quote(after.name)}"]
        return said if after.as_it_is else said + self._call_anew(before, after)

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
        return found + [identifier(table.name, c.name, "reference") for c in table.bound]

    def rename_constraint(self, table: str, old: str, new: str) -> str:
        return f"ALTER TABLE {quote(table)} RENAME CONSTRAINT {quote(old)} TO {quote(new)}"

    def rename_index(self, table: str, old: str, new: str) -> str:
        return f"ALTER INDEX {quote(old)} RENAME TO {quote(new)}"

    def drop_table(self, name: str) -> list[str]:
        return [f"DROP TABLE {quote(name)}"]

    def script(self, statements: list[str]) -> list[str]:
        """Statements as a script for somebody else to run: what must be said around them."""
        return statements


@lru_cache(maxsize=1000)
def _called(native: str, names: tuple[tuple[str, str], ...]) -> str:
    """A type under the name that statements have for it; schemas have few, each many times."""
    said = " ".join(native.lower().replace(", ", ",").split())
    for name, known in names:
        said = re.sub(rf"^{name}$", known, said)
    return said


def check(name: str, condition: str) -> str:
    return f"CONSTRAINT {quote(name)} CHECK ({condition})"


def _takes_its_place(table: Table, column: Column) -> str:
    aside, name = quote(column.name + BESIDE), quote(column.name)
    return f"ALTER TABLE {quote(table.name)} RENAME COLUMN {aside} TO {name}"


def _between(tested: str, low: str, high: str) -> str:
    if low and high:
        return f"{tested} BETWEEN {low} AND {high}"
    return f"{tested} >= {low}" if low else f"{tested} <= {high}"


def indexed(table: Table, index: Index) -> tuple[str, ...]:
    """The columns of an index, with that of the key where rows stand in its order."""
    if not index.ordered or len(table.told_by) != 1 or table.own in index.columns:
        return index.columns
    return (*index.columns[: index.ordered], table.own, *index.columns[index.ordered :])


def indexes_of(table: Table) -> list[Index]:
    """Every unique column, reference and declared index, each once."""
    wanted = [
        Index((column.name,), column.unique)
        for column in table.columns
        if column.unique or (column.references and not table.as_it_is)
    ]
    singles = {index.columns for index in wanted if index.unique}
    wanted += [index for index in table.indexes if index.unique or index.columns not in singles]
    return list(dict.fromkeys(wanted))
