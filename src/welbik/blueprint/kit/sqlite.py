"""SQLite: a file beside the site."""

from __future__ import annotations

import datetime as dt
import math
import re
import sqlite3
import time
from collections.abc import Iterator, Mapping
from typing import Any, ClassVar

import sqlalchemy as sa
from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.dialects.sqlite import DATETIME
from sqlalchemy.exc import DBAPIError, OperationalError

from .. import settings
from . import clock
from .dialect import MOST_SECONDS, Dialect, forms

_BUSY_SECONDS = 4
_STEPS = 20_000
"""Instructions of a statement between two looks at the clock."""


class _Scaled(sa.types.UserDefinedType[int]):
    """A whole number of the smallest place; the name holds INT, which keeps it whole."""

    cache_ok = True

    def __init__(self, digits: int, places: int) -> None:
        self.digits = digits
        self.places = places

    def get_col_spec(self, **options: Any) -> str:
        return f"SCALED_INTEGER({self.digits}, {self.places})"


class _Timestamp(DATETIME):
    """ISO 8601 text, in a column of the standard's name."""

    __visit_name__ = "TIMESTAMP"


class Sqlite(Dialect):
    """Days and moments are ISO 8601 text, decimals whole numbers of their smallest place."""

    exact = False
    knows_shares = False
    numbers: ClassVar[Mapping[str, bool]] = {"autoincrement": True}

    def engine(self, url: sa.URL) -> Engine:
        path = (settings.ROOT / (url.database or "")).resolve().as_uri()
        # mode=rw: a wrong path is an error, not a new and empty database.
        engine = create_engine(
            f"sqlite:///{path}?mode=rw&uri=true",
            connect_args={"timeout": _BUSY_SECONDS},
        )
        event.listen(engine, "connect", _prepare)
        event.listen(engine, "begin", _begin)
        event.listen(engine, "before_cursor_execute", _begin_statement)
        return engine

    def defer_references(self, connection: Connection) -> None:
        connection.execute(sa.text("PRAGMA defer_foreign_keys = ON"))

    def trouble(self, error: DBAPIError) -> str:
        # Most likely there is no file yet.
        return ""

    def is_passing(self, error: DBAPIError) -> bool:
        return "database is locked" in str(error.orig)

    def is_cancelled(self, error: DBAPIError) -> bool:
        return "interrupted" in str(error.orig)

    def contains(self, column: Any, word: str) -> Any:
        if word.isascii():
            return column.icontains(word, autoescape=True)
        # It folds the case of A to Z alone: all forms of a letter are asked for.
        pattern = f"*{''.join(map(_any_case, word))}*"
        return column.op("GLOB", is_comparison=True)(sa.literal(pattern))

    def typed(self, type_: sa.types.TypeEngine[Any]) -> sa.types.TypeEngine[Any]:
        if isinstance(type_, sa.Numeric) and type_.asdecimal:
            return _Scaled(type_.precision or 0, type_.scale or 0)
        timestamp: Any = _Timestamp
        return timestamp() if isinstance(type_, sa.DateTime) else type_

    def lacks(self, column: sa.Column[Any]) -> Iterator[tuple[str, str]]:
        if isinstance(column.type, sa.Boolean):
            yield "boolean", f'"{column.name}" IN (0, 1)'

    def length(self) -> str:
        return "length({0})"

    def as_number(self, places: int) -> str:
        return f"(CAST({{0}} AS REAL) / 1e{places})"

    def as_exact(self, have: int, places: int) -> str:
        return f"({{0}} * {10 ** (places - have)})"

    def to_exact(self, places: int) -> str:
        whole = f"CAST(abs({{0}}) * 1e{places} + 0.5 AS INTEGER)"
        return f"(CASE WHEN {{0}} < 0 THEN - {whole} ELSE {whole} END)"

    def rounded(self, places: int, have: int | None) -> str:
        if have is None:
            found = f"CAST(abs({{0}}) * 1e{places} + 0.5 AS INTEGER) / 1e{places}"
        else:
            step = 10 ** (have - places)
            found = f"((abs({{0}}) + {step // 2}) / {step})"
        return f"(CASE WHEN {{0}} < 0 THEN - {found} ELSE {found} END)"

    def divided(self) -> str:
        return "({0} / {1})"

    def total(self) -> str:
        return "sum({0})"

    def days_later(self) -> str:
        return "date({0}, ({1} || ' days'))"

    def moment_later(self) -> str:
        moved = "strftime('%Y-%m-%d %H:%M:%S', {0}, ({1} || ' days'))"
        return f"({moved} || substr({{0}}, 20))"

    def days_between(self) -> str:
        return "CAST(julianday({0}) - julianday({1}) AS INTEGER)"

    def part(self, word: str) -> str:
        letter = {"year": "%Y", "month": "%m", "day": "%d"}[word]
        return f"CAST(strftime('{letter}', {{0}}) AS INTEGER)"

    def local_day(self, zone: str) -> str:
        return "local_date({0})"

    def extreme(self, word: str) -> str:
        return f"{'min' if word == 'least' else 'max'}({{0}}, {{1}})"

    def trimmed(self) -> str:
        return "NULLIF(trim({0}, ' '), '')"

    def matches(self) -> str:
        return "({0} REGEXP {1})"

    def hinted(self, word: str) -> str:
        # Its own `unlikely` is one in sixteen: it would rather go through a whole index.
        return "likelihood({0}, 0.001)" if word == "unlikely" else f"{word}({{0}})"

    def unindexed(self) -> str:
        return "+{0}"


def _prepare(connection: sqlite3.Connection, record: Any) -> None:
    connection.isolation_level = None
    connection.execute("PRAGMA foreign_keys = ON")
    # Read by the handler while a statement runs, and set anew before each.
    ends = record.info["ends"] = [math.inf]
    connection.set_progress_handler(lambda: time.monotonic() > ends[0], _STEPS)
    connection.create_function("regexp", 2, _matches, deterministic=True)
    connection.create_function("local_date", 1, _local_date, deterministic=True)


def _begin_statement(connection: Connection, *rest: object) -> None:
    limited = not connection.get_execution_options().get("unlimited")
    seconds = MOST_SECONDS if limited else math.inf
    connection.info["ends"][0] = time.monotonic() + seconds


def _begin(connection: Connection) -> None:
    # A change takes the write lock at once, so that what it checks stays true.
    writes = connection.get_execution_options().get("writes")
    driver: Any = connection.connection.driver_connection
    statement = "BEGIN IMMEDIATE" if writes else "BEGIN"
    try:
        driver.execute(statement)
    except sqlite3.Error as error:
        # Told as any other failure of the database, so that it is tried again.
        raise OperationalError(statement, {}, error) from error


def _matches(pattern: str, value: str | None) -> bool | None:
    return None if value is None else re.fullmatch(pattern, value) is not None


def _local_date(moment: str | None) -> str | None:
    """The day of a stored moment where the site is."""
    if moment is None:
        return None
    utc = dt.datetime.fromisoformat(moment).replace(tzinfo=dt.UTC)
    return clock.day(utc).isoformat()


def _any_case(letter: str) -> str:
    """A pattern of GLOB for all forms of a letter."""
    found = forms(letter)
    if len(found) > 1 or letter in "*?[":
        return f"[{''.join(found)}]"
    return letter
