"""What the texts of a column are, found from all of them."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from ..rules.sql import quote
from . import names
from .drafts import quoted, whole
from .sheets import Sheet, Sheets

_MOST_CHOICES = 12
_WIDTHS = (20, 40, 80, 120, 200, 255)
_TRUTHS = {
    **dict.fromkeys(("yes", "y", "true", "t", "ja", "oui", "si", "sim", "x"), True),
    **dict.fromkeys(("no", "n", "false", "f", "nein", "non", "nao"), False),
}
_DATES = ("%Y-%m-%d", "%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%Y/%m/%d", "%d-%m-%Y")
_MOMENTS = tuple(
    f"{date}{between}{clock}"
    for date in _DATES
    for between in (" ", "T")
    for clock in ("%H:%M:%S", "%H:%M")
)
_TIMES = ("%H:%M", "%H:%M:%S")
_WHOLE = re.compile(r"-?(0|[1-9]\d{0,17})")
_POINT = re.compile(r"-?\d{1,3}(,\d{3})+(\.\d+)?|-?\d{1,15}(\.\d{1,6})?")
_COMMA = re.compile(r"-?\d{1,3}(\.\d{3})+(,\d+)?|-?\d{1,15}(,\d{1,6})?")
_MAIL = re.compile(r"[^@\s]+@[^@\s]+\.[a-zA-Z]{2,}")
_URL = re.compile(r"https?://\S+")
_NEARLY = 0.9


@dataclass
class Guess:
    """A column: the words of its type, what turns its texts into those of a data file, and why it
    is none of another type, where it nearly is."""

    type: str
    read: Callable[[str], str] = str
    required: bool = False
    unique: bool = False
    label: str = ""
    remarks: list[str] = field(default_factory=list)
    choices: dict[str, str] = field(default_factory=dict)


def guess(sheets: Sheets, sheet: Sheet, at: int) -> Guess:
    """What a column of a sheet holds."""
    name, heading = sheet.fields[at], sheet.headings[at]
    column, table = quote(name), quote(sheet.table)
    ((given, different, longest),) = sheets.ask(
        f"SELECT count({column}), count(DISTINCT {column}), max(length({column})) FROM {table}"
    )
    count, kinds, width = int(str(given)), int(str(different)), int(str(longest or 0))

    def values() -> Iterator[str]:
        asked = f"SELECT DISTINCT {column} FROM {table} WHERE {column} IS NOT NULL"
        return (str(one) for (one,) in sheets.rows.execute(asked))

    found = _typed(values, count, kinds, width, name) if count else Guess("text 80")
    found.required = count == sheet.rows and count > 0
    found.unique = count > 1 and kinds == count == sheet.rows and _may_tell(found.type, name)
    if names.plain(heading).lower().replace(" ", "_") != name:
        found.label = whole(heading, 60)
    if found.type.startswith("text") and count:
        found.remarks += _nearly(sheets, sheet, name, values, kinds)
    return found


def _may_tell(type_: str, name: str) -> bool:
    words = set(name.split("_"))
    telling = {"id", "code", "no", "nr", "number", "name", "email", "mail", "sku", "key", "title"}
    return type_.startswith(("text", "email", "integer")) and bool(words & telling)


def _typed(
    values: Callable[[], Iterator[str]], count: int, kinds: int, width: int, name: str
) -> Guess:
    if kinds <= 2 and all(value.lower() in _TRUTHS for value in values()):
        return Guess("boolean", lambda text: "yes" if _TRUTHS[text.lower()] else "no")
    if all(_WHOLE.fullmatch(value) for value in values()):
        large = any(abs(int(value)) >= 2**31 for value in values())
        return Guess(f"integer ..{2**63 - 1}" if large else "integer")
    for pattern, thousands, point in ((_POINT, ",", "."), (_COMMA, ".", ",")):
        if all(pattern.fullmatch(value) for value in values()):
            return _decimal(values, thousands, point)
    for forms, word in ((_DATES, "date"), (_MOMENTS, "datetime"), (_TIMES, "time")):
        form = _form(values, forms)
        if form:
            return Guess(word, lambda text, form=form, word=word: _iso(text, form, word))  # type: ignore[misc]
    if all(_MAIL.fullmatch(value) for value in values()) and width <= 254:
        return Guess("email")
    if all(_URL.fullmatch(value) for value in values()) and width <= 2000:
        return Guess("url")
    if kinds <= _MOST_CHOICES and count >= 4 * kinds and width <= 40 and kinds > 1:
        return _choices(values)
    several = any("\n" in value for value in values())
    fitting = next((most for most in _WIDTHS if width * 1.2 <= most), None)
    return Guess("text" if several or fitting is None else f"text {fitting}")


def _decimal(values: Callable[[], Iterator[str]], thousands: str, point: str) -> Guess:
    def read(text: str) -> str:
        return text.replace(thousands, "").replace(point, ".")

    plain = [read(value) for value in values()]
    places = max(len(text.partition(".")[2]) for text in plain)
    before = max(len(text.partition(".")[0].lstrip("-")) for text in plain)
    most = f"{'9' * min(before + 2, 18 - places)}.{'9' * places}".rstrip(".")
    return Guess(f"decimal ..{most}", read)


def _form(values: Callable[[], Iterator[str]], forms: tuple[str, ...]) -> str:
    """The one form that all texts have; day before month where either would do."""
    for form in forms:
        if all(_parses(value, form) for value in values()):
            return form
    return ""


def _parses(text: str, form: str) -> bool:
    try:
        dt.datetime.strptime(text, form)
    except ValueError:
        return False
    return True


def _iso(text: str, form: str, word: str) -> str:
    when = dt.datetime.strptime(text, form)
    if word == "date":
        return when.date().isoformat()
    return when.time().isoformat() if word == "time" else when.isoformat()


def _choices(values: Callable[[], Iterator[str]]) -> Guess:
    known: dict[str, str] = {}
    written = []
    for value in sorted(values()):
        name = names.choice_name(value, set(known.values()))
        known[value] = name
        usual = name.replace("_", " ").capitalize()
        written.append(name if value == usual else f"{name} {quoted(value)}")
    return Guess(f"one of {' | '.join(written)}", known.__getitem__, choices=known)


def _nearly(
    sheets: Sheets, sheet: Sheet, name: str, values: Callable[[], Iterator[str]], kinds: int
) -> list[str]:
    """Which rows made it a text, where nearly all others are of one type."""
    tests: list[tuple[str, Callable[[str], object]]] = [
        ("whole numbers", _WHOLE.fullmatch),
        ("numbers", _POINT.fullmatch),
        ("numbers", _COMMA.fullmatch),
        ("dates", lambda text: any(_parses(text, form) for form in _DATES)),
        ("e-mail addresses", _MAIL.fullmatch),
    ]
    for what, fits in tests:
        odd = [value for value in values() if not fits(value)][: kinds // 10 + 2]
        if odd and len(odd) <= (1 - _NEARLY) * kinds and kinds > 4:
            marks = ", ".join("?" for _ in odd)
            rows = sheets.rows.execute(
                f"SELECT line, {quote(name)} FROM {quote(sheet.table)} "
                f"WHERE {quote(name)} IN ({marks}) ORDER BY line LIMIT 3",
                odd,
            ).fetchall()
            told = ", ".join(f"row {line}: {whole(str(text), 30)}" for line, text in rows)
            return [f"All but a few are {what}; text for the sake of {told}"]
    return []
