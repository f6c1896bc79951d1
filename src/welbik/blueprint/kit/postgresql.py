"""PostgreSQL."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from contextlib import suppress
from importlib import import_module
from typing import Any

import sqlalchemy as sa
from sqlalchemy import Connection, Engine, ExceptionContext, create_engine, event
from sqlalchemy.exc import DBAPIError

from .dialect import MOST_SECONDS, Dialect, any_case

_BUSY_MILLISECONDS = 8000
_SESSION = (
    "-c TimeZone=UTC -c default_transaction_isolation=repeatable\\ read "
    f"-c lock_timeout={_BUSY_MILLISECONDS}"
)


class Postgresql(Dialect):
    """Changes are SERIALIZABLE: what is fine alone is fine together, in whatever order."""

    # Serialization failures, deadlocks and waiting in vain, a server that stops or starts.
    states = frozenset({"40001", "40P01", "55P03", "57P01", "57P02", "57P03"})

    def engine(self, url: sa.URL) -> Engine:
        more = str(url.query.get("options", ""))
        engine = create_engine(
            url.set(drivername="postgresql+psycopg"),
            connect_args={
                "connect_timeout": 5,
                "options": f"{_SESSION} -c statement_timeout={MOST_SECONDS}s {more}".strip(),
            },
        )
        event.listen(engine, "begin", _begin)
        event.listen(engine, "connect", _read_any_day)
        event.listen(engine, "before_cursor_execute", _mark)
        event.listen(engine, "rollback", _keep_prepared)
        event.listen(engine, "handle_error", _forget_prepared)
        return engine

    def is_cancelled(self, error: DBAPIError) -> bool:
        return getattr(error.orig, "sqlstate", None) == "57014"

    deferrable = " DEFERRABLE"

    def index(self, index: sa.Index, text: str) -> str:
        # Rows that are equal stand in the order of their keys, as elsewhere: pages of a
        # long list are read then, and not sorted.
        parts: Sequence[Any] = index.expressions
        known = {column.name for column in parts}
        keys = index.table.primary_key if index.table is not None else ()
        more = [column.name for column in keys if column.name not in known]
        if index.unique or len(more) != 1:
            return text
        return f'{text.removesuffix(")")}, "{more[0]}")'

    def bit(self, value: bool) -> int | str:
        return "1" if value else "0"

    def text_type(self, column: sa.Column[Any], text: str) -> str:
        # Compared by code point, whatever the language of the server.
        return f'{text} COLLATE "C"'

    requirement = "psycopg[binary]"

    def take_turn(self, connection: Connection, *, alone: bool) -> None:
        # No query: what is read is read when it is one's turn.
        mode = "EXCLUSIVE" if alone else "ROW EXCLUSIVE"
        connection.execute(sa.text(f"LOCK TABLE welbik_sent IN {mode} MODE"))

    def defer_references(self, connection: Connection) -> None:
        connection.execute(sa.text("SET CONSTRAINTS ALL DEFERRED"))

    def contains(self, column: Any, word: str) -> Any:
        if word.isascii():
            plain = sa.func.lower(sa.collate(column, "C"))
            return plain.contains(word.lower(), autoescape=True)
        return column.regexp_match(any_case(word))

    def length(self) -> str:
        return "length({0})"

    def to_exact(self, places: int) -> str:
        scale = f"CAST(1e{places} AS double precision)"
        whole = f"floor(abs({{0}}) * {scale} + 0.5) * sign({{0}})"
        return f"(CAST({whole} AS numeric) / {10**places}.0)"

    def rounded(self, places: int, have: int | None) -> str:
        if have is None:
            scale = f"CAST(1e{places} AS double precision)"
            return f"(floor(abs({{0}}) * {scale} + 0.5) / {scale} * sign({{0}}))"
        found = f"round({{0}}, {places})"
        return found if places else f"CAST({found} AS bigint)"

    def days_later(self) -> str:
        return "({0} + CAST({1} AS integer))"

    def moment_later(self) -> str:
        return "({0} + {1} * INTERVAL '1 day')"

    def local_day(self, zone: str) -> str:
        quoted = zone.replace("'", "''")
        return f"CAST({{0}} AT TIME ZONE 'UTC' AT TIME ZONE '{quoted}' AS date)"

    def extreme(self, word: str) -> str:
        there = "{0} IS NOT NULL AND {1} IS NOT NULL"
        return f"(CASE WHEN {there} THEN {word}({{0}}, {{1}}) END)"

    def folded(self, word: str) -> str:
        # Other letters stay as they are, as everywhere: databases disagree about those.
        return f'{word}({{0}} COLLATE "C")'

    def matches(self) -> str:
        return "({0} ~ {1})"

    def unindexed(self) -> str:
        return "(ARRAY[{0}])[1]"

    def form(self, pattern: str) -> str:
        return f"^({pattern})$"


def _in_utc(day: dt.datetime) -> dt.datetime:
    return day.replace(tzinfo=dt.UTC)


_FIRST, _LAST = dt.datetime(1, 1, 3), dt.datetime(9999, 12, 30)


def _read_any_day(connection: Any, record: object) -> None:
    """Days without end, and those that no calendar here has, are read as the last and the first."""
    types = import_module("psycopg.types.datetime")
    refused = import_module("psycopg").DataError

    def reading(base: Any, end: Callable[[dt.datetime], Any]) -> Any:
        class AnyDay(base):  # type: ignore[misc]
            def load(self, data: Any) -> Any:
                try:
                    return super().load(data)
                except refused:
                    early = bytes(data).endswith(b" BC") or bytes(data)[:1] == b"-"
                    return end(_FIRST if early else _LAST)

        return AnyDay

    for name, base, end in (
        ("date", types.DateLoader, dt.datetime.date),
        ("timestamp", types.TimestampLoader, lambda day: day),
        ("timestamptz", types.TimestamptzLoader, _in_utc),
    ):
        connection.adapters.register_loader(name, reading(base, end))


def _begin(connection: Connection) -> None:
    # One that only reads sees the database as it was when it began.
    asked = connection.get_execution_options()
    writes = asked.get("writes")
    connection.info["written"] = False
    driver: Any = connection.connection.driver_connection
    levels = import_module("psycopg").IsolationLevel
    driver.isolation_level = levels.SERIALIZABLE if writes else levels.REPEATABLE_READ
    if asked.get("unlimited"):
        driver.execute("SET LOCAL statement_timeout = 0")


def _mark(connection: Connection, cursor: object, text: str, *more: object) -> None:
    if not text.startswith("SELECT"):
        connection.info["written"] = True


def _forget_prepared(failed: ExceptionContext) -> None:
    # The table of a prepared statement has changed: all connections begin anew.
    if getattr(failed.original_exception, "sqlstate", "") == "0A000":
        failed.is_disconnect = True


def _keep_prepared(connection: Connection) -> None:
    """Ends what only read by a commit, which is all the same to the database.

    After a rollback the driver forgets its prepared statements, and has all planned anew.
    """
    if connection.invalidated or connection.info["written"]:
        return
    driver: Any = connection.connection.driver_connection
    if driver.info.transaction_status.name == "INTRANS":
        # What fails here fails in the rollback to come, which is told.
        with suppress(import_module("psycopg").Error):
            driver.commit()
