"""Time zones as numbers, for databases that know no zones by name."""

from __future__ import annotations

import datetime as dt
from functools import lru_cache
from zoneinfo import ZoneInfo

_FIRST, _LAST = -2_208_988_800, 4_102_444_800
"""1900 and 2100, in seconds since 1970."""
_WEEK = 7 * 86_400
_EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.UTC)


@lru_cache
def offsets(zone: str) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """When a zone's clocks were or will be changed, and how far they are ahead of UTC.

    The changes are in seconds since 1970; the offsets, in seconds, hold before, between and
    after them: there is one more of those.
    """
    where = ZoneInfo(zone)

    def ahead(at: int) -> int:
        offset = (_EPOCH + dt.timedelta(seconds=at)).astimezone(where).utcoffset()
        return int(offset.total_seconds()) if offset is not None else 0

    changes, known = [], [ahead(_FIRST)]
    for begin in range(_FIRST, _LAST, _WEEK):
        low, high = begin, begin + _WEEK
        if ahead(high) == known[-1]:
            continue
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (middle, high) if ahead(middle) == known[-1] else (low, middle)
        changes.append(high)
        known.append(ahead(high))
    return tuple(changes), tuple(known)
