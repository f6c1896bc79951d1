"""Values as people read them, in the site's locale and time zone."""

from __future__ import annotations

import datetime as dt
import re
from decimal import Decimal, InvalidOperation
from typing import Any

from jinja2 import Undefined

from .. import settings
from .clock import ZONE

NOTHING = "—"
_SCHEMES = ("http://", "https://", "mailto:")
MOST_SHOWN = 200
"""Characters of a text where several rows or versions are shown."""
_SIGNS = str.maketrans({",": settings.GROUP_SIGN, ".": settings.POINT_SIGN})
_LENGTH = re.compile(r"(-?)([0-9]{1,6}):([0-5][0-9])(?::([0-5][0-9]))?")
_NUMBERS = (int, Decimal, float)
_TOLD = (*_NUMBERS, dt.date, dt.time, dt.timedelta, list)
_WHOLE = 999.5
_LONGEST, _DIGITS = 60, 40
_GROUPED = 10_000
"""Smaller whole numbers are as often years or codes: they are shown as they are."""


def show(value: Any, unit: str = "") -> str:
    """A value for a page: an empty one is a dash, a moment is in the site's zone."""
    if type(value) is str:
        return value
    if type(value) is int and not unit and -_GROUPED < value < _GROUPED:
        return str(value)
    if value is None or isinstance(value, Undefined):
        return NOTHING
    if unit:
        # A number and its unit stay on one line.
        return f"{show(value)}\N{NO-BREAK SPACE}{unit}"
    if not isinstance(value, _TOLD):
        return str(value)
    if isinstance(value, bool):
        return "Yes" if value else "No"
    if isinstance(value, _NUMBERS):
        return number(value)
    if isinstance(value, dt.datetime):
        here = value.astimezone(ZONE)
        return f"{day(here)}, {time(here)}"
    if isinstance(value, dt.date):
        return day(value)
    if isinstance(value, dt.time):
        return time(value)
    if isinstance(value, dt.timedelta):
        return hours(value)
    return ", ".join(map(str, value)) or NOTHING


def brief(value: Any) -> str:
    """A value among others: a long text is cut."""
    text = show(value)
    return text if len(text) <= MOST_SHOWN else f"{text[: MOST_SHOWN - 1]}…"


def number(value: Any) -> str:
    """An int, a Decimal or a float with the signs of the locale."""
    if isinstance(value, float):
        # Who declares no places has measured: three digits tell it, forms have it whole.
        text = f"{value:,.0f}" if abs(value) >= _WHOLE else f"{value:.3g}"
    else:
        text = f"{value:,f}" if isinstance(value, Decimal) else f"{value:,}"
    if abs(value) < _GROUPED:
        text = text.replace(",", "")
    return text.translate(_SIGNS)


def measured(text: str) -> Decimal:
    """The number of a text; ValueError where it is none, or one that no column holds.

    Its size is looked at before anything is worked out with it: `1E+999999` is nine letters,
    and a million digits once it is added to something.
    """
    if len(text) > _LONGEST:
        raise ValueError(text[:_LONGEST])
    try:
        found = Decimal(text)
    except InvalidOperation:
        raise ValueError(text) from None
    if not found.is_finite():
        raise ValueError(text)
    if not found:
        # A nought has an exponent too, and would be written with all its places.
        return Decimal()
    if not -_DIGITS < found.adjusted() < _DIGITS:
        raise ValueError(text)
    return found


def amount(value: Any, unit: str = "") -> str:
    """A number that was worked out: no year and no code, so grouped from the first thousand."""
    if unit and value is not None and not isinstance(value, Undefined):
        return f"{amount(value)}\N{NO-BREAK SPACE}{unit}"
    return count(value) if type(value) is int else show(value)


def count(value: int) -> str:
    """How many there are: grouped from the first thousand on."""
    return f"{value:,}".translate(_SIGNS)


def day(value: dt.date) -> str:
    month = settings.MONTHS[value.month - 1]
    return settings.DATE.format(
        day=value.day, month=value.month, name=month, year=value.year
    )


def time(value: dt.time | dt.datetime) -> str:
    exact = isinstance(value, dt.time) and value.second
    minute = f"{value.minute:02}:{value.second:02}" if exact else f"{value.minute:02}"
    hour12, half = value.hour % 12 or 12, settings.HALVES[value.hour >= 12]
    return settings.TIME.format(
        hour=value.hour, hour12=hour12, minute=minute, half=half
    )


def hours(value: dt.timedelta) -> str:
    """A length of time in hours and minutes, with its seconds where it has some."""
    whole = int(abs(value).total_seconds())
    sign = "-" if value < dt.timedelta() else ""
    tail = f":{whole % 60:02}" if whole % 60 else ""
    return f"{sign}{whole // 3600}:{whole // 60 % 60:02}{tail}"


def length(text: str) -> dt.timedelta:
    """The length of time that `1:30` stands for; ValueError where it is none."""
    found = _LENGTH.fullmatch(text)
    if not found:
        raise ValueError(text)
    sign, *parts = found.groups()
    whole, minutes, seconds = (int(part or 0) for part in parts)
    value = dt.timedelta(hours=whole, minutes=minutes, seconds=seconds)
    return -value if sign else value


def web_address(text: str | None) -> str:
    """An address that may be a link: of the web, or of mail; empty for what would run."""
    known = text is not None and text.lower().startswith(_SCHEMES)
    return text or "" if known else ""


def upper(text: str) -> str:
    """A text with its first letter large."""
    return f"{text[:1].upper()}{text[1:]}"


def plain(value: Any) -> str:
    """A value as programs read it: for downloads."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dt.datetime):
        return value.astimezone(ZONE).isoformat(" ", "seconds")[:19]
    if isinstance(value, dt.timedelta):
        return hours(value)
    if isinstance(value, Decimal):
        return f"{value:f}"
    if isinstance(value, dt.date | dt.time):
        return value.isoformat()
    if isinstance(value, list):
        return ", ".join(map(str, value))
    return str(value)
