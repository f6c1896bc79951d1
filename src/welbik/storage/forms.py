"""How columns that others made hold their values, and what turns ours into those.

What a column is in the database stays so. Where its type is not what Welbik would choose, it has a
*form* (see `kinds.native`): each database's own file says how it reads that.
"""

from __future__ import annotations

import calendar
import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Any

from ..kinds.native import form
from ..rules.tree import Held
from .tables import Column


def form_of(column: Column) -> str:
    """The form of a column; empty where it holds values as Welbik does."""
    if column.yes_no:
        return "words"
    return form(column.type, column.native) if column.native else ""


def how(column: Column | None) -> Held | None:
    """How a column holds its values, where that is not as Welbik does."""
    if column is None or not (column.native or column.yes_no or column.empty is not None):
        return None
    return Held(column.type, form_of(column), column.yes_no, column.empty)


def outgoing(
    column: Column, values: Sequence[Any], *, exact: bool, letters: bool = False
) -> tuple[list[Any], str]:
    """A column in the neutral form as this column holds it, and the type that it then has.

    `exact` says whether the database has decimals, `letters` whether bits are those of a text's letters.
    """
    held, type_ = list(values), column.type
    found = form_of(column)
    change = _OUT.get(found)
    if found == "words":
        yes, no = column.yes_no
        held = [value if value is None else yes if value else no for value in held]
        type_ = "text"
    elif found == "plain" and not exact:
        scale = 10 ** int(type_.split()[2])
        held = [value if value is None else value / scale for value in held]
        type_ = "double"
    elif found == "bits" and letters:
        held = [value if value is None else "\1" if value else "\0" for value in held]
        type_ = "text"
    elif change is not None:
        held = [None if value is None else change(value) for value in held]
        type_ = _TYPES.get(found, type_)
    if column.empty is not None:
        stands: Any = column.empty
        if type_.split()[0] in ("integer", "bigint", "seconds", "double", "reference"):
            stands = float(stands) if "." in stands else int(stands)
        elif type_.split()[0] == "decimal":
            stands = round(float(stands) * 10 ** int(type_.split()[2]))
        held = [stands if value is None else value for value in held]
    return held, type_


def _seconds(moment: str) -> int:
    when = dt.datetime.fromisoformat(moment)
    return calendar.timegm(when.timetuple())


_OUT: Mapping[str, Any] = {
    "flag": int,
    "seconds": _seconds,
    "zoned": lambda moment: f"{moment}+00",
    "iso": lambda moment: moment[:19],
    "dashed": lambda uuid: f"{uuid[:8]}-{uuid[8:12]}-{uuid[12:16]}-{uuid[16:20]}-{uuid[20:]}",
}
_TYPES = {"flag": "integer", "seconds": "bigint", "zoned": "text", "iso": "text", "dashed": "text"}
