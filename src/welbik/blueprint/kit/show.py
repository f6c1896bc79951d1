"""Values as people read them."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from jinja2 import Undefined

from .clock import ZONE

NOTHING = "—"


def show(value: Any, unit: str = "") -> str:
    """A value for a page: an empty one is a dash, a moment is in the site's zone."""
    if type(value) is str:
        return value
    if value is None or isinstance(value, Undefined):
        return NOTHING
    if unit:
        return f"{show(value)} {unit}"
    if isinstance(value, bool):
        return "Yes" if value else "No"
    if isinstance(value, dt.datetime):
        return value.astimezone(ZONE).strftime("%Y-%m-%d %H:%M")
    if isinstance(value, Decimal):
        return f"{value:f}"
    if isinstance(value, dt.time):
        return value.isoformat("seconds" if value.second else "minutes")
    if isinstance(value, list):
        return ", ".join(map(str, value)) or NOTHING
    return str(value)
