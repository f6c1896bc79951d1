"""What a field type is, for every artefact that is made of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple, Protocol

from ..language.diagnostics import Report
from ..language.syntax import Bound, Clock, Literal, Type
from ..rules.tree import Type as ValueType

if TYPE_CHECKING:
    from ..schema.model import Field

_VALUES = {
    **{"text": "text", "integer": "integer", "bigint": "integer", "decimal": "decimal"},
    **{"double": "number", "boolean": "boolean", "date": "date", "time": "time"},
    **{"timestamp": "datetime", "uuid": "other", "json": "other"},
}

Array = Any
"""A NumPy array, one element a row; kinds do not import NumPy."""


class Stored(NamedTuple):
    """A column, neutral to the database.

    `type` is text, integer, bigint, decimal, double, boolean, date, time, timestamp, uuid or
    json, with its numbers behind it ("text 80", "decimal 5 2"). `range` and `length` are written
    `low..high`, either end may be missing; `among` lists the only values allowed.
    """

    type: str
    range: str = ""
    length: str = ""
    among: tuple[str, ...] = ()


class Control(NamedTuple):
    """A form field's class in the application's kit, and its arguments as Python source."""

    name: str
    arguments: Mapping[str, str]


class Case(NamedTuple):
    """A value at the edge of a check: what is typed, as Python source, and whether it is accepted."""

    typed: str
    accepted: bool
    why: str


class Stream(Protocol):
    """Made-up values for a slice of rows; see `welbik.data.streams`."""

    @property
    def today(self) -> int:
        """Today, in days since 1970-01-01."""

    def integers(self, low: int, high: int, *, unique: bool) -> Array:
        """Whole numbers, both ends included; all different where `unique`."""

    def fractions(self) -> Array:
        """Numbers from 0 up to and without 1."""

    def pick(self, values: Sequence[Any], *, unique: bool) -> Array:
        """Elements of `values`."""

    def texts(self, field: Field, shortest: int, longest: int | None) -> Array:
        """Texts within a length that suit the field's name and match its pattern."""

    def emails(self, field: Field, longest: int) -> Array:
        """Addresses in reserved domains, made from the row's own name where it has one."""

    def addresses(self, field: Field) -> Array:
        """Web addresses in reserved domains."""

    def phones(self, field: Field) -> Array:
        """Telephone numbers that nobody has."""

    def slugs(self, field: Field, source: str, longest: int) -> Array:
        """Each row's own value of the field `source` as a word of an address, all different."""

    def identifiers(self) -> Array:
        """UUIDs, all different."""

    def uploads(self, field: Field) -> Array:
        """What a row holds of small files of the field's type and size."""

    def lists(self, field: Field, most: int) -> Array:
        """Lists of up to `most` values of the field's part, or of short texts."""


class Kind:
    """A field type with its arguments. Immutable; made by `read`."""

    word: ClassVar[str]
    """The word that names the type in declarations."""

    annotation: ClassVar[str]
    """The type of a value in the generated code."""

    numeric: ClassVar[bool] = False
    """Whether lists align it to the right."""

    textual: ClassVar[bool] = False
    """Whether `matches` applies."""

    often_empty: ClassVar[float] = 0.15
    """The share of made-up rows without a value, where none is required."""

    internal: ClassVar[bool] = False
    """Whether it is on no form, unless said."""

    @property
    def part(self) -> str:
        """The part whose values it holds, for lists of one."""
        return ""

    @property
    def made_from(self) -> str:
        """The field of the same model that an empty value is made from, for slugs."""
        return ""

    @classmethod
    def read(cls, node: Type, report: Report) -> Kind | None:
        """The type as declared, or nothing when its arguments are wrong (and reported)."""
        raise NotImplementedError

    def stored(self) -> Stored:
        raise NotImplementedError

    def value_type(self) -> ValueType:
        """What rules and formulas get from it."""
        word, *numbers = self.stored().type.split()
        return ValueType(_VALUES[word], int(numbers[1]) if word == "decimal" else 0)

    def made(self) -> str:
        """What makes a value where none is given, as Python source; empty where nothing does."""
        return ""

    def column(self) -> str:
        """The SQLAlchemy type as source, empty where the annotation is enough."""
        return ""

    def default(self, given: Bound, report: Report) -> object | None:
        """The value of `default`, or nothing when it is none of this type (and reported)."""
        raise NotImplementedError

    def neutral(self, value: object) -> str:
        """A value as the text that migrations keep."""
        return str(value)

    def source(self, value: object) -> str:
        """A value as Python source."""
        return repr(value)

    def control(self, field: Field) -> Control:
        raise NotImplementedError

    def labels(self) -> Mapping[str, str]:
        """What each choice is called, for types with choices."""
        return {}

    def size(self) -> int | None:
        """How many different values there are, where that is known and may run out."""
        return None

    def draw(self, field: Field, stream: Stream) -> Array:
        """A made-up value for each row of the stream, within all the field's bounds."""
        raise NotImplementedError

    def cases(self, field: Field) -> list[Case]:
        """Values just inside and just outside each check."""
        return []

    def describe(self) -> str:
        """The type as it would be declared."""
        return self.word


def wants(given: Bound, kinds: Sequence[str], what: str, report: Report) -> Literal | None:
    """`given` when it is a literal of one of `kinds`; else the mismatch is reported."""
    if isinstance(given, Literal) and given.kind in kinds:
        return given
    shown = given.word if isinstance(given, Clock) else given.span.text
    report.add("wrong-value", f"{shown} is no {what}", given.span, _example(what))
    return None


def _example(what: str) -> str:
    examples = {
        "whole number": "write a number such as 12",
        "number": "write a number such as 0.5",
        "text": 'put text between double quotes: "…"',
        "date": "write a date as 2026-04-01, or today",
        "datetime": "write it as 2026-04-01T14:30, or now",
        "time": "write a time as 14:30",
        "yes or no": "write yes or no",
    }
    return examples.get(what, "")


def no_range(node: Type, report: Report) -> None:
    """Reports a range on a type that takes none."""
    if node.range is not None:
        message = f"{node.word.text!r} takes no range"
        report.add("unexpected-range", message, node.range.span, "take the range away")
