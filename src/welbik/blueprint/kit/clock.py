"""The site's clock: moments are kept in UTC, typed and shown in the site's time zone."""

from __future__ import annotations

import datetime as dt
from zoneinfo import ZoneInfo

from .. import settings

ZONE = ZoneInfo(settings.TIMEZONE)


def now() -> dt.datetime:
    return dt.datetime.now(dt.UTC)


def today() -> dt.date:
    """Today where the site is."""
    return now().astimezone(ZONE).date()


def day(moment: dt.datetime) -> dt.date:
    """The day of a moment where the site is."""
    return moment.astimezone(ZONE).date()


def local(text: str) -> dt.datetime:
    """The moment that a local date and time stand for; ValueError if there is none."""
    moment = dt.datetime.fromisoformat(text).replace(tzinfo=ZONE)
    utc = moment.astimezone(dt.UTC)
    if utc.astimezone(ZONE).replace(tzinfo=None) != moment.replace(tzinfo=None):
        raise ValueError("skipped when the clocks went forward")
    return utc


def typed(moment: dt.datetime) -> str:
    """A moment as a date and time control holds it."""
    here = moment.astimezone(ZONE)
    return here.strftime("%Y-%m-%dT%H:%M:%S" if here.second else "%Y-%m-%dT%H:%M")
