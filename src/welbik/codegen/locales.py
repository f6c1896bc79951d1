"""How a locale writes dates, times and numbers, as constants of the application's settings.

They are taken from the Unicode CLDR, as Babel has it, once at build time.
"""

from __future__ import annotations

import re
from typing import Any

from ..kinds.literals import quote

_PIECES = re.compile(r"'([^']*)'|([A-Za-z])\2*|[^A-Za-z']+")
_FIELDS = {
    **{"d": "{day}", "dd": "{day:02}", "M": "{month}", "MM": "{month:02}"},
    **{"MMM": "{name}", "LLL": "{name}", "MMMM": "{name}", "y": "{year}", "yy": "{year}"},
    **{"yyyy": "{year}", "H": "{hour}", "HH": "{hour:02}", "h": "{hour12}", "hh": "{hour12:02}"},
    **{"mm": "{minute}", "m": "{minute}", "a": "{half}", "B": "{half}"},
}


def locale_constants(name: str) -> dict[str, str]:
    """The constants of a locale as source, by name; it must be one that the CLDR knows."""
    from babel import Locale

    locale = Locale.parse(name, sep="-")
    found: dict[str, Any] = {
        "DATE": _pattern(str(locale.date_formats["medium"].pattern)),
        "TIME": _pattern(str(locale.time_formats["short"].pattern)),
        "POINT_SIGN": locale.number_symbols["latn"]["decimal"],
        "GROUP_SIGN": locale.number_symbols["latn"]["group"],
    }
    constants = {key: quote(value) for key, value in found.items()}
    periods = locale.periods
    halves = ", ".join(quote(str(periods.get(half, half))) for half in ("am", "pm"))
    constants["HALVES"] = f"({halves})"
    months = locale.months["format"]["abbreviated"]
    constants["MONTHS"] = f"({', '.join(quote(str(months[n])) for n in range(1, 13))})"
    return constants


def _pattern(pattern: str) -> str:
    """A pattern of the CLDR as one that Python's str.format fills in."""
    out = []
    for piece in _PIECES.finditer(pattern):
        quoted, letter = piece.group(1), piece.group(2)
        if quoted is not None or not letter:
            text = (quoted or "'") if quoted is not None else piece.group()
            out.append(text.replace("{", "{{").replace("}", "}}").replace("\u202f", "\u00a0"))
        else:
            out.append(_FIELDS.get(piece.group(), ""))
    return "".join(out).strip()
