"""Column types that keep values exact on every database, and what tells the time in queries."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import DateTime, Dialect, Integer, Numeric, Time, Uuid
from sqlalchemy.types import TypeDecorator, TypeEngine

from . import clock, dialects


class Exact(TypeDecorator[Decimal]):
    """Decimals; whole numbers of the smallest place where the database has none."""

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
        kept = dialects.of(dialect.name).typed(Numeric(self.digits, self.places))
        return dialect.type_descriptor(kept)

    def process_bind_param(
        self, value: Decimal | None, dialect: Dialect
    ) -> Decimal | int | float | None:
        if value is None or dialects.of(dialect.name).exact:
            return value
        scaled = value.scaleb(self.places)
        # What is only compared may lie between two places, or beyond all that is stored.
        whole = scaled == scaled.to_integral_value() and abs(scaled) < 2**63
        return int(scaled) if whole else float(scaled)

    def process_result_value(
        self, value: Decimal | int | None, dialect: Dialect
    ) -> Decimal | None:
        if value is None:
            return None
        if dialects.of(dialect.name).exact:
            return Decimal(value)
        return Decimal(value).scaleb(-self.places)


class Moment(TypeDecorator[dt.datetime]):
    """Moments: aware in Python, UTC in the database."""

    impl = DateTime
    cache_ok = True

    @property
    def python_type(self) -> type[dt.datetime]:
        return dt.datetime

    def load_dialect_impl(self, dialect: Dialect) -> TypeEngine[dt.datetime]:
        return dialect.type_descriptor(dialects.of(dialect.name).typed(DateTime()))

    def process_bind_param(
        self, value: dt.datetime | None, dialect: Dialect
    ) -> dt.datetime | None:
        return value and value.astimezone(dt.UTC).replace(tzinfo=None)

    def process_result_value(
        self, value: dt.datetime | None, dialect: Dialect
    ) -> dt.datetime | None:
        return value and value.replace(tzinfo=dt.UTC)


class Clock(TypeDecorator[dt.time]):
    """Times of the day, with microseconds."""

    impl = Time
    cache_ok = True

    @property
    def python_type(self) -> type[dt.time]:
        return dt.time

    def load_dialect_impl(self, dialect: Dialect) -> TypeEngine[dt.time]:
        return dialect.type_descriptor(dialects.of(dialect.name).typed(Time()))

    def process_result_value(
        self, value: dt.time | dt.timedelta | None, dialect: Dialect
    ) -> dt.time | None:
        # Some drivers take a time for a length of time.
        if isinstance(value, dt.timedelta):
            return (dt.datetime.min + value).time()
        return value


class Identifier(TypeDecorator[UUID]):
    """Identifiers, sorted alike everywhere."""

    impl = Uuid
    cache_ok = True

    @property
    def python_type(self) -> type[UUID]:
        return UUID

    def load_dialect_impl(self, dialect: Dialect) -> TypeEngine[UUID]:
        return dialect.type_descriptor(dialects.of(dialect.name).typed(Uuid()))


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


def today() -> sa.BindParameter[dt.date]:
    """Today where the site is, whenever the query runs."""
    return sa.bindparam("today", callable_=clock.today, type_=sa.Date(), unique=True)


def now() -> sa.BindParameter[dt.datetime]:
    return sa.bindparam("now", callable_=clock.now, type_=Moment(), unique=True)
