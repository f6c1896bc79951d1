"""MariaDB.

Its sessions speak the standard's SQL here: quotes around identifiers, no escapes within texts,
texts compared by code point.
"""

from __future__ import annotations

import re
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from pathlib import Path
from typing import Any, ClassVar, Self

from ..problems import WelbikError
from ..rules.sql import quote, text
from ..schema.entries import REMOVED
from .address import Address
from .backend import BUSY_SECONDS
from .catalog import Catalog
from .ddl import Ddl, Keys, check
from .journal import Journal
from .mariadb_catalog import read_catalog
from .mariadb_sql import MariadbSql
from .neutral import from_lines
from .packing import Packed, Packing
from .references import check_references
from .reshape import Change, Phases
from .server import NoServer, Server, driver, reach
from .streaming import Stream
from .tables import Column, Index, Table, ends, identifier

_COLLATION = "utf8mb4_nopad_bin"
_SESSION = (
    "SET SESSION sql_mode = 'ANSI_QUOTES,NO_BACKSLASH_ESCAPES,STRICT_ALL_TABLES', "
    "time_zone = '+00:00', "
    f"collation_connection = '{_COLLATION}', innodb_lock_wait_timeout = {BUSY_SECONDS}"
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
_OLDEST = (10, 6)
_DONE_ALREADY = {1050, 1054, 1060, 1061, 1068, 1091, 1146, 1826}
"""What a statement ends in that was done before: its table, column or key is there, or gone."""
_IN_TRANSACTION = 1
"""The flag with which the server says that a transaction is open."""


class MariadbDdl(Ddl):
    """It changes in place too, each statement for itself: none can be taken back."""

    word = "mariadb"
    sql = MariadbSql
    tied = True
    number = "INTEGER PRIMARY KEY AUTO_INCREMENT"
    options = f" ENGINE = InnoDB DEFAULT CHARACTER SET = utf8mb4 COLLATE = {_COLLATION}"
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
        columns = [self._indexed(table, index, name) for name in index.columns]
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
        return said + (self.add_references(after, [named], keys) if named.references else [])

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
        references = [column for column in after.columns if column.references]
        return (
            said + self._index_names(before, after) + self.add_references(after, references, keys)
        )

    def rename_index(self, table: str, old: str, new: str) -> str:
        return f"ALTER TABLE {quote(table)} RENAME INDEX {quote(old)} TO {quote(new)}"

    def drop_table(self, name: str) -> list[str]:
        # What refers to it goes too, or no longer does.
        rest, again = (f"SET foreign_key_checks = {on}" for on in (0, 1))
        return [rest, *super().drop_table(name), again]

    def script(self, statements: list[str]) -> list[str]:
        return [_SESSION, *statements]


def _is_long(type_: str) -> bool:
    word, *numbers = type_.split()
    return word == "text" and (not numbers or int(numbers[0]) > _SHORT)


class Mariadb(Journal, Server):
    """A connection to a MariaDB server."""

    word = "mariadb"
    requirement = "PyMySQL>=1.1"
    sql = MariadbSql
    ddl = MariadbDdl()

    def __init__(self, connection: Any, where: str) -> None:
        import pymysql

        self.errors = (pymysql.MySQLError,)
        super().__init__(connection, where)
        self._touched: set[str] = set()
        self._loads = True
        self._empty = ""
        self._stream: Stream | None = None
        self._stored = 0, 0

    @classmethod
    def open(cls, address: Address, root: Path, *, create: bool = False) -> Self:
        pymysql = driver("pymysql", cls.word, cls.requirement)
        given = _given(address)
        if "unix_socket" not in given:
            reach(given["host"], given["port"], address, greets=True)
        try:
            connection = pymysql.connect(**given, database=address.name or None)
            found = cls(connection, address.shown)
            version = str(found.run("SELECT version()")[0][0])
        except (pymysql.MySQLError, OSError) as error:
            raise cls._unopened(address, given, error) from None
        numbers = tuple(int(n) for n in version.split("-")[0].split(".")[:2])
        if "mariadb" not in version.lower() or numbers < _OLDEST:
            raise NoServer(
                address,
                f"the server is version {version}",
                f"Welbik needs MariaDB {'.'.join(map(str, _OLDEST))} or newer",
            )
        if not address.name:
            raise NoServer(address, "it names no database", "write it behind the last /")
        return found

    @classmethod
    def _unopened(cls, address: Address, given: dict[str, Any], error: Exception) -> WelbikError:
        import pymysql

        code = error.args[0] if error.args else 0
        said = str(error.args[1] if len(error.args) > 1 else error)
        if code == 1049:
            return NoServer.lacking(address)
        if code == 1044:
            return NoServer.not_allowed(address, said, f'GRANT ALL ON "{address.name}".*')
        if code in (1045, 1698) and "ssl" not in given:
            with suppress(pymysql.MySQLError, OSError):
                pymysql.connect(**given, ssl={"check_hostname": False}).close()
                remedy = "add ?ssl_ca=FILE to the address, or ?ssl_check_hostname=false without one"
                return NoServer(address, "the server wants TLS", remedy)
        if code in (1045, 1698):
            return NoServer.refused(address, said)
        return NoServer(address, said, "check each part of the address")

    @classmethod
    def make(cls, address: Address) -> None:
        import pymysql

        try:
            with pymysql.connect(**_given(address)) as connection, connection.cursor() as cursor:
                cursor.execute(
                    f"CREATE DATABASE {quote(address.name)} CHARACTER SET utf8mb4 COLLATE {_COLLATION}"
                )
        except pymysql.MySQLError as error:
            grant = f'GRANT ALL ON "{address.name}".*'
            raise NoServer.not_allowed(address, str(error.args[-1]), grant) from None

    @classmethod
    def remove(cls, address: Address) -> None:
        import pymysql

        with pymysql.connect(**_given(address)) as connection, connection.cursor() as cursor:
            cursor.execute(f"DROP DATABASE IF EXISTS {quote(address.name)}")

    def _ask(self, statement: str, values: Sequence[object]) -> list[tuple[Any, ...]]:
        with self.connection.cursor() as cursor:
            cursor.execute(statement, tuple(values) or None)
            return list(cursor.fetchall())

    def each(self, statement: str) -> Iterator[tuple[Any, ...]]:
        from pymysql.cursors import SSCursor

        with self.connection.cursor(SSCursor) as cursor:
            cursor.execute(statement)
            yield from cursor

    def neutral(self, expression: str, type_: str) -> str:
        word, *numbers = type_.split()
        if word == "decimal":
            return f"CAST({expression} * {10 ** int(numbers[1])} AS SIGNED)"
        form = {"date": "%Y-%m-%d", "timestamp": "%Y-%m-%d %H:%i:%s.%f", "time": "%H:%i:%s.%f"}
        if word not in form:
            return expression
        told = f"{'time' if word == 'time' else 'date'}_format({expression}, '{form[word]}')"
        # Days without a day or a month are none of any calendar.
        return (
            told
            if word == "time"
            else f"IF(dayofmonth({expression}) * month({expression}), {told}, NULL)"
        )

    def _begin_alongside(self) -> None:
        self.run("START TRANSACTION")
        self.run("SET foreign_key_checks = 0")
        self._touched.clear()

    def _begin(self) -> None:
        # Whatever makes a table ends a transaction: our own one is made before.
        self.make_fixed()
        self.run("SET TRANSACTION ISOLATION LEVEL SERIALIZABLE")
        self.run("START TRANSACTION")
        self.run("SET foreign_key_checks = 0")
        self._touched.clear()

    def _before_commit(self) -> None:
        """References are looked at now: rows may have come before those they refer to."""
        # Only once all is loaded it is known which tables have new rows.
        super()._before_commit()
        for table in sorted(self._touched & self.tables.keys()):
            check_references(self, self.tables[table])

    @contextmanager
    def transaction(self) -> Iterator[None]:
        try:
            with super().transaction():
                yield
        finally:
            with suppress(*self.errors):
                self.run("SET foreign_key_checks = 1")

    def _roll_back(self) -> None:
        with suppress(*self.errors):
            super()._roll_back()

    def table_names(self) -> set[str]:
        asked = "SELECT table_name FROM information_schema.tables WHERE table_schema = database()"
        return {name for (name,) in self.run(asked)}

    def catalog(self) -> Catalog:
        return read_catalog(self.run, self.errors)

    @contextmanager
    def reading(self) -> Iterator[None]:
        self.run("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
        self.run("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY")
        try:
            yield
        finally:
            self._roll_back()

    def look(self, table: str) -> dict[str, str]:
        said = str(self.run(f"SHOW CREATE TABLE {quote(table)}")[0][1])
        found, words = {}, {"CONSTRAINT": "check", "KEY": "index", "UNIQUE": "index"}
        for line in said.splitlines()[1:]:
            line = line.strip().rstrip(",")
            first = line.split()[0]
            if first == ")":
                found["options"] = re.sub(r" AUTO_INCREMENT=\d+", "", line)
            elif first == "PRIMARY":
                found["key"] = line
            else:
                word = "reference" if " FOREIGN KEY " in line else words.get(first, "column")
                name, _, rest = line.partition('"')[2].partition('"')
                found[f"{word} {name}"] = f"{line.partition(chr(34))[0]}{rest}"
        return found

    def references(self, table: str) -> list[tuple[str, str, str]]:
        found = self.run(
            "SELECT k.column_name, r.referenced_table_name, r.delete_rule "
            "FROM information_schema.referential_constraints r "
            "JOIN information_schema.key_column_usage k ON k.constraint_name = r.constraint_name "
            "AND k.constraint_schema = r.constraint_schema AND k.table_name = r.table_name "
            "WHERE r.constraint_schema = database() AND r.table_name = %s",
            (table,),
        )
        kept = ("CASCADE", "SET NULL")
        return sorted((n, other, a if a in kept else "NO ACTION") for n, other, a in found)

    # Migrations

    @contextmanager
    def _migrating(self) -> Iterator[None]:
        lock = "concat('welbik ', md5(database()))"
        if not self.run(f"SELECT get_lock({lock}, {BUSY_SECONDS})")[0][0]:
            raise self.in_use(RuntimeError("somebody else migrates it"))
        try:
            yield
        except self.errors as error:
            raise self.refused(error) from error
        finally:
            with suppress(*self.errors):
                self.run(f"DO release_lock({lock})")

    def was_done(self, error: Exception) -> bool:
        code, said = error.args[0], str(error.args[-1])
        return code in _DONE_ALREADY or (code == 1005 and "errno: 121" in said)

    def refused(self, error: Exception) -> WelbikError:
        weak = error.args and error.args[0] in (1044, 1142, 1227)
        return self.lacks_privilege(error, "GRANT ALL") if weak else super().refused(error)

    def told(self, error: Exception) -> str:
        return " ".join(str(error.args[-1] if error.args else error).split())

    def learn(self, tables: Sequence[str]) -> None:
        # It would end a transaction; meanwhile the server counts by itself.
        self.loaded()
        if not self.connection.server_status & _IN_TRANSACTION:
            self.run(f"ANALYZE TABLE {', '.join(map(quote, tables))}")

    def restore(self, engine: Any) -> None:
        names = sorted(self.tables)
        some = [
            f"SELECT {text(n)} FROM dual WHERE EXISTS (SELECT 1 FROM {quote(n)})" for n in names
        ]
        full = {name for (name,) in self.run(" UNION ALL ".join(some))}
        self.run("SET foreign_key_checks = 0")
        for name in sorted(full):
            self.run(f"DELETE FROM {quote(name)}")
        self.run("SET foreign_key_checks = 1")
        counted = self.run(
            "SELECT table_name FROM information_schema.tables "
            "WHERE table_schema = database() AND auto_increment > 1"
        )
        for (name,) in counted:
            self.run(f"ALTER TABLE {quote(name)} AUTO_INCREMENT = 1")

    def next_id(self, table: str) -> int:
        asked = (
            "SELECT auto_increment FROM information_schema.tables WHERE table_schema = database()"
        )
        given = self.run(f"{asked} AND table_name = %s", (table,))[0][0] or 1
        most = self.most(table)
        return max(int(given), most + 1)

    def _load(self, packed: Packed) -> None:
        self._touched.add(packed.packing.table)
        if self._loads:
            try:
                self._from_file(packed)
            except self.errors as error:
                # 3948, 1148, 4166: the server, or its keeper, lets nobody load files.
                if error.args[0] not in (1148, 3948, 4166):
                    raise
                self._loads = False
        if not self._loads:
            self._insert(packed)

    @contextmanager
    def indexes_last(self, table: str) -> Iterator[None]:
        self._empty = table
        try:
            yield
            self.loaded()
        finally:
            self._empty = ""
            with suppress(WelbikError, *self.errors):
                self.loaded()

    def loaded(self) -> None:
        self._end_stream()
        super().loaded()

    def store(self, packed: Packed) -> None:
        if self._stream is None and packed.packing.table == self._empty and Stream.possible:
            self._begin_stream(packed.packing)
        if self._stream is None:
            super().store(packed)
        else:
            self._stream.write(packed.lines, packed.rows)

    def _begin_stream(self, packing: Packing) -> None:
        self._empty = ""
        # One statement into an empty table sorts its indexes at last, and refuses what is double then.
        self.run("SET unique_checks = 0")
        stream = Stream(self.aside, lambda path: self._read_file(packing, path))
        self._stream = stream
        if stream.file >= 0:
            self._touched.add(packing.table)
            return
        # Nobody may load files, or worse: what follows finds out.
        with suppress(*self.errors):
            self._end_stream()

    def _end_stream(self) -> None:
        stream, self._stream = self._stream, None
        if stream is None:
            return
        try:
            stream.close()
        finally:
            with suppress(*self.errors):
                self._ask("SET unique_checks = 1", ())
        self._check_loaded(stream.rows)

    def _from_file(self, packed: Packed) -> None:
        with tempfile.NamedTemporaryFile(delete=False) as file:
            file.write(packed.lines)
        try:
            self._read_file(packed.packing, file.name)
        finally:
            Path(file.name).unlink()
        self._check_loaded(packed.rows)

    def _read_file(self, packing: Packing, path: str) -> None:
        listed = ", ".join(map(quote, packing.names))
        with self.connection.cursor() as cursor:
            cursor.execute(
                f"LOAD DATA LOCAL INFILE {text(path)} INTO TABLE {quote(packing.table)} "
                "CHARACTER SET utf8mb4 FIELDS TERMINATED BY X'09' ESCAPED BY X'5C' "
                f"LINES TERMINATED BY X'0A' ({listed})"
            )
            self._stored = cursor.rowcount, cursor.warning_count

    def _check_loaded(self, rows: int) -> None:
        """What comes from a file is refused in silence: here no row may be missing or other."""
        if self._stored != (rows, 0):
            told = self._ask("SHOW WARNINGS LIMIT 1", ())
            said = told[0][2] if told else "rows were left out"
            raise WelbikError(f"the database refused a row: {said}", "nothing was added")

    def _insert(self, packed: Packed) -> None:
        names = packed.packing.names
        listed, marks = ", ".join(map(self.name, names)), ", ".join("%s" for _ in names)
        with self.connection.cursor() as cursor:
            cursor.executemany(
                f"INSERT INTO {self.name(packed.packing.table)} ({listed}) VALUES ({marks})",
                from_lines(packed.lines.decode()),
            )


def _given(address: Address) -> dict[str, Any]:
    """An address as its driver takes it, without the database."""
    found: dict[str, Any] = {
        **{"user": address.user or None, "password": address.password},
        **{"charset": "utf8mb4", "autocommit": True, "local_infile": True},
        **{"connect_timeout": BUSY_SECONDS, "init_command": _SESSION},
    }
    options = dict(address.options)
    if "unix_socket" in options:
        found["unix_socket"] = options["unix_socket"]
    else:
        found |= {"host": address.host or "localhost", "port": address.port or 3306}
    # As the application's own library reads them.
    tls: dict[str, Any] = {
        name.removeprefix("ssl_"): value
        for name, value in options.items()
        if name in ("ssl_ca", "ssl_capath", "ssl_cert", "ssl_key", "ssl_cipher")
    }
    if "ssl_check_hostname" in options:
        tls["check_hostname"] = options["ssl_check_hostname"].lower() not in ("false", "0", "no")
    return found | {"ssl": tls} if tls else found
