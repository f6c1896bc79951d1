"""Form fields: what a control allows, and what the server accepts. Both from one place."""

from __future__ import annotations

import datetime as dt
import math
import re
import unicodedata
from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal as Exact
from decimal import localcontext
from itertools import chain, count
from typing import Any, ClassVar

from sqlalchemy import or_, select

from . import clock, controls
from .database import session
from .show import hours, length, show

INTEGER = re.compile(r"[+-]?[0-9]{1,19}")
_DECIMAL = re.compile(r"[+-]?([0-9]{1,20}\.?[0-9]{0,20}|\.[0-9]{1,20})")
_DATE = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
_MOMENT = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}(:[0-9]{2})?")
# As in the HTML standard, 4.10.5.1.5.
_EMAIL = re.compile(
    r"[a-zA-Z0-9.!#$%&'*+/=?^_`{|}~-]+"
    r"@[a-zA-Z0-9](?:[a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?"
    r"(?:\.[a-zA-Z0-9](?:[a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?)*"
)
_URL = re.compile(r"https?://[^\s/?#]\S*", re.IGNORECASE)
_PHONE = re.compile(r"\+?[0-9(][0-9 ()./-]*( ?(x|ext\.?) ?[0-9]+)?")
_SLUG = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*")
_TIME = re.compile(r"[0-9]{2}:[0-9]{2}(:[0-9]{2})?")
_NO_ADDRESS = {"new", "bin", "chosen", ".", ".."}
_RADIO_MOST = 4
_DIGITS = 80
_MINUTES = len("2026-04-01T14:30")
# Controls, ends of lines, signs that turn a line round, and halves of letters.
_NEVER = "\x7f-\x9f\u202a-\u202e\u2066-\u2069\ud800-\udfff"
ONE_LINE = re.compile(f"[\x00-\x1f\u2028\u2029{_NEVER}]")
LINES = re.compile(f"[\x00-\x08\x0b-\x1f{_NEVER}]")


def one_ending(text: str) -> str:
    """A text with the one line ending that is stored, whatever a browser sends."""
    return text.replace("\r\n", "\n").replace("\r", "\n")


class Refused(ValueError):
    """A value that is not accepted: which check it failed, and in words."""

    def __init__(self, check: str, words: str) -> None:
        super().__init__(words)
        self.check = check
        self.words = words


@dataclass(frozen=True, kw_only=True)
class Field:
    """One value of a form. `messages` words the failure of a check by the check's name.

    A fixed one is entered with a new row and never changed after; an `owned` one is the row
    that this one is made under, and not entered at all; that of the `address`
    tells rows apart there. `bounds` are attributes
    that let the browser hold what a rule says, or functions that tell them now.
    """

    name: str = field(kw_only=False)
    label: str = field(kw_only=False)
    required: bool = False
    unique: bool = False
    default: Any = None
    hint: str = ""
    unit: str = ""
    fixed: bool = False
    owned: bool = False
    address: bool = False
    messages: Mapping[str, str] = field(default_factory=dict)
    bounds: Mapping[str, Any] = field(default_factory=dict)
    attribute: str = ""

    control: ClassVar[str] = "input"
    input_type: ClassVar[str] = "text"
    macros: ClassVar[str] = ""
    """The template that has its control, where it is none that all fields share."""

    copied: ClassVar[bool] = True
    """Whether a copy of a row begins with it."""

    returns: ClassVar[bool] = True
    """Whether an earlier version brings it back."""

    shared: ClassVar[bool] = True
    """Whether it can be set on several rows at once."""

    refers: ClassVar[bool] = False
    """Whether it holds the key of a row of another model, its `target`."""

    several: ClassVar[bool] = False
    """Whether it holds rows of it, as many as are chosen."""

    never: ClassVar[re.Pattern[str]] = ONE_LINE

    @property
    def column(self) -> str:
        """The attribute of the model that holds the value."""
        return self.attribute or self.name

    @property
    def heading(self) -> str:
        """Its label with its unit, for a column whose cells hold values alone."""
        told = not self.unit or self.unit.lower() == self.label.lower()
        return self.label if told else f"{self.label} ({self.unit})"

    def read(self, text: str) -> Any:
        """The value that a typed text stands for; raises Refused. Empty is None."""
        text = self.tidy(text)
        if text == "":
            if self.required:
                raise self.refused("required", self.ask())
            return None
        if self.never.search(text):
            raise self.refused("text", "This holds a character that can't be kept.")
        if self.address and ("/" in text or text in _NO_ADDRESS):
            raise self.refused("address", "This can't be part of an address.")
        return self.parse(text)

    def tidy(self, text: str) -> str:
        return text.strip()

    def flat(self, text: str) -> str:
        """A text less what a browser makes of it by itself: two that are alike are one."""
        return text.replace("\r", "").replace("\n", "").strip()

    def change(self, text: str, stored: Any, typed: str) -> Any:
        """The value of a text where a row holds `stored`, which would be `typed` so.

        What was not touched stays as it is, down to what a control can't show.
        """
        untouched = stored is not None and self.flat(text) == self.flat(typed)
        return stored if untouched else self.read(text)

    def ask(self) -> str:
        return "Fill this in."

    def parse(self, text: str) -> Any:
        return text

    def typed(self, value: Any) -> str:
        """A value as its control holds it."""
        return "" if value is None else str(value)

    def sent(self, form: Any, files: Any) -> str:
        """What a request holds of this field, as one text."""
        text: str = form.get(self.name, "")
        return controls.swapped(self.input_type, text)

    def owns(self, key: str) -> bool:
        """Whether a name in a request belongs to this field."""
        return key == self.name or key.startswith(f"{self.name}-")

    def complete(self, values: dict[str, Any], row: Any) -> None:
        """Fills in what follows from other values once all are read."""

    def of(self, table: str) -> Field:
        """The field as one of a table's form."""
        return self

    def room(self) -> int:
        """The bytes that a request may be larger by because of it."""
        return 0

    def settle(self, row: Any) -> None:
        """What is to be done before the row with its value is stored for good."""

    def first(self) -> str:
        """What the control of a new row starts with."""
        return self.typed(self.default() if callable(self.default) else self.default)

    def limits(self) -> dict[str, Any]:
        """HTML attributes that let the browser check the same."""
        return {}

    def attributes(self) -> dict[str, Any]:
        """The limits of the field itself, and the tighter ones that rules set."""
        found = self.limits()
        for name, bound in self.bounds.items():
            found[name] = self.typed(bound() if callable(bound) else bound)
        return found

    def choices(self, typed: str) -> list[tuple[str, str]]:
        """Values and labels to choose from."""
        return []

    def is_loop(self, row: Any, values: Mapping[str, Any]) -> bool:
        """Whether a row of the same model would become its own ancestor."""
        return False

    def told(self, typed: str) -> str:
        """What was typed as people read it."""
        return dict(self.choices(typed)).get(typed, typed) if typed else ""

    def refused(self, check: str, words: str) -> Refused:
        return Refused(check, self.messages.get(check, words))


@dataclass(frozen=True, kw_only=True)
class Text(Field):
    """One line of text."""

    shortest: int = 1
    longest: int | None = None
    pattern: str = ""

    def parse(self, text: str) -> str:
        if not self.shortest <= len(text) <= (self.longest or len(text)):
            words = f"{self.lengths()}, please; this has {len(text)}."
            raise self.refused("range", words)
        if self.pattern and not re.fullmatch(self.pattern, text):
            raise self.refused("matches", self.hint or "This is not in the form asked.")
        return text

    def lengths(self) -> str:
        if self.shortest == self.longest:
            return f"Exactly {self.longest} characters"
        if self.longest is None:
            return f"At least {self.shortest} characters"
        if self.shortest <= 1:
            return f"At most {self.longest} characters"
        return f"Between {self.shortest} and {self.longest} characters"

    def limits(self) -> dict[str, Any]:
        found: dict[str, Any] = {}
        if self.shortest > 1:
            found["minlength"] = self.shortest
        if self.longest is not None:
            found["maxlength"] = self.longest
        if self.pattern:
            found["pattern"] = self.pattern
        return found


@dataclass(frozen=True, kw_only=True)
class LongText(Text):
    """Several lines of text."""

    control: ClassVar[str] = "area"
    never: ClassVar[re.Pattern[str]] = LINES

    def tidy(self, text: str) -> str:
        return one_ending(text).strip()

    def flat(self, text: str) -> str:
        return self.tidy(text)

    def limits(self) -> dict[str, Any]:
        return {k: v for k, v in super().limits().items() if k != "pattern"}


@dataclass(frozen=True, kw_only=True)
class Email(Field):
    """An e-mail address."""

    input_type: ClassVar[str] = "email"

    def parse(self, text: str) -> str:
        if len(text) > 254 or not _EMAIL.fullmatch(text):
            words = "Write an e-mail address, such as name@example.org."
            raise self.refused("range", words)
        return text

    def limits(self) -> dict[str, Any]:
        return {"maxlength": 254, "placeholder": "name@example.org"}


@dataclass(frozen=True, kw_only=True)
class Url(Field):
    """A web address."""

    input_type: ClassVar[str] = "url"

    def parse(self, text: str) -> str:
        if len(text) > 2000 or not _URL.fullmatch(text):
            words = "Write a web address, such as https://example.org."
            raise self.refused("range", words)
        return text

    def limits(self) -> dict[str, Any]:
        return {"maxlength": 2000, "placeholder": "https://"}


@dataclass(frozen=True, kw_only=True)
class Phone(Field):
    """A telephone number, as people write it."""

    input_type: ClassVar[str] = "tel"

    def parse(self, text: str) -> str:
        digits = sum(c.isdigit() for c in text)
        if len(text) > 40 or not _PHONE.fullmatch(text) or not 3 <= digits <= 20:
            words = "Write a telephone number, such as +44 1632 960123."
            raise self.refused("range", words)
        return text

    def limits(self) -> dict[str, Any]:
        return {"maxlength": 40}


@dataclass(frozen=True, kw_only=True)
class Slug(Field):
    """A word of an address: made from another field where it is left empty."""

    copied: ClassVar[bool] = False

    source: str = ""

    def parse(self, text: str) -> str:
        if len(text) > 80 or not _SLUG.fullmatch(text):
            words = "Use small letters, digits and dashes, such as long-hive-2."
            raise self.refused("range", words)
        return text

    def limits(self) -> dict[str, Any]:
        return {"maxlength": 80, "pattern": _SLUG.pattern}

    def complete(self, values: dict[str, Any], row: Any) -> None:
        if values.get(self.column) is not None or self.column not in values:
            return
        named = unicodedata.normalize("NFKD", str(values.get(self.source) or ""))
        word = re.sub(
            r"[^a-z0-9]+", "-", named.encode("ascii", "ignore").decode().lower()
        )
        word = word.strip("-")[:70].strip("-") or type(row).__tablename__.replace(
            "_", "-"
        )
        taken = self._like(word, row) | _NO_ADDRESS
        numbered = (f"{word}-{number}" for number in count(2))
        values[self.column] = next(w for w in chain([word], numbered) if w not in taken)

    def _like(self, word: str, row: Any) -> set[Any]:
        """The words that other rows have already: this one, and it with something behind it."""
        model = type(row)
        held = getattr(model, self.column)
        like = select(held).where(or_(held == word, held.like(f"{word}-%")))
        if row.id is not None:
            like = like.where(model.id != row.id)
        return set(session().scalars(like))


@dataclass(frozen=True, kw_only=True)
class _Ranged(Field):
    """A value between two ends; either may be open, or a function that tells it now."""

    low: Any = None
    high: Any = None

    def ends(self) -> tuple[Any, Any]:
        low = self.low() if callable(self.low) else self.low
        return low, self.high() if callable(self.high) else self.high

    def within(self, value: Any) -> Any:
        low, high = self.ends()
        if (low is None or value >= low) and (high is None or value <= high):
            return value
        words = {
            (True, True): f"Between {self.named(low)} and {self.named(high)}, please.",
            (True, False): f"{self.named(low)} at the least, please.",
            (False, True): f"{self.named(high)} at the most, please.",
        }
        raise self.refused("range", words[low is not None, high is not None])

    def named(self, end: Any) -> str:
        return show(end)

    def told(self, typed: str) -> str:
        try:
            return show(self.parse(typed)) if typed else ""
        except Refused:
            return typed

    def limits(self) -> dict[str, Any]:
        low, high = self.ends()
        found = {"min": low, "max": high}
        return {name: self.typed(end) for name, end in found.items() if end is not None}


@dataclass(frozen=True, kw_only=True)
class Integer(_Ranged):
    """A whole number; without ends of its own, one of 32 bits."""

    low: int = -(2**31)
    high: int = 2**31 - 1
    input_type: ClassVar[str] = "number"

    def parse(self, text: str) -> int:
        if not INTEGER.fullmatch(text):
            raise self.refused("range", "Write a whole number, such as 12.")
        return int(self.within(int(text)))

    def limits(self) -> dict[str, Any]:
        # The ends of the column itself are no news to anybody.
        wide = {str(-(2**31)), str(2**31 - 1)}
        found = {k: v for k, v in super().limits().items() if v not in wide}
        return found | {"step": 1}


@dataclass(frozen=True, kw_only=True)
class Decimal(_Ranged):
    """An exact number with a fixed count of places."""

    places: int = 2
    input_type: ClassVar[str] = "number"

    def parse(self, text: str) -> Exact:
        if not _DECIMAL.fullmatch(text):
            raise self.refused("range", "Write a number, such as 12.5.")
        value = Exact(text)
        # More digits than a number has by default: what is compared is exact.
        with localcontext(prec=_DIGITS):
            step = Exact(1).scaleb(-self.places)
            if value != value.quantize(step):
                words = f"At most {self.places} digits after the point, please."
                raise self.refused("range", words)
            exact: Exact = self.within(value).quantize(step)
        return exact

    def typed(self, value: Any) -> str:
        return "" if value is None else f"{value:f}"

    def limits(self) -> dict[str, Any]:
        return super().limits() | {"step": f"{Exact(1).scaleb(-self.places):f}"}


@dataclass(frozen=True, kw_only=True)
class Number(_Ranged):
    """A floating point number."""

    input_type: ClassVar[str] = "number"

    def parse(self, text: str) -> float:
        try:
            value = float(text)
        except ValueError:
            value = math.nan
        if not math.isfinite(value):
            raise self.refused("range", "Write a number, such as 0.5.")
        return float(self.within(value))

    def limits(self) -> dict[str, Any]:
        return super().limits() | {"step": "any"}


@dataclass(frozen=True, kw_only=True)
class Boolean(Field):
    """Yes or no: a box to tick, or three choices where it may stay unknown."""

    wanted: str = ""

    @property
    def control(self) -> str:  # type: ignore[override]
        return self.wanted or ("box" if self.required else "radio")

    def read(self, text: str) -> bool | None:
        if text in ("yes", "no"):
            return text == "yes"
        if text == "":
            return False if self.required else None
        raise self.refused("range", "Answer yes or no.")

    def typed(self, value: Any) -> str:
        return "" if value is None else "yes" if value else "no"

    def flat(self, text: str) -> str:
        # A box that is not ticked is not sent at all.
        return text or ("no" if self.control == "box" else "")

    def choices(self, typed: str) -> list[tuple[str, str]]:
        return [("yes", "Yes"), ("no", "No"), ("", "Unknown")]


@dataclass(frozen=True, kw_only=True)
class Date(_Ranged):
    """A day of the calendar."""

    input_type: ClassVar[str] = "date"

    def parse(self, text: str) -> dt.date:
        try:
            value = dt.date.fromisoformat(text if _DATE.fullmatch(text) else "")
        except ValueError:
            words = "Write a day of the calendar, such as 2026-04-01."
            raise self.refused("range", words) from None
        day: dt.date = self.within(value)
        return day


@dataclass(frozen=True, kw_only=True)
class Time(_Ranged):
    """A time of the day."""

    input_type: ClassVar[str] = "time"

    def parse(self, text: str) -> dt.time:
        try:
            value = dt.time.fromisoformat(text if _TIME.fullmatch(text) else "")
        except ValueError:
            words = "Write a time of the day, such as 14:30."
            raise self.refused("range", words) from None
        time: dt.time = self.within(value)
        return time

    def typed(self, value: Any) -> str:
        if value is None:
            return ""
        text: str = value.isoformat("seconds" if value.second else "minutes")
        return text


@dataclass(frozen=True, kw_only=True)
class Duration(_Ranged):
    """A length of time, in hours and minutes."""

    def parse(self, text: str) -> dt.timedelta:
        try:
            value = length(text)
        except ValueError:
            words = "Write hours and minutes, such as 1:30."
            raise self.refused("range", words) from None
        found: dt.timedelta = self.within(value)
        return found

    def typed(self, value: Any) -> str:
        return "" if value is None else hours(value)

    def limits(self) -> dict[str, Any]:
        return {
            "pattern": "-?[0-9]{1,6}:[0-5][0-9](:[0-5][0-9])?",
            "placeholder": "0:00",
        }


@dataclass(frozen=True, kw_only=True)
class Moment(_Ranged):
    """A date and time, typed in the site's time zone."""

    input_type: ClassVar[str] = "datetime-local"

    def parse(self, text: str) -> dt.datetime:
        try:
            value = clock.local(text if _MOMENT.fullmatch(text) else "")
        except (ValueError, OverflowError) as error:
            words = "Write a date and a time, such as 2026-04-01 14:30."
            if "skipped" in str(error):
                words = "There was no such time: the clocks went forward over it."
            raise self.refused("range", words) from None
        moment: dt.datetime = self.within(value)
        return moment

    def typed(self, value: Any) -> str:
        return "" if value is None else clock.typed(value)

    def first(self) -> str:
        return super().first()[:_MINUTES]

    def limits(self) -> dict[str, Any]:
        # Ends with seconds would make the browser refuse whole minutes.
        return {name: end[:_MINUTES] for name, end in super().limits().items()}


@dataclass(frozen=True, kw_only=True)
class Chosen(Field):
    """What is not typed but chosen."""

    def ask(self) -> str:
        return "Choose one."


@dataclass(frozen=True, kw_only=True)
class Choice(Chosen):
    """One of a closed list: radio buttons while they are few."""

    labels: Mapping[str, str] = field(default_factory=dict)
    wanted: str = ""

    @property
    def control(self) -> str:  # type: ignore[override]
        few = len(self.labels) <= _RADIO_MOST
        return self.wanted or ("radio" if few else "select")

    def parse(self, text: str) -> str:
        if text not in self.labels:
            raise self.refused("range", "Choose one of the list.")
        return text

    def choices(self, typed: str) -> list[tuple[str, str]]:
        none = [] if self.required and self.control == "radio" else [("", "None")]
        if self.required and self.control == "select":
            none = [("", "Choose …")]
        return [*none, *self.labels.items()]
