"""Expressions that each database writes its own way, the same values on each."""

from __future__ import annotations

from functools import cache
from typing import Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.functions import FunctionElement
from sqlalchemy.types import TypeEngine

from .. import settings
from . import dialects
from .columns import Exact


class Said(FunctionElement[Any]):
    """Operands in the words of a database; `word` and `told` say which of `Dialect`'s."""

    name = "said"
    inherit_cache = False
    word = ""
    told: tuple[Any, ...] = ()


@compiles(Said)
def _compile(element: Said, compiler: Any, **options: Any) -> str:
    dialect = dialects.of(compiler.dialect.name)
    text: str = getattr(dialect, element.word)(*element.told)
    # Between brackets: an operand may be a sum, and the text around it a product.
    operands = [f"({compiler.process(part, **options)})" for part in element.clauses]
    return text.format(*operands)


@cache
def _class(word: str, told: tuple[Any, ...], type_: str) -> type[Said]:
    # Statements are remembered by the classes of their parts: one for each thing said.
    return type("Said", (Said,), {"word": word, "told": told, "inherit_cache": True})


def _said(
    word: str, type_: TypeEngine[Any], *operands: Any, told: tuple[Any, ...] = ()
) -> Said:
    found = _class(word, told, repr(type_))(*operands)
    found.type = type_
    return found


def itself(value: Any) -> Said:
    """A value as an expression: one that is a parameter alone keeps what tells it."""
    return _said("itself", value.type, value)


def unindexed(value: Any) -> Said:
    """The same value, by which no index is chosen."""
    return _said("unindexed", value.type, value)


def hinted(word: str, condition: Any, type_: TypeEngine[Any]) -> Said:
    """A condition, with a word on how many rows meet it: `likely`, or `unlikely`."""
    return _said("hinted", type_, condition, told=(word,))


def not_leading(condition: Any) -> Said:
    """A condition by which no rows are looked up: something else finds fewer."""
    return hinted("likely", condition, sa.Boolean())


def length(text: Any) -> Said:
    """How many characters a text has."""
    return _said("length", sa.Integer(), text)


def trimmed(text: Any) -> Said:
    """A text without spaces around it; nothing where nothing is left."""
    return _said("trimmed", sa.Text(), text)


def lower(text: Any) -> Said:
    """A text in small letters, as far as A to Z go."""
    return _said("folded", sa.Text(), text, told=("lower",))


def upper(text: Any) -> Said:
    return _said("folded", sa.Text(), text, told=("upper",))


class _Form(sa.types.TypeDecorator[str]):
    """A pattern, as the database reads it."""

    impl = sa.Text
    cache_ok = True

    def process_bind_param(self, value: str | None, dialect: sa.Dialect) -> str | None:
        return None if value is None else dialects.of(dialect.name).form(value)


def matches(text: Any, pattern: str) -> Said:
    """Whether the whole of a text has a form."""
    return _said("matches", sa.Boolean(), text, sa.literal(pattern, _Form()))


def as_number(value: Any, places: int = 0) -> Said:
    """A whole number, or a decimal of so many places, as a number with a point that moves."""
    return _said("as_number", sa.Double(), value, told=(places,))


def as_exact(value: Any, have: int, places: int) -> Said:
    """A decimal of `have` places, or a whole number, with more of them."""
    return _said("as_exact", Exact(18, places), value, told=(have, places))


def to_exact(value: Any, places: int) -> Said:
    """A number as a decimal, half away from zero."""
    return _said("to_exact", Exact(18, places), value, told=(places,))


def rounded(value: Any, places: int, have: int | None = None) -> Said:
    """A number, or a decimal of `have` places, to so many places, half away from zero."""
    type_: TypeEngine[Any] = sa.Double()
    if have is not None:
        type_ = Exact(18, places) if places else sa.Integer()
    return _said("rounded", type_, value, told=(places, have))


def divided(value: Any, by: Any) -> Said:
    """One number by another; nothing where that is zero."""
    return _said("divided", sa.Double(), value, by)


def total(value: Any) -> Said:
    """The sum of whole numbers."""
    return _said("total", sa.Integer(), value)


def least(one: Any, other: Any, type_: TypeEngine[Any]) -> Said:
    """The lesser of two; nothing where either is nothing."""
    return _said("extreme", type_, one, other, told=("least",))


def greatest(one: Any, other: Any, type_: TypeEngine[Any]) -> Said:
    return _said("extreme", type_, one, other, told=("greatest",))


def days_later(day: Any, days: Any) -> Said:
    return _said("days_later", sa.Date(), day, days)


def moment_later(moment: Any, days: Any) -> Said:
    return _said("moment_later", moment.type, moment, days)


def days_between(day: Any, earlier: Any) -> Said:
    return _said("days_between", sa.Integer(), day, earlier)


def part(word: str, day: Any) -> Said:
    """The `year`, `month` or `day` of a date."""
    return _said("part", sa.Integer(), day, told=(word,))


def local_day(moment: Any) -> Said:
    """The day of a moment where the site is."""
    return _said("local_day", sa.Date(), moment, told=(settings.TIMEZONE,))
