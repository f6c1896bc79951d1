"""Column types that keep values exact on every database."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

from sqlalchemy import BigInteger, DateTime, Dialect, Numeric
from sqlalchemy.types import TypeDecorator, TypeEngine


class Exact(TypeDecorator[Decimal]):
    """Decimals. SQLite has none, so there it keeps whole numbers of the smallest place."""

    impl = Numeric
    cache_ok = True

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
    ) -> Decimal | int | None:
        if value is None or dialect.name != "sqlite":
            return value
        return int(value.scaleb(self.places))

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

    def process_bind_param(
        self, value: dt.datetime | None, dialect: Dialect
    ) -> dt.datetime | None:
        return value and value.astimezone(dt.UTC).replace(tzinfo=None)

    def process_result_value(
        self, value: dt.datetime | None, dialect: Dialect
    ) -> dt.datetime | None:
        return value and value.replace(tzinfo=dt.UTC)
