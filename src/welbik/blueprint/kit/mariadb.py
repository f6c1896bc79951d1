"""MariaDB."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from importlib import import_module
from typing import Any, ClassVar
from zoneinfo import ZoneInfo

import sqlalchemy as sa
from sqlalchemy import Connection, Engine, create_engine, event
from sqlalchemy.exc import DBAPIError

from .dialect import MOST_SECONDS, Dialect, any_case

_BUSY_SECONDS = 8
_SESSION = (
    "SET SESSION time_zone = '+00:00', "
    "sql_mode = 'ANSI_QUOTES,STRICT_ALL_TABLES,NO_BACKSLASH_ESCAPES', "
    f"innodb_lock_wait_timeout = {_BUSY_SECONDS}"
)
_COMPARED = "SET SESSION collation_connection = 'utf8mb4_nopad_bin'"
_SHORT, _PREFIX = 255, 190
_LIVE = (
    "welbik_live TINYINT AS (CASE WHEN removed_at IS NULL THEN 1 END) VIRTUAL INVISIBLE"
)
_UNCHECKED, _UNLIMITED = "unchecked", "unlimited"
_LIMITED = f"SET SESSION max_statement_time = {MOST_SECONDS}"
_CANCELLED = 1969
# In every time zone it is a day that Python has.
_NO_DAY = dt.datetime(1, 1, 3)


def _any_day() -> dict[int, Any]:
    """Days without a day or a month, which no calendar has, are read as the first."""
    read = import_module("pymysql.converters")
    kinds = import_module("pymysql.constants.FIELD_TYPE")

    def reading(known: Any, first: Any) -> Any:
        def load(told: str) -> Any:
            found = known(told)
            return first if isinstance(found, str) else found

        return load

    moment = reading(read.convert_datetime, _NO_DAY)
    day = reading(read.convert_date, _NO_DAY.date())
    return {kinds.DATE: day, kinds.DATETIME: moment, kinds.TIMESTAMP: moment}


_HERE = ("localhost", "127.0.0.1", "::1")


def _without_tls(url: sa.URL) -> dict[str, Any]:
    # Nobody listens in within one machine, and the driver reads all certificates each time.
    here = "unix_socket" in url.query or url.host in (None, *_HERE)
    asked = any(name.startswith("ssl") for name in url.query)
    return {"ssl_disabled": True} if here and not asked else {}


class Mariadb(Dialect):
    """Changes are SERIALIZABLE: what they read is locked until they end."""

    looks_up_late = False

    def engine(self, url: sa.URL) -> Engine:
        # As plain texts they would come back as texts, where they stand alone.
        typed: dict[Any, Any] = {
            dt.date: lambda value, _=None: f"DATE '{value}'",
            dt.datetime: lambda value, _=None: f"TIMESTAMP '{value}'",
            dt.time: lambda value, _=None: f"TIME '{value}'",
        }
        engine = create_engine(
            url.set(drivername="mariadb+pymysql"),
            connect_args={
                "charset": "utf8mb4",
                "conv": {
                    **import_module("pymysql.converters").conversions,
                    **typed,
                    **_any_day(),
                },
                "connect_timeout": 5,
                **_without_tls(url),
                "init_command": _SESSION,
            },
        )
        # SQLAlchemy names the signs once more, which sets how texts compare.
        event.listen(engine, "connect", _prepare)
        event.listen(engine, "begin", _begin)
        return engine

    def is_cancelled(self, error: DBAPIError) -> bool:
        return bool(error.orig is not None and error.orig.args[0] == _CANCELLED)

    partial = False
    no_day = _NO_DAY
    table_options: ClassVar[Mapping[str, str]] = {
        "engine": "InnoDB",
        "default_charset": "utf8mb4",
        "collate": "utf8mb4_nopad_bin",
    }

    def text_type(self, column: sa.Column[Any], text: str) -> str:
        return "LONGTEXT" if _is_long(column) else text

    def lacks(self, column: sa.Column[Any]) -> Iterator[tuple[str, str]]:
        length = getattr(column.type, "length", None)
        if length and _is_long(column):
            yield "length", f'char_length("{column.name}") <= {length}'

    def table(self, table: sa.Table, text: str) -> str:
        if not any(index.info.get("live") for index in table.indexes):
            return text
        begin, end, options = text.rpartition("\n)")
        return f"{begin}, \n\t{_LIVE}{end}{options}"

    def index(self, index: sa.Index, text: str) -> str:
        parts: Sequence[Any] = index.expressions
        columns = [
            f'"{column.name}"'
            # What is unique is compared whole.
            + (f"({_PREFIX})" if _is_long(column) and not index.unique else "")
            for column in parts
        ]
        # No index leaves rows out here.
        columns += ["welbik_live"] if index.info.get("live") else []
        kind = "UNIQUE INDEX" if index.unique else "INDEX"
        table = index.table
        named = f'"{index.name}" ON "{table.name}"' if table is not None else ""
        return f"CREATE {kind} {named} ({', '.join(columns)})"

    requirement = "PyMySQL"

    def trouble(self, error: DBAPIError) -> str:
        arguments: Any = getattr(error.orig, "args", ())
        return str(arguments[-1]) if arguments else super().trouble(error)

    def take_turn(self, connection: Connection, *, alone: bool) -> None:
        mode = "FOR UPDATE" if alone else "LOCK IN SHARE MODE"
        turn = f"SELECT 1 FROM welbik_migration WHERE number = 1 {mode}"
        connection.execute(sa.text(turn))

    def defer_references(self, connection: Connection) -> None:
        # It checks each statement by itself. Rows that others refer to are locked until the end.
        connection.execute(sa.text("SET SESSION foreign_key_checks = 0"))
        connection.connection.info[_UNCHECKED] = True

    def is_passing(self, error: DBAPIError) -> bool:
        arguments: Any = getattr(error.orig, "args", ())
        # Deadlocks, waiting in vain, rows that changed meanwhile, a server that stops or starts.
        return bool(arguments) and arguments[0] in (1205, 1213, 1020, 1053, 2006, 2013)

    def typed(self, type_: sa.types.TypeEngine[Any]) -> sa.types.TypeEngine[Any]:
        if isinstance(type_, sa.Uuid):
            return sa.Uuid(native_uuid=False)
        from sqlalchemy.dialects import mysql

        if isinstance(type_, sa.DateTime):
            return mysql.DATETIME(fsp=6)
        return mysql.TIME(fsp=6) if isinstance(type_, sa.Time) else type_

    def contains(self, column: Any, word: str) -> Any:
        if word.isascii():
            return sa.func.lower(column).contains(word.lower(), autoescape=True)
        return column.regexp_match(any_case(word))

    def as_number(self, places: int) -> str:
        return "CAST({0} AS DOUBLE)"

    def as_exact(self, have: int, places: int) -> str:
        return f"CAST({{0}} AS DECIMAL(38, {places}))"

    def to_exact(self, places: int) -> str:
        whole = f"floor(abs({{0}}) * 1e{places} + 0.5) * sign({{0}})"
        return f"CAST(CAST({whole} AS DECIMAL(38, 0)) / {10**places} AS DECIMAL(38, {places}))"

    def rounded(self, places: int, have: int | None) -> str:
        if have is None:
            return f"(floor(abs({{0}}) * 1e{places} + 0.5) / 1e{places} * sign({{0}}))"
        found = f"round({{0}}, {places})"
        return found if places else f"CAST({found} AS SIGNED)"

    def total(self) -> str:
        return "CAST(sum({0}) AS SIGNED)"

    def days_later(self) -> str:
        return "({0} + INTERVAL {1} DAY)"

    def moment_later(self) -> str:
        return "({0} + INTERVAL {1} DAY)"

    def days_between(self) -> str:
        return "datediff({0}, {1})"

    def part(self, word: str) -> str:
        return f"extract({word} FROM {{0}})"

    def local_day(self, zone: str) -> str:
        # The server knows no time zones unless its keeper loaded them.
        seconds = "timestampdiff(SECOND, '1970-01-01', {0})"
        since, ahead = _offsets(zone)
        at = f"1 + interval({seconds}, {since})" if since else "1"
        return f"CAST(({{0}} + INTERVAL elt({at}, {ahead}) SECOND) AS DATE)"

    def folded(self, word: str) -> str:
        text = "{0}"
        for letter in "ABCDEFGHIJKLMNOPQRSTUVWXYZ":
            pair = (
                (letter, letter.lower())
                if word == "lower"
                else (letter.lower(), letter)
            )
            text = f"replace({text}, '{pair[0]}', '{pair[1]}')"
        return text

    def matches(self) -> str:
        return "({0} REGEXP {1})"

    def form(self, pattern: str) -> str:
        return rf"^(?:{pattern})\z"


def _is_long(column: Any) -> bool:
    """Whether a text is kept apart from its row, which has no room for many long ones."""
    if not isinstance(column.type, sa.String):
        return False
    held = column.primary_key or column.foreign_keys
    return not held and (column.type.length or _SHORT + 1) > _SHORT


@lru_cache
def _offsets(zone: str) -> tuple[str, str]:
    """When a zone's clocks were or will be changed, in seconds since 1970, and by how much
    they are ahead of UTC before, between and after; each as a list."""
    where = ZoneInfo(zone)

    def ahead(at: int) -> int:
        moment = dt.datetime(1970, 1, 1, tzinfo=dt.UTC) + dt.timedelta(seconds=at)
        return int(
            (moment.astimezone(where).utcoffset() or dt.timedelta()).total_seconds()
        )

    week, first, last = 7 * 86_400, -2_208_988_800, 4_102_444_800
    since, offsets = [], [ahead(first)]
    for begin in range(first, last, week):
        low, high = begin, begin + week
        if ahead(high) == offsets[-1]:
            continue
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (
                (middle, high) if ahead(middle) == offsets[-1] else (low, middle)
            )
        since.append(high)
        offsets.append(ahead(high))
    return ", ".join(map(str, since)), ", ".join(map(str, offsets))


def _prepare(driver: Any, record: object) -> None:
    driver.query(_COMPARED)
    driver.query(_LIMITED)


def _begin(connection: Connection) -> None:
    driver: Any = connection.connection.driver_connection
    said = []
    if connection.connection.info.pop(_UNCHECKED, None):
        said.append("SET SESSION foreign_key_checks = 1")
    asked = connection.get_execution_options()
    if asked.get("writes"):
        said.append("SET TRANSACTION ISOLATION LEVEL SERIALIZABLE")
    if connection.connection.info.pop(_UNLIMITED, None):
        said.append(_LIMITED)
    if asked.get("unlimited"):
        connection.connection.info[_UNLIMITED] = True
        said.append("SET SESSION max_statement_time = 0")
    for statement in said:
        driver.query(statement)
