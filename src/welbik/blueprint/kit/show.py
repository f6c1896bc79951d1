"""Values as people read them, in the site's locale and time zone."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from jinja2 import Undefined

from .. import settings
from .clock import ZONE

NOTHING = "—"
_SIGNS = str.maketrans({",": settings.GROUP_SIGN, ".": settings.POINT_SIGN})
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
    if isinstance(value, bool):
        return "Yes" if value else "No"
    if isinstance(value, int | Decimal | float):
        return number(value)
    if isinstance(value, dt.datetime):
        here = value.astimezone(ZONE)
        return f"{day(here)}, {time(here)}"
    if isinstance(value, dt.date):
        return day(value)
    if isinstance(value, dt.time):
        return time(value)
    if isinstance(value, list):
        return ", ".join(map(str, value)) or NOTHING
    return str(value)


def number(value: Any) -> str:
    """An int, a Decimal or a float with the signs of the locale."""
    if isinstance(value, float):
        # What a computer adds to the last places is no news to anybody.
        text = f"{value:,.10g}" if abs(value) < 1e10 else str(value)
    else:
        text = f"{value:,f}" if isinstance(value, Decimal) else f"{value:,}"
    if abs(value) < _GROUPED:
        text = text.replace(",", "")
    return text.translate(_SIGNS)


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


def plain(value: Any) -> str:
    """A value as programs read it: for downloads."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dt.datetime):
        return value.astimezone(ZONE).isoformat(" ", "seconds")[:19]
    if isinstance(value, Decimal):
        return f"{value:f}"
    if isinstance(value, dt.date | dt.time):
        return value.isoformat()
    if isinstance(value, list):
        return ", ".join(map(str, value))
    return str(value)
