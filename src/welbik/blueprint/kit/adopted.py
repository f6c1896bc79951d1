"""Columns and keys that others made: each is read and written as they chose."""

from __future__ import annotations

import datetime as dt
import json
import re
from decimal import Decimal
from typing import Any, ClassVar
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Dialect, orm
from sqlalchemy.sql import operators
from sqlalchemy.types import TypeDecorator, TypeEngine, UserDefinedType

from . import dialects


class _Kept(TypeDecorator[Any]):
    """What all of them share: `value` is the type of what a row has."""

    cache_ok = True
    value: ClassVar[type[Any]] = str

    @property
    def python_type(self) -> type:
        return self.value


class Seconds(_Kept):
    """Moments, kept as seconds since 1970; days likewise where `value` is a date."""

    cache_ok = True
    impl = sa.BigInteger
    value: ClassVar[type[Any]] = dt.datetime

    def process_bind_param(self, value: Any, dialect: Dialect) -> int | None:
        return None if value is None else int(value.timestamp())

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        return None if value is None else dt.datetime.fromtimestamp(int(value), dt.UTC)


class DaySeconds(Seconds):
    """Days, kept as the seconds since 1970 when they begin."""

    cache_ok = True
    value = dt.date

    def process_bind_param(self, value: Any, dialect: Dialect) -> int | None:
        if value is None:
            return None
        return int(
            dt.datetime(value.year, value.month, value.day, tzinfo=dt.UTC).timestamp()
        )

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        moment = super().process_result_value(value, dialect)
        return moment and moment.date()


class Zoned(_Kept):
    """Moments that the database keeps with their zone."""

    cache_ok = True
    impl = sa.DateTime
    value = dt.datetime

    def __init__(self) -> None:
        super().__init__(timezone=True)

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        if value is None:
            return None
        return (
            value.replace(tzinfo=dt.UTC)
            if value.tzinfo is None
            else value.astimezone(dt.UTC)
        )


class _Plain(UserDefinedType[Any]):
    """A value as it is given, and as the driver has it: the database reads it as its column is."""

    cache_ok = True

    def get_col_spec(self, **options: Any) -> str:
        return "TEXT"


class Iso(_Kept):
    """Moments, kept as the texts of ISO 8601 in UTC."""

    cache_ok = True
    impl = _Plain
    value = dt.datetime

    def process_bind_param(self, value: Any, dialect: Dialect) -> str | None:
        if value is None:
            return None
        plain = value.astimezone(dt.UTC).replace(tzinfo=None)
        return str(
            plain.isoformat(" ", "seconds" if not plain.microsecond else "microseconds")
        )

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        if value is None or isinstance(value, dt.datetime):
            return value and (value if value.tzinfo else value.replace(tzinfo=dt.UTC))
        try:
            found = dt.datetime.fromisoformat(str(value))
        except ValueError:
            return None
        return (
            found.astimezone(dt.UTC) if found.tzinfo else found.replace(tzinfo=dt.UTC)
        )


class IsoDay(_Kept):
    """Days, kept as the texts of ISO 8601."""

    cache_ok = True
    impl = _Plain
    value = dt.date

    def process_bind_param(self, value: Any, dialect: Dialect) -> str | None:
        return None if value is None else value.isoformat()

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        if value is None or isinstance(value, dt.datetime):
            return value and value.date()
        if isinstance(value, dt.date):
            return value
        try:
            return dt.date.fromisoformat(str(value)[:10])
        except ValueError:
            return None


class Number(_Kept):
    """Decimals, kept as whatever numbers the column holds."""

    cache_ok = True
    impl = _Plain
    value = Decimal

    def __init__(self, digits: int, places: int) -> None:
        super().__init__()
        self.digits, self.places = digits, places

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        if value is None or dialects.of(dialect.name).exact:
            return value
        return float(value)

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        if value is None:
            return None
        try:
            return round(Decimal(str(value)), self.places)
        except ArithmeticError:
            return None


class Single(_Kept):
    """Numbers of half the usual size: what they are compared with is rounded likewise."""

    cache_ok = True
    impl = sa.REAL
    value = float

    def bind_expression(self, bindvalue: Any) -> Any:
        return sa.cast(bindvalue, sa.REAL())


class _Truth(TypeDecorator.Comparator):  # type: ignore[type-arg]
    """Yes and no where they are no truth values of the database's own."""

    def operate(self, op: Any, *other: Any, **options: Any) -> Any:
        if op in (operators.is_, operators.eq) and isinstance(other[0], bool):
            return self.expr == sa.literal(bool(other[0]), self.type)
        return super().operate(op, *other, **options)


class Words(_Kept):
    """Yes and no, kept as two values of the column's own."""

    cache_ok = True
    impl = _Plain
    value = bool
    comparator_factory = _Truth

    def __init__(self, yes: str, no: str) -> None:
        super().__init__()
        self.yes, self.no = yes, no
        # J comes before N, and no before yes.
        self.in_order = (False, True) if yes < no else ()

    def process_bind_param(self, value: Any, dialect: Dialect) -> str | None:
        return None if value is None else self.yes if value else self.no

    def process_result_value(self, value: Any, dialect: Dialect) -> bool | None:
        return None if value is None else str(value).strip() == self.yes


class Flag(_Kept):
    """Yes and no, kept as numbers: nothing but 0 says no."""

    cache_ok = True
    impl = _Plain
    value = bool
    comparator_factory = _Truth

    def process_bind_param(self, value: Any, dialect: Dialect) -> int | None:
        return None if value is None else int(value)

    def process_result_value(self, value: Any, dialect: Dialect) -> bool | None:
        return None if value is None else bool(int(value))


class Bits(Flag):
    """Yes and no, kept as a bit."""

    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        return None if value is None else dialects.of(dialect.name).bit(bool(value))

    def process_result_value(self, value: Any, dialect: Dialect) -> bool | None:
        if value is None:
            return None
        return (
            bool(value.strip(b"\x00"))
            if isinstance(value, bytes)
            else str(value) == "1"
        )


class Told(_Kept):
    """Values of a type that only the database knows, as the texts that it tells of them."""

    cache_ok = True
    impl = _Plain

    def __init__(self, most: int | None = None) -> None:
        super().__init__()
        self.most = most

    def process_result_value(self, value: Any, dialect: Dialect) -> str | None:
        if isinstance(value, dict | list):
            return json.dumps(value, ensure_ascii=False, default=str)
        return None if value is None else str(value)


class Digits(Told):
    """Bits, as the noughts and ones that they are."""

    cache_ok = True

    def process_result_value(self, value: Any, dialect: Dialect) -> str | None:
        if isinstance(value, bytes):
            return f"{int.from_bytes(value):b}"
        return super().process_result_value(value, dialect)


class Padded(Told):
    """Texts that the database fills up with blanks."""

    cache_ok = True

    def process_result_value(self, value: Any, dialect: Dialect) -> str | None:
        return None if value is None else str(value).rstrip(" ")


def _size(column: Any) -> Any:
    data = sa.cast(sa.type_coerce(column, sa.LargeBinary()), sa.LargeBinary())
    return sa.func.length(data, type_=sa.Integer())


class _Sized(TypeDecorator.Comparator):  # type: ignore[type-arg]
    """Data that is sorted and compared by its size."""

    def operate(self, op: Any, *other: Any, **options: Any) -> Any:
        if op in (operators.is_, operators.is_not):
            return super().operate(op, *other, **options)
        return op(_size(self.expr), *other, **options)


class Size(_Kept):
    """Data that only other programs read, as the number of its bytes."""

    cache_ok = True
    impl = _Plain
    value = int
    comparator_factory = _Sized

    def column_expression(self, column: Any) -> Any:
        return _size(column)

    def process_result_value(self, value: Any, dialect: Dialect) -> int | None:
        return None if value is None else int(value)


class Dashed(_Kept):
    """Identifiers, kept as the texts that people write."""

    cache_ok = True
    impl = _Plain
    value = UUID

    def process_bind_param(self, value: Any, dialect: Dialect) -> str | None:
        return None if value is None else str(value)

    def process_result_value(self, value: Any, dialect: Dialect) -> UUID | None:
        return None if value is None else UUID(str(value))


class _Filled(TypeDecorator.Comparator):  # type: ignore[type-arg]
    """A column in which something stands for nothing: that is asked for too."""

    def operate(self, op: Any, *other: Any, **options: Any) -> Any:
        if other and (other[0] is None or isinstance(other[0], sa.Null)):
            stands = sa.literal(None, self.type)
            plain: Any = getattr(self.type, "plain", self.type)
            column = sa.type_coerce(self.expr, plain)
            nothing = sa.or_(column.is_(None), column.op("=")(stands))
            if op in (operators.is_, operators.eq):
                return nothing
            if op in (operators.is_not, operators.ne):
                return sa.not_(nothing)
        return super().operate(op, *other, **options)


class Never(_Kept):
    """Values of a column that is never empty: `stands` is there for nothing."""

    cache_ok = True
    impl = _Plain
    comparator_factory = _Filled

    def __init__(
        self, plain: TypeEngine[Any] | type[TypeEngine[Any]], stands: Any
    ) -> None:
        super().__init__()
        self.plain = sa.types.to_instance(plain)
        self.stands = stands
        # What the database compares as it would a column of that type.
        self.length = getattr(self.plain, "length", None)

    @property
    def python_type(self) -> type:
        return self.plain.python_type

    def _is_zero(self, value: Any, dialect: Dialect) -> bool:
        """Whether it is a day that stands for none, whatever parts of seconds it has."""
        told, no_day = str(self.stands), dialects.of(dialect.name).no_day
        if told.startswith(_NO_DAY) and no_day is not None:
            told = str(no_day)[: len(_NO_DAY)]
        return bool(_DAY.match(told)) and str(value)[: len(told)] == told

    def coerce_compared_value(self, op: Any, value: Any) -> Any:
        return self

    def load_dialect_impl(self, dialect: Dialect) -> TypeEngine[Any]:
        return self.plain

    def bind_processor(self, dialect: Dialect) -> Any:
        inner = self.plain.dialect_impl(dialect).bind_processor(dialect)

        def process(value: Any) -> Any:
            if value is None:
                return self.stands
            return inner(value) if inner is not None else value

        return process

    def result_processor(self, dialect: Dialect, coltype: object) -> Any:
        inner = self.plain.dialect_impl(dialect).result_processor(dialect, coltype)

        def process(value: Any) -> Any:
            if value is None or value == self.stands or self._is_zero(value, dialect):
                return None
            return inner(value) if inner is not None else value

        return process


_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_NO_DAY = "0000-00-00"
_ESCAPED = (("_", "__"), ("~", "_t"), ("/", "_s"))
_READ = {"__": "_", "_t": "~", "_s": "/"}
_NOTHING = "_0"


def _parts(told: str) -> list[str | None]:
    """The values that `key_of` made a text of, as texts."""
    found = told.split("~")
    return [
        None if one == _NOTHING else _AGAIN.sub(lambda m: _READ.get(m[0], ""), one)
        for one in found
    ]


_AGAIN = re.compile("_.")


class _ByParts(orm.ColumnProperty.Comparator[str]):
    """Finds a row by the columns that its key is made of, as those have indexes."""

    def operate(self, op: Any, *other: Any, **options: Any) -> Any:
        given = other[0] if other else None
        if op is operators.eq and isinstance(given, str):
            return self._is(given)
        if op is operators.in_op and isinstance(given, list | tuple | set | frozenset):
            return sa.or_(sa.false(), *map(self._is, given))
        return super().operate(op, *other, **options)

    def _is(self, told: str) -> Any:
        model: Any = self._parententity.entity
        parts = _parts(told)
        if len(parts) != len(model.KEY):
            return sa.false()
        found = []
        for (name, read), part in zip(model.KEY.items(), parts, strict=True):
            column = getattr(model, name)
            if part is None:
                found.append(column.is_(None))
                continue
            if read is None:
                # What a value looks like as a text, only the database knows.
                found.append(sa.cast(column, sa.String) == part)
                continue
            try:
                found.append(column == read(part))
            except ValueError:
                return sa.false()
        return sa.and_(*found)


def key(*columns: Any) -> Any:
    """What tells a row by several columns; see `key_of`."""
    return orm.column_property(key_of(*columns), comparator_factory=_ByParts)


def key_of(*columns: Any) -> Any:
    """The key of a row that is told by several columns, as one text for its address."""
    found: Any = None
    for column in columns:
        text: Any = sa.cast(column, sa.String)
        for one, other in _ESCAPED:
            text = sa.func.replace(text, one, other, type_=sa.String)
        text = sa.func.coalesce(text, _NOTHING, type_=sa.String)
        found = text if found is None else found + "~" + text
    return sa.cast(found, sa.String)


def told_by(*columns: Any) -> dict[str, Any]:
    """What a mapper is told where a table has no key: all columns together are one."""
    return {"primary_key": list(columns)}


def next_number(context: Any) -> int:
    """The number of a new row, where the application hands it out."""
    column = context.current_column
    given: dict[Any, int] = context.__dict__.setdefault("given_numbers", {})
    if column not in given:
        most = sa.select(sa.func.coalesce(sa.func.max(column), 0))
        given[column] = int(context.connection.scalar(most))
    given[column] += 1
    return given[column]
