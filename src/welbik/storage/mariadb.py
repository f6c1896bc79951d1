"""MariaDB.

Its sessions speak the standard's SQL here: quotes around identifiers, no escapes within texts,
texts compared by code point.
"""

from __future__ import annotations

import re
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, Self

from ..problems import WelbikError
from ..rules.sql import quote, text
from .address import Address
from .backend import BUSY_SECONDS, Database
from .catalog import Catalog
from .journal import Journal
from .mariadb_catalog import read_catalog
from .mariadb_ddl import COLLATION, SESSION, MariadbDdl
from .mariadb_sql import MariadbSql
from .neutral import from_lines
from .packing import Packed, Packing
from .references import check_references
from .server import NoServer, Server, driver, reach
from .streaming import Stream, only_file

_OLDEST = (10, 6)
_DONE_ALREADY = {1050, 1054, 1060, 1061, 1068, 1091, 1146, 1826}
"""What a statement ends in that was done before: its table, column or key is there, or gone."""
_FILES = {"ssl_ca", "ssl_capath", "ssl_cert", "ssl_key"}
_OPTIONS = {"ssl_cipher", "ssl_check_hostname", "unix_socket", "charset", "ssl_disabled"}
_IN_TRANSACTION = 1
"""The flag with which the server says that a transaction is open."""


class Mariadb(Journal, Server):
    """A connection to a MariaDB server."""

    word = "mariadb"
    requirement = "PyMySQL>=1.1"
    sql = MariadbSql
    ddl = MariadbDdl()

    def __init__(self, connection: Any, where: str, *, loads: bool = False) -> None:
        import pymysql

        self.errors = (pymysql.MySQLError,)
        super().__init__(connection, where)
        self._touched: set[str] = set()
        self._loads = loads
        self._empty = ""
        self._stream: Stream | None = None
        self._stored = 0, 0

    @classmethod
    def open(
        cls, address: Address, root: Path, *, create: bool = False, loads: bool = False
    ) -> Self:
        pymysql = driver("pymysql", cls.word, cls.requirement)
        address.check_options({*_FILES, *_OPTIONS}, _FILES, root)
        given = {**_given(address), "local_infile": loads}
        if "unix_socket" not in given:
            reach(given["host"], given["port"], address, greets=True)
        try:
            with _no_file_asked(address.shown):
                connection = pymysql.connect(**given, database=address.name or None)
            found = cls(connection, address.shown, loads=loads)
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
        if "SSL is required but" in said and not address.options:
            remedy = "turn TLS on there, or add ?ssl_disabled=true to send the password unencrypted"
            return NoServer(address, "the password would be sent unencrypted", remedy)
        if "certificate" in said:
            return NoServer.untrusted(address, said.partition("] ")[2] or said, "ssl_ca")
        if code in (1045, 1698, 3159) and "ssl" not in given:
            with suppress(pymysql.MySQLError, OSError):
                safe = {**given, "ssl_disabled": False, "ssl": {"check_hostname": False}}
                pymysql.connect(**safe).close()
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
                    f"CREATE DATABASE {quote(address.name)} CHARACTER SET utf8mb4 COLLATE {COLLATION}"
                )
        except pymysql.MySQLError as error:
            grant = f'GRANT ALL ON "{address.name}".*'
            raise NoServer.not_allowed(address, str(error.args[-1]), grant) from None

    @classmethod
    def remove(cls, address: Address) -> None:
        import pymysql

        with pymysql.connect(**_given(address)) as connection, connection.cursor() as cursor:
            cursor.execute(f"DROP DATABASE IF EXISTS {quote(address.name)}")

    def limit_statements(self, seconds: int) -> None:
        self.run(f"SET max_statement_time = {seconds}")

    def _ask(self, statement: str, values: Sequence[object]) -> list[tuple[Any, ...]]:
        with _no_file_asked(self.where), self.connection.cursor() as cursor:
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

    def _do(self, statement: str | Callable[[Database], object]) -> None:
        try:
            super()._do(statement)
        except self.errors as error:
            told = str(error)
            # A table in a view that joins it keeps its conditions as they were; it is opened anew the second time.
            if "RENAME COLUMN" not in str(statement) or "'CHECK'" not in told:
                raise
            super()._do(statement)

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
        wanted = self._loads and packed.packing.table == self._empty
        if self._stream is None and wanted and Stream.possible:
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
        with only_file(path), self.connection.cursor() as cursor:
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


@contextmanager
def _no_file_asked(where: str) -> Iterator[None]:
    """Raises WelbikError if the server answers a statement by asking for a file."""
    try:
        yield
    except RuntimeError:
        raise WelbikError(
            f"{where} asks for a file of this machine that it was not offered",
            "do not trust this server: nothing was sent",
        ) from None


def _given(address: Address) -> dict[str, Any]:
    """An address as its driver takes it, without the database."""
    found: dict[str, Any] = {
        **{"user": address.user or None, "password": address.password},
        **{"charset": "utf8mb4", "autocommit": True},
        **{"connect_timeout": BUSY_SECONDS, "init_command": SESSION},
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
    for name in ("ca", "capath", "cert", "key"):
        if name in tls and not Path(tls[name]).exists():
            remedy = f"correct the path behind ssl_{name} in the address"
            raise NoServer(address, f"there is no file {tls[name]}", remedy)
    if "ssl_check_hostname" in options:
        tls["check_hostname"] = options["ssl_check_hostname"].lower() not in ("false", "0", "no")
    if tls:
        return found | {"ssl": tls}
    # Nobody listens in within one machine, and the driver reads all certificates for each connection.
    if (
        "unix_socket" in found
        or address.is_local
        or options.get("ssl_disabled", "").lower() in ("true", "1", "yes")
    ):
        return found | {"ssl_disabled": True}
    return found | {"ssl": {"check_hostname": False}} if address.password else found
