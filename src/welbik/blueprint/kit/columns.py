"""Column types that keep values exact on every database, and expressions each writes its own way."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

import sqlalchemy as sa
from sqlalchemy import BigInteger, DateTime, Dialect, Integer, Numeric
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.functions import FunctionElement
from sqlalchemy.types import JSON, TypeDecorator, TypeEngine

from .. import settings
from . import clock
from .uploads import Stored


class Exact(TypeDecorator[Decimal]):
    """Decimals. SQLite has none, so there it keeps whole numbers of the smallest place."""

    impl = Numeric
    cache_ok = True

    @property
    def python_type(self) -> type[Decimal]:
        return Decimal

    def __init__(self, digits: int, places: int) -> None:
        super().__init__(digits, places)
        self.digits = digits
        self.places = places

    def load_dialect_impl(self, dialect: Dialect) -> TypeEngine[Decimal]:
        if dialect.name == "sqlite":
            return dialect.type_descriptor(BigInteger())  # type: ignore[arg-type]
        return dialect.type_descriptor(Numeric(self.digits, self.places))

    def process_bind_param(
        self, value: Decimal | None, dialect: Dialect
    ) -> Decimal | int | float | None:
        if value is None or dialect.name != "sqlite":
            return value
        scaled = value.scaleb(self.places)
        # What is only compared may lie between two places, or beyond all that is stored.
        whole = scaled == scaled.to_integral_value() and abs(scaled) < 2**63
        return int(scaled) if whole else float(scaled)

    def process_result_value(
        self, value: Decimal | int | None, dialect: Dialect
    ) -> Decimal | None:
        if value is None or dialect.name != "sqlite":
            return value if value is None else Decimal(value)
        return Decimal(value).scaleb(-self.places)


class Moment(TypeDecorator[dt.datetime]):
    """Moments: aware in Python, UTC in the database."""

    impl = DateTime
    cache_ok = True

    @property
    def python_type(self) -> type[dt.datetime]:
        return dt.datetime

    def process_bind_param(
        self, value: dt.datetime | None, dialect: Dialect
    ) -> dt.datetime | None:
        return value and value.astimezone(dt.UTC).replace(tzinfo=None)

    def process_result_value(
        self, value: dt.datetime | None, dialect: Dialect
    ) -> dt.datetime | None:
        return value and value.replace(tzinfo=dt.UTC)


class Duration(TypeDecorator[dt.timedelta]):
    """Lengths of time: whole seconds in the database."""

    impl = Integer
    cache_ok = True

    @property
    def python_type(self) -> type[dt.timedelta]:
        return dt.timedelta

    def process_bind_param(
        self, value: dt.timedelta | None, dialect: Dialect
    ) -> int | None:
        return None if value is None else int(value.total_seconds())

    def process_result_value(
        self, value: int | None, dialect: Dialect
    ) -> dt.timedelta | None:
        return None if value is None else dt.timedelta(seconds=int(value))


class Upload(TypeDecorator[Stored]):
    """What is known of an uploaded file; its bytes lie in the site's folder."""

    impl = JSON(none_as_null=True)
    cache_ok = True

    def process_bind_param(
        self, value: Stored | None, dialect: Dialect
    ) -> dict[str, Any] | None:
        return None if value is None else value._asdict()

    def process_result_value(
        self, value: dict[str, Any] | None, dialect: Dialect
    ) -> Stored | None:
        return None if value is None else Stored(**value)


def today() -> sa.BindParameter[dt.date]:
    """Today where the site is, whenever the query runs."""
    return sa.bindparam("today", callable_=clock.today, type_=sa.Date(), unique=True)


def now() -> sa.BindParameter[dt.datetime]:
    return sa.bindparam("now", callable_=clock.now, type_=Moment(), unique=True)


def day(moment: Any) -> sql:
    """The day of a moment where the site is."""
    zone = settings.TIMEZONE.replace("'", "''")
    other = f"CAST({{0}} AT TIME ZONE 'UTC' AT TIME ZONE '{zone}' AS date)"
    return sql("local_date({0})", moment, type_=sa.Date(), other=other)


class sql(FunctionElement[Any]):
    """An expression whose text is not the same everywhere; `{0}` is the first operand."""

    name = "sql"
    inherit_cache = False

    def __init__(
        self, sqlite: str, *operands: Any, type_: TypeEngine[Any], other: str = ""
    ) -> None:
        self.sqlite = sqlite
        self.other = other or sqlite
        self.type = type_
        super().__init__(*operands)


@compiles(sql)
def _compile(element: sql, compiler: Any, **options: Any) -> str:
    known = compiler.dialect.name == "sqlite"
    text = element.sqlite if known else element.other
    # Between brackets: an operand may be a sum, and the text around it a product. One that
    # this database does not ask for must not leave its parameters behind.
    operands = [
        f"({compiler.process(part, **options)})" if f"{{{number}}}" in text else ""
        for number, part in enumerate(element.clauses)
    ]
    return text.format(*operands)
