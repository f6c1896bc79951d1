"""Controls that no browser can misread: its own for dates and numbers only where it writes them as the site does.

A browser's own control reads what is typed by the browser's language: 01.03.2024 is the third of
January to some, and 1234,56 a whole number. Elsewhere there is a line of text, read strictly here.
"""

from __future__ import annotations

from typing import Any

from flask import request

from .. import settings

_SWAPPED = str.maketrans(",.", ".,")
_ASKED = {
    "number": {"inputmode": "decimal"},
    "date": {"inputmode": "numeric", "placeholder": "2026-04-01"},
    "time": {"inputmode": "numeric", "placeholder": "14:30"},
    "datetime-local": {"placeholder": "2026-04-01T14:30"},
}


def _speaks_as_the_site() -> bool:
    """Whether the browser's first language is the site's; a program that names none is taken at its word."""
    languages = [language for language, _ in request.accept_languages]
    if not languages:
        return True
    theirs, ours = (
        language.replace("_", "-").lower().split("-")
        for language in (languages[0], settings.LOCALE)
    )
    if theirs[0] != ours[0]:
        return False
    # Where days stand before months differs within English.
    return theirs[-1] == ours[-1] or (len(theirs) == 1 and theirs[0] != "en")


def is_plain(input_type: str) -> bool:
    """Whether a line of text stands for a control of the browser."""
    return input_type in _ASKED and not _speaks_as_the_site()


def kind(input_type: str) -> str:
    """The type of a control."""
    return "text" if is_plain(input_type) else input_type


def attributes(field: Any) -> dict[str, Any]:
    """The attributes of a field's control."""
    if not is_plain(field.input_type):
        found: dict[str, Any] = field.attributes()
        return found
    return hints(field.input_type)


def hints(input_type: str) -> dict[str, str]:
    """The attributes of a line of text that stands for a control of the browser."""
    return {**_ASKED[input_type], "autocomplete": "off"} if is_plain(input_type) else {}


def swapped(input_type: str, text: str) -> str:
    """A number in the site's signs as one with a point, and the other way round.

    What has the wrong one of the two is then no number.
    """
    swaps = (
        input_type == "number" and settings.POINT_SIGN == "," and is_plain(input_type)
    )
    return text.translate(_SWAPPED) if swaps else text
