"""PostgreSQL."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, ClassVar, Self

from ..problems import WelbikError
from ..rules.patterns import Pattern, explicit, render
from ..rules.sql import Sql, quote, text
from ..rules.tree import BOOLEAN, Apply, Held, Type, maybe_empty
from .address import Address
from .backend import BUSY_SECONDS
from .catalog import Catalog
from .ddl import Ddl, Keys, indexed
from .packing import Packed
from .postgresql_catalog import read_catalog
from .reshape import Change
from .server import NoServer, Server, driver, reach
from .tables import Index, Table

_OLDEST = 13


class PostgresqlSql(Sql):
    """Expressions in PostgreSQL's words."""

    matching = "~"

    def ordered(self, value: str) -> str:
        return f'({value} COLLATE "C")'

    @staticmethod
    def form(pattern: Pattern) -> str:
        return f"^({render(explicit(pattern.tree))})$"

    def cast(self, value: str, have: Type, wanted: Type) -> str:
        if wanted.name == "number":
            return f"CAST({value} AS double precision)"
        return f"CAST({value} AS numeric)" if wanted.name == "decimal" else value

    def round(self, value: str, node: Apply) -> str:
        places = int(node.operands[1].value)  # type: ignore[union-attr,arg-type]
        if node.operands[0].type.name == "number":
            scale = f"CAST(1e{places} AS double precision)"
            return f"(floor(abs({value}) * {scale} + 0.5) / {scale} * sign({value}))"
        found = f"round({value}, {places})"
        return found if node.type.name == "decimal" else f"CAST({found} AS bigint)"

    def to_exact(self, value: str, places: int) -> str:
        scale = f"CAST(1e{places} AS double precision)"
        whole = f"CAST(floor(abs({value}) * {scale} + 0.5) * sign({value}) AS numeric)"
        return f"({whole} / {10**places}.0)" if places else whole

    def special(self, word: str, parts: list[str], node: Apply) -> str:
        first = parts[0]
        if word == "shift":
            if node.type.name == "date":
                return f"({first} + CAST({parts[1]} AS integer))"
            return f"({first} + {parts[1]} * INTERVAL '1 day')"
        if word == "days_between":
            return f"({first} - {parts[1]})"
        if word in ("year", "month", "day"):
            return f"CAST(extract({word} FROM {first}) AS integer)"
        if word == "local_date":
            zone = text(str(self.zone))
            return f"CAST({first} AT TIME ZONE 'UTC' AT TIME ZONE {zone} AS date)"
        if word in ("least", "greatest"):
            return self._extreme(word, parts, node)
        if word == "trim":
            return f"NULLIF(btrim({first}, ' '), '')"
        # Letters beyond A-Z stay as they are, as everywhere: databases disagree about those.
        return f'{word}({first} COLLATE "C")'

    def as_type(self, value: str, wanted: Type) -> str:
        names = {"integer": "bigint", "number": "double precision", "decimal": "numeric"}
        names |= {"datetime": "timestamp", "other": "uuid"}
        return f"CAST({value} AS {names.get(wanted.name, wanted.name)})"

    def neither(self, value: str) -> str:
        return f" WHEN {value} IS NOT NULL THEN {self.as_type(value, BOOLEAN)}"

    def plain_text(self, value: str, have: Type) -> str:
        return f"CAST({value} AS text)"

    def clock_text(self, value: str, word: str) -> str:
        forms = {"date": "YYYY-MM-DD", "time": "HH24:MI:SS", "datetime": "YYYY-MM-DD HH24:MI:SS"}
        return f"to_char({value}, '{forms[word]}')"

    def dashed(self, value: str) -> str:
        return f"CAST({value} AS text)"

    @classmethod
    def unheld(cls, how: Held, column: str) -> str:
        word, *numbers = how.type.split()
        if how.form == "seconds":
            moment = f"(to_timestamp({column}) AT TIME ZONE 'UTC')"
            return f"CAST({moment} AS date)" if word == "date" else moment
        if how.form == "zoned":
            return f"({column} AT TIME ZONE 'UTC')"
        if how.form == "plain":
            return f"CAST({column} AS numeric({numbers[0]}, {numbers[1]}))"
        if how.form == "bits":
            return f"(CAST({column} AS text) = '1')"
        if how.form == "size":
            return f"octet_length({column})"
        if how.form == "padded":
            return f"rtrim(CAST({column} AS text))"
        casts = {"iso": word, "dashed": "uuid", "told": "text", "digits": "text"}
        if how.form in casts:
            return f"CAST({column} AS {casts[how.form]})"
        return super().unheld(how, column)

    @classmethod
    def nothing(cls, column: str, stands: str, how: Held) -> str:
        # The types that text is put into have operators of their own.
        return f"(CASE WHEN {column} <> {stands} THEN {column} END)"

    def as_utc(self, moment: str) -> str:
        return f"({moment} AT TIME ZONE {text(str(self.zone))} AT TIME ZONE 'UTC')"

    def as_local(self, moment: str) -> str:
        return f"({moment} AT TIME ZONE 'UTC' AT TIME ZONE {text(str(self.zone))})"

    def _extreme(self, word: str, parts: list[str], node: Apply) -> str:
        """Nothing where either is nothing; PostgreSQL's own would give the other one."""
        if node.type.name == "text":
            parts = [self.ordered(parts[0]), parts[1]]
        found = f"{word}({parts[0]}, {parts[1]})"
        if not any(map(maybe_empty, node.operands)):
            return found
        return f"(CASE WHEN {parts[0]} IS NOT NULL AND {parts[1]} IS NOT NULL THEN {found} END)"


# The key may be called by what its table was called once.
_KEY_GOES = """DO $$ BEGIN EXECUTE (
  SELECT format('ALTER TABLE %s DROP CONSTRAINT %I CASCADE', conrelid::regclass, conname)
  FROM pg_constraint WHERE conrelid = CAST({} AS regclass) AND contype = 'p'
); END $$"""


class PostgresqlDdl(Ddl):
    """All of it can be changed in place, and within a transaction."""

    word = "postgresql"
    sql = PostgresqlSql
    number = "SERIAL PRIMARY KEY"
    deferrable = " DEFERRABLE"
    called: ClassVar[Mapping[str, str]] = {
        r"character varying(.*)": r"varchar\1",
        r"(timestamp|time)(\(6\))? without time zone": r"\1",
    }
    settled = ("SET CONSTRAINTS ALL IMMEDIATE",)

    def type_name(self, type_: str) -> str:
        found = super().type_name(type_)
        # Compared by code point, whatever the language of the server.
        return f'{found} COLLATE "C"' if type_.startswith("text") else found

    def by_letters(self, value: str) -> str:
        return f'({value} COLLATE "C")'

    def own_number(self, table: Table) -> str:
        serial = {"bigint": "BIGSERIAL", "smallint": "SMALLSERIAL"}.get(table.native, "SERIAL")
        return f"{quote(table.number)} {serial} PRIMARY KEY"

    def create_index(self, table: Table, index: Index) -> str:
        """Rows that are equal by an index stand in it in the order of their keys, as they do
        elsewhere anyway: a page of a long list is then read, and not sorted."""
        key = table.own
        told = len(table.told_by) == 1 and not table.as_it_is
        if not index.unique and told and key not in indexed(table, index):
            columns = ", ".join(map(quote, (*index.columns, key)))
            return (
                f"CREATE INDEX {quote(index.name(table.name))} ON {quote(table.name)} ({columns})"
            )
        return super().create_index(table, index)

    def nothing(self, type_: str) -> str:
        return f"CAST(NULL AS {super().type_name(type_)})"

    def given(self, value: str, type_: str) -> str:
        return f"CAST({self.literal(value, type_)} AS {super().type_name(type_)})"

    def new_uuid(self) -> str:
        return "gen_random_uuid()"

    def slug(self, source: str, otherwise: str, key: str) -> str:
        plain = f"normalize(coalesce(CAST({source} AS text), ''), NFKD)"
        plain = f"lower(regexp_replace({plain}, '[^\\x01-\\x7f]', '', 'g') COLLATE \"C\")"
        word = f"trim(both '-' from regexp_replace({plain}, '[^a-z0-9]+', '-', 'g'))"
        word = f"trim(both '-' from left({word}, 60))"
        return f"coalesce(nullif({word}, ''), {text(otherwise)}) || '-' || {key}"

    def rename_table(self, before: Table, after: Table, keys: Keys) -> list[str]:
        """The key's index and numbers carry the name of the table too."""
        old, new = before.name, after.name
        return [
            *super().rename_table(before, after, keys),
            f"ALTER INDEX IF EXISTS {quote(f'{old}_pkey')} RENAME TO {quote(f'{new}_pkey')}",
            f"ALTER SEQUENCE IF EXISTS {quote(f'{old}_id_seq')} RENAME TO {quote(f'{new}_id_seq')}",
        ]

    def numbers(self, change: Change) -> list[str]:
        if change.before.numbered or not change.after.numbered:
            return []
        number = self.own_number(change.after).removesuffix(" PRIMARY KEY")
        return [f"ALTER TABLE {quote(change.after.name)} ADD COLUMN {number}"]

    def without_key(self, change: Change) -> list[str]:
        table = quote(change.after.name)
        gone = [f"ALTER TABLE {table} DROP COLUMN {quote(n)}" for n in change.gone_with_key]
        return gone if change.before.keyless else [_KEY_GOES.format(text(table)), *gone]

    def drop_table(self, name: str) -> list[str]:
        # What refers to it goes too, or no longer does.
        return [f"DROP TABLE {quote(name)} CASCADE"]

    def script(self, statements: list[str]) -> list[str]:
        return ["BEGIN", *statements, "COMMIT"]


class Postgresql(Server):
    """A connection to a PostgreSQL server."""

    word = "postgresql"
    requirement = "psycopg[binary]>=3.1"
    sql = PostgresqlSql
    ddl = PostgresqlDdl()
    has_schemas = True

    def __init__(self, connection: Any, where: str) -> None:
        import psycopg

        self.errors = (psycopg.Error,)
        super().__init__(connection, where)
        self._numbered: set[str] = set()

    def limit_statements(self, seconds: int) -> None:
        self.run(f"SET statement_timeout = '{seconds}s'")

    @contextmanager
    def asking(self) -> Iterator[Callable[[], None]]:
        # After a statement that was refused it would answer nothing more.
        with self.attempt() as take_back:
            yield take_back

    @classmethod
    def open(
        cls, address: Address, root: Path, *, create: bool = False, loads: bool = False
    ) -> Self:
        psycopg = driver("psycopg", cls.word, cls.requirement)
        given = _given(address, root)
        name = address.name or address.user
        try:
            connection = psycopg.connect(**given, dbname=name, autocommit=True)
            database = cls(connection, address.shown)
            database.run("SET TIME ZONE 'UTC'")
            database.run(f"SET lock_timeout = '{BUSY_SECONDS}s'")
            database.run("SET client_min_messages = warning")
        except psycopg.Error as error:
            raise cls._unopened(address, given, error) from None
        if connection.info.server_version < _OLDEST * 10_000:
            version = connection.info.server_version // 10_000
            raise NoServer(
                address,
                f"the server is version {version}",
                f"Welbik needs PostgreSQL {_OLDEST} or newer",
            )
        return database

    @classmethod
    def _unopened(cls, address: Address, given: dict[str, Any], error: Exception) -> WelbikError:
        """Why a connection failed, in words that help."""
        import psycopg

        host = str(given.get("host", ""))
        port = str(given.get("port", 5432))
        if not host.startswith("/") and port.isdecimal():
            reach(host or "localhost", int(port), address)
        said = " ".join(str(error).replace("FATAL:", "").split())
        said = said.rpartition("failed: ")[2] or said
        if cls._lacks(given, address.name):
            return NoServer.lacking(address)
        if "pg_hba.conf" in said and "no encryption" not in said:
            remedy = "let the server's keeper add this machine and user to its pg_hba.conf"
            return NoServer(address, f"the server lets nobody in from here: {said}", remedy)
        if "root certificate file" in said:
            return NoServer(address, said, "correct the path behind sslrootcert in the address")
        if "certificate" in said:
            return NoServer.untrusted(address, said, "sslrootcert")
        if "does not support SSL" in said and "sslmode" not in address.options:
            remedy = "turn TLS on there, or add ?sslmode=disable to send the password unencrypted"
            return NoServer(address, "the password would be sent unencrypted", remedy)
        if "no encryption" in said or "SSL" in said or "ssl" in said:
            remedy = "add ?sslmode=require to the address, or what the server's keeper tells you"
            return NoServer(address, f"the server wants another encryption: {said}", remedy)
        if "password" in said or "authentication" in said or "role" in said:
            return NoServer.refused(address, said)
        if isinstance(error, psycopg.errors.InsufficientPrivilege) or "permission" in said:
            return NoServer.not_allowed(address, said, "GRANT CONNECT, CREATE ON DATABASE")
        return NoServer(address, said, "check each part of the address")

    @staticmethod
    def _lacks(given: dict[str, Any], name: str) -> bool:
        """Whether the server is there, and has no such database."""
        import psycopg

        for other in ("postgres", "template1"):
            try:
                with psycopg.connect(**given, dbname=other) as connection:
                    asked = "SELECT 1 FROM pg_database WHERE datname = %s"
                    return connection.execute(asked, [name]).fetchone() is None
            except psycopg.Error:
                continue
        return False

    @classmethod
    def make(cls, address: Address) -> None:
        from dataclasses import replace

        other = cls.open(replace(address, name="postgres"), Path())
        try:
            # Compared by code point, and any letter: whatever the server's own language.
            other.run(f"CREATE DATABASE {quote(address.name)} ENCODING 'UTF8' TEMPLATE template0")
        except other.errors as error:
            raise NoServer.not_allowed(address, str(error), "ALTER ROLE … CREATEDB") from None
        finally:
            other.close()
        searched = re.search(r"search_path=([\w$-]+)", address.options.get("options", ""))
        if searched:
            # Tables are made in the schema that is searched first: an empty database has none.
            with cls.open(address, Path()) as made:
                made.run(f"CREATE SCHEMA IF NOT EXISTS {quote(searched[1])}")

    @classmethod
    def remove(cls, address: Address) -> None:
        from dataclasses import replace

        other = cls.open(replace(address, name="postgres"), Path())
        try:
            other.run(f"DROP DATABASE IF EXISTS {quote(address.name)} WITH (FORCE)")
        finally:
            other.close()

    def told(self, error: Exception) -> str:
        told: Any = getattr(error, "diag", None)
        parts = [told.message_primary, told.message_detail] if told is not None else []
        return "; ".join(filter(None, parts)) or super().told(error)

    def refused(self, error: Exception) -> WelbikError:
        if getattr(error, "sqlstate", "") == "42501":
            return self.lacks_privilege(error, "GRANT CREATE, USAGE ON SCHEMA public")
        return super().refused(error)

    def _ask(self, statement: str, values: Sequence[object]) -> list[tuple[Any, ...]]:
        cursor = self.connection.execute(statement, values or None)
        return cursor.fetchall() if cursor.description else []

    def each(self, statement: str) -> Iterator[tuple[Any, ...]]:
        # A cursor of the server's lives within a transaction.
        with self.connection.transaction(), self.connection.cursor("welbik_each") as cursor:
            cursor.itersize = 2000
            cursor.execute(statement)
            yield from cursor

    def neutral(self, expression: str, type_: str) -> str:
        word, *numbers = type_.split()
        if word == "decimal":
            return f"CAST({expression} * {10 ** int(numbers[1])} AS bigint)"
        form = {"date": "YYYY-MM-DD", "timestamp": "YYYY-MM-DD HH24:MI:SS.US"}
        form |= {"time": "HH24:MI:SS.US"}
        if word in form:
            return f"to_char({expression}, '{form[word]}')"
        if word == "uuid":
            return f"replace(CAST({expression} AS text), '-', '')"
        return f"CAST({expression} AS text)" if word == "json" else expression

    def _begin_alongside(self) -> None:
        self.run("BEGIN")
        self.run("SET CONSTRAINTS ALL DEFERRED")
        self._numbered.clear()

    def _begin(self) -> None:
        self.run("BEGIN")
        there = sorted(self.tables.keys() & self.table_names())
        if there:
            # Others read meanwhile; who wants to write waits, as what is checked must stay true.
            self.run(f"LOCK TABLE {', '.join(map(quote, there))} IN EXCLUSIVE MODE")
        self.run("SET CONSTRAINTS ALL DEFERRED")
        self._numbered.clear()

    def _before_commit(self) -> None:
        super()._before_commit()
        # Rows came with their numbers: the next one goes on behind them.
        for table in sorted(self._numbered):
            if self._sequence(table):
                self.run(
                    f"SELECT setval({text(self._sequence(table))}, {self.next_id(table)}, false)"
                )

    def _roll_back(self) -> None:
        if not self.connection.closed:
            super()._roll_back()

    def table_names(self) -> set[str]:
        asked = "SELECT tablename FROM pg_tables WHERE schemaname = current_schema()"
        return {name for (name,) in self.run(asked)}

    def catalog(self) -> Catalog:
        return read_catalog(self.run)

    @contextmanager
    def reading(self) -> Iterator[None]:
        self.run("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
        try:
            yield
        finally:
            self._roll_back()

    def look(self, table: str) -> dict[str, str]:
        here = "CAST(CAST(%s AS text) AS regclass)"
        named = (quote(table),)
        columns = self.run(
            "SELECT a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, c.collname, "
            "pg_get_expr(d.adbin, d.adrelid) FROM pg_attribute a "
            "LEFT JOIN pg_collation c ON c.oid = a.attcollation "
            "LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum "
            f"WHERE a.attrelid = {here} AND a.attnum > 0 AND NOT a.attisdropped",
            named,
        )
        found = {
            f"column {name}": " ".join(
                [type_, *(["not null"] if required else []), *([f"collate {c}"] if c else [])]
                + ([f"default {default}"] if default else [])
            )
            for name, type_, required, c, default in columns
        }
        kinds = {"c": "check", "f": "reference", "p": "key"}
        constraints = self.run(
            "SELECT contype, conname, pg_get_constraintdef(oid) FROM pg_constraint "
            f"WHERE conrelid = {here} AND contype IN ('c', 'f', 'p')",
            named,
        )
        found |= {f"{kinds[str(kind)]} {name}": said for kind, name, said in constraints}
        indexes = self.run(
            "SELECT c.relname, pg_get_indexdef(i.indexrelid) FROM pg_index i "
            f"JOIN pg_class c ON c.oid = i.indexrelid WHERE i.indrelid = {here} AND NOT i.indisprimary",
            named,
        )
        return found | {f"index {name}": said for name, said in indexes}

    def references(self, table: str) -> list[tuple[str, str, str]]:
        found = self.run(
            "SELECT a.attname, r.relname, c.confdeltype FROM pg_constraint c "
            "JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = c.conkey[1] "
            "JOIN pg_class r ON r.oid = c.confrelid "
            "WHERE c.contype = 'f' AND c.conrelid = CAST(CAST(%s AS text) AS regclass)",
            (quote(table),),
        )
        actions = {"c": "CASCADE", "n": "SET NULL"}
        return sorted((n, other, actions.get(str(a), "NO ACTION")) for n, other, a in found)

    @contextmanager
    def _migrating(self) -> Iterator[None]:
        with super()._migrating():
            self.run("SELECT pg_advisory_xact_lock(hashtext('welbik migrate'))")
            yield

    def learn(self, tables: Sequence[str]) -> None:
        self.run(f"ANALYZE {', '.join(map(quote, tables))}")

    def restore(self, engine: Any) -> None:
        names = sorted(self.tables)
        some = [f"SELECT {text(n)} WHERE EXISTS (SELECT 1 FROM {quote(n)})" for n in names]
        full = {name for (name,) in self.run(" UNION ALL ".join(some))}
        self.run("BEGIN")
        self.run("SET LOCAL synchronous_commit = off")
        self.run("SET CONSTRAINTS ALL DEFERRED")
        for name in sorted(full):
            self.run(f"DELETE FROM {quote(name)}")
        sequences = [self._sequence(name) for name in names if self.tables[name].numbered]
        begun = [f"setval({text(one)}, 1, false)" for one in sequences if one]
        if begun:
            self.run(f"SELECT {', '.join(begun)}")
        self.run("COMMIT")

    def hurry(self, connection: Any) -> None:
        connection.execute("SET synchronous_commit = off")
        connection.commit()

    def next_id(self, table: str) -> int:
        named, most = self._sequence(table), self.most(table)
        if not named:
            return most + 1
        last, called = self.run(f"SELECT last_value, is_called FROM {named}")[0]
        return max(int(last) + bool(called), most + 1)

    def _sequence(self, table: str) -> str:
        """Where the numbers of a table's rows come from; empty where rows come with theirs."""
        number = text(self.number_of(table))
        named = self.run(f"SELECT pg_get_serial_sequence({text(quote(table))}, {number})")
        return str(named[0][0] or "")

    def _is_owner(self, table: str) -> bool:
        """Whether this user may change a table, and those that it refers to."""
        asked = (
            "SELECT bool_and(pg_has_role(relowner, 'USAGE')) FROM pg_class WHERE oid = %s::regclass "
            "OR oid IN (SELECT confrelid FROM pg_constraint WHERE conrelid = %s::regclass)"
        )
        return bool(self.run(asked, (quote(table), quote(table)))[0][0])

    def _alone(self) -> bool:
        """Whether nobody else is in the database: whose pages would wait for tables that change."""
        others = "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
        return int(self.run(f"{others} AND backend_type = 'client backend'")[0][0]) == 0

    def _references(self, table: str) -> list[tuple[Any, ...]]:
        """The foreign keys of a table: names and definitions."""
        asked = (
            "SELECT conname, pg_get_constraintdef(oid) FROM pg_constraint "
            "WHERE conrelid = %s::regclass AND contype = 'f' AND convalidated ORDER BY conname"
        )
        return self.run(asked, (quote(table),))

    @contextmanager
    def indexes_last(self, table: str) -> Iterator[None]:
        asked = (
            "SELECT i.relname, pg_get_indexdef(x.indexrelid) FROM pg_index AS x "
            "JOIN pg_class AS i ON i.oid = x.indexrelid "
            "WHERE x.indrelid = %s::regclass AND NOT EXISTS "
            "(SELECT 1 FROM pg_constraint AS c WHERE c.conindid = x.indexrelid) ORDER BY 1"
        )
        owner = self._is_owner(table)
        indexes = self.run(asked, (quote(table),)) if owner else []
        for name, _ in indexes:
            self.run(f"DROP INDEX {quote(name)}")
        references = self._references(table) if owner and self._alone() else []
        for name, _ in references:
            self.run(f"ALTER TABLE {quote(table)} DROP CONSTRAINT {quote(name)}")
        yield
        # No index is made while references are still to be checked.
        self.run("SET CONSTRAINTS ALL IMMEDIATE")
        for _, statement in indexes:
            self.run(statement)
        # Asked of all rows together: one by one takes as long as all the rest.
        for name, definition in references:
            self.run(f"ALTER TABLE {quote(table)} ADD CONSTRAINT {quote(name)} {definition}")
        self.run("SET CONSTRAINTS ALL DEFERRED")

    def _load(self, packed: Packed) -> None:
        table, names = packed.packing.table, packed.packing.names
        known = self.tables.get(table)
        if self.number_of(table) in names and (known is None or known.numbered):
            self._numbered.add(table)
        listed = ", ".join(map(quote, names))
        with self.connection.cursor().copy(f"COPY {quote(table)} ({listed}) FROM STDIN") as copy:
            copy.write(packed.lines)


_OPTIONS = {"sslmode", "sslrootcert", "sslcert", "sslkey", "sslcrl", "options", "connect_timeout"}
_OPTIONS |= {"application_name", "target_session_attrs", "host", "port", "client_encoding"}
_FILES = {"sslrootcert", "sslcert", "sslkey", "sslcrl"}


def _given(address: Address, root: Path) -> dict[str, Any]:
    """An address as its driver takes it, without the database."""
    address.check_options(_OPTIONS, _FILES, root)
    found: dict[str, Any] = {"connect_timeout": BUSY_SECONDS, **address.options}
    for name in ("host", "port", "user", "password"):
        value = getattr(address, name)
        found |= {name: value} if value else {}
    if address.password and not address.is_local:
        found.setdefault("sslmode", "require")
    if address.inside is not None:
        # An empty password, and a file that is not there: none comes from the environment.
        found.setdefault("password", "")
        found["passfile"] = str(address.inside / ".welbik" / "no-passwords")
    return found
