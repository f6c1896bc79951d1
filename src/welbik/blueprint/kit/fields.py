"""Form fields: what a control allows, and what the server accepts. Both from one place."""

from __future__ import annotations

import datetime as dt
import math
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal as Exact
from typing import Any, ClassVar

from sqlalchemy import select

from . import clock
from .database import session

_INTEGER = re.compile(r"[+-]?[0-9]{1,19}")
_DECIMAL = re.compile(r"[+-]?([0-9]{1,20}\.?[0-9]{0,20}|\.[0-9]{1,20})")
_DATE = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
_MOMENT = re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}(:[0-9]{2})?")
# As in the HTML standard, 4.10.5.1.5.
_EMAIL = re.compile(
    r"[a-zA-Z0-9.!#$%&'*+/=?^_`{|}~-]+"
    r"@[a-zA-Z0-9](?:[a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?"
    r"(?:\.[a-zA-Z0-9](?:[a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?)*"
)
_RADIO_MOST = 4
_MINUTES = len("2026-04-01T14:30")


class Refused(ValueError):
    """A value that is not accepted: which check it failed, and in words."""

    def __init__(self, check: str, words: str) -> None:
        super().__init__(words)
        self.check = check
        self.words = words


@dataclass(frozen=True, kw_only=True)
class Field:
    """One value of a form. `messages` words the failure of a check by the check's name."""

    name: str = field(kw_only=False)
    label: str = field(kw_only=False)
    required: bool = False
    unique: bool = False
    default: Any = None
    hint: str = ""
    messages: Mapping[str, str] = field(default_factory=dict)
    attribute: str = ""

    control: ClassVar[str] = "input"
    input_type: ClassVar[str] = "text"

    @property
    def column(self) -> str:
        """The attribute of the model that holds the value."""
        return self.attribute or self.name

    def read(self, text: str) -> Any:
        """The value that a typed text stands for; raises Refused. Empty is None."""
        text = self.tidy(text)
        if text == "":
            if self.required:
                raise self.refused("required", self.ask())
            return None
        return self.parse(text)

    def tidy(self, text: str) -> str:
        return text.strip()

    def ask(self) -> str:
        return "Fill this in."

    def parse(self, text: str) -> Any:
        return text

    def typed(self, value: Any) -> str:
        """A value as its control holds it."""
        return "" if value is None else str(value)

    def first(self) -> str:
        """What the control of a new row starts with."""
        return self.typed(self.default() if callable(self.default) else self.default)

    def limits(self) -> dict[str, Any]:
        """HTML attributes that let the browser check the same."""
        return {}

    def choices(self, typed: str) -> list[tuple[str, str]]:
        """Values and labels to choose from."""
        return []

    def refused(self, check: str, words: str) -> Refused:
        return Refused(check, self.messages.get(check, words))


@dataclass(frozen=True, kw_only=True)
class Text(Field):
    """One line of text."""

    shortest: int = 1
    longest: int | None = None
    pattern: str = ""

    def parse(self, text: str) -> str:
        if "\x00" in text:
            raise self.refused("text", "This holds a character that can't be kept.")
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

    def tidy(self, text: str) -> str:
        return text.replace("\r\n", "\n").strip()

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
        return {"maxlength": 254}


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
        return self.typed(end).replace("T", " ")

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
        if not _INTEGER.fullmatch(text):
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

    @property
    def control(self) -> str:  # type: ignore[override]
        return "box" if self.required else "radio"

    def read(self, text: str) -> bool | None:
        if text in ("yes", "no"):
            return text == "yes"
        if text == "":
            return False if self.required else None
        raise self.refused("range", "Answer yes or no.")

    def typed(self, value: Any) -> str:
        return "" if value is None else "yes" if value else "no"

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
class _Chosen(Field):
    def ask(self) -> str:
        return "Choose one."


@dataclass(frozen=True, kw_only=True)
class Choice(_Chosen):
    """One of a closed list: radio buttons while they are few."""

    labels: Mapping[str, str] = field(default_factory=dict)

    @property
    def control(self) -> str:  # type: ignore[override]
        return "radio" if len(self.labels) <= _RADIO_MOST else "select"

    def parse(self, text: str) -> str:
        if text not in self.labels:
            raise self.refused("range", "Choose one of the list.")
        return text

    def choices(self, typed: str) -> list[tuple[str, str]]:
        none = [] if self.required and self.control == "radio" else [("", "None")]
        if self.required and self.control == "select":
            none = [("", "Choose …")]
        return [*none, *self.labels.items()]


@dataclass(frozen=True, kw_only=True)
class Reference(_Chosen):
    """A row of another model, chosen by its name."""

    target: Any
    control: ClassVar[str] = "select"

    @property
    def column(self) -> str:
        return f"{self.name}_id"

    def parse(self, text: str) -> int:
        number = int(text) if _INTEGER.fullmatch(text) else 0
        known = select(self.target.id).where(self.target.id == number)
        if not 0 < number < 2**63 or session().scalar(known) is None:
            raise self.refused("range", "Choose one of the list: this one is gone.")
        return number

    def choices(self, typed: str) -> list[tuple[str, str]]:
        none = "Choose …" if self.required else "None"
        rows = session().scalars(self.target.in_order())
        return [("", none), *((str(row.id), str(row)) for row in rows)]
