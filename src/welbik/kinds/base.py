"""What a field type is, for every artefact that is made of it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from decimal import Decimal, InvalidOperation
from typing import Any, ClassVar, NamedTuple, Protocol

from ..language.diagnostics import Report
from ..language.syntax import Bound, Clock, Literal, Type
from ..rules.brought import use
from ..rules.patterns import Pattern
from ..rules.tree import Type as ValueType

_VALUES = {
    **{"text": "text", "integer": "integer", "bigint": "integer", "decimal": "decimal"},
    **{"double": "number", "boolean": "boolean", "date": "date", "time": "time"},
    **{"timestamp": "datetime", "seconds": "duration", "reference": "integer"},
    **{"uuid": "other", "json": "other"},
}


def value_type(column: str) -> ValueType:
    """What expressions get from a column of a neutral type."""
    word, *numbers = column.split()
    return ValueType(_VALUES[word], int(numbers[1]) if word == "decimal" else 0)


Array = Any
"""A NumPy array, one element a row; kinds do not import NumPy."""


class Stored(NamedTuple):
    """A column, neutral to the database.

    `type` is text, integer, bigint, decimal, double, boolean, date, time, timestamp, seconds, uuid
    or json, with its numbers behind it ("text 80", "decimal 5 2"). `range` and `length` are written
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


class Reach(NamedTuple):
    """Between what made-up values lie, both ends included, and the step that they keep.

    All are whole numbers in what columns hold: days for dates, seconds for moments, times and
    durations, the smallest place of decimals. A `number` has `places`: 125 stands for 12.5 with one.
    """

    low: int
    high: int
    step: int = 1
    places: int = 0


class Here(Protocol):
    """Where rows are made up."""

    @property
    def today(self) -> int:
        """Today, in days since 1970-01-01."""

    @property
    def timezone(self) -> str:
        """The site's time zone."""


class Declared(Protocol):
    """What a kind reads of the field that it is the type of."""

    @property
    def model(self) -> str: ...

    @property
    def name(self) -> str: ...

    @property
    def unique(self) -> bool: ...

    @property
    def pattern(self) -> Pattern | None: ...

    @property
    def labels_name(self) -> str: ...


class Stream(Protocol):
    """Made-up values of one field for a slice of rows; see `welbik.data.streams`."""

    @property
    def here(self) -> Here:
        """Where rows are made up."""

    def integers(self, low: int, high: int, *, unique: bool) -> Array:
        """Whole numbers, both ends included; all different where `unique`."""

    def pick(self, values: Sequence[Any], *, unique: bool) -> Array:
        """Elements of `values`."""

    def texts(self, shortest: int, longest: int | None) -> Array:
        """Texts within a length that suit the field's name and match its pattern."""

    def emails(self) -> Array:
        """Addresses in reserved domains, made from the row's own name where it has one."""

    def addresses(self) -> Array:
        """Web addresses in reserved domains."""

    def phones(self) -> Array:
        """Telephone numbers that nobody has."""

    def slugs(self, source: str, longest: int) -> Array:
        """Each row's own value of the field `source` as a word of an address, all different."""

    def identifiers(self) -> Array:
        """UUIDs, all different."""

    def uploads(self) -> Array:
        """What a row holds of small files of the field's type and size."""

    def lists(self, most: int) -> Array:
        """Lists of up to `most` values of the field's part, or of short texts."""


_OF_JSON = frozenset((type(None), str, int, float, bool))


class Kind:
    """A field type with its arguments. Immutable; made by `read`."""

    word: ClassVar[str]
    """The word that names the type in declarations."""

    annotation: ClassVar[str]
    """The type of a value in the generated code."""

    numeric: ClassVar[bool] = False
    """Whether lists align it to the right."""

    amount: ClassVar[bool] = False
    """Whether what is worked out in it is an amount, grouped from its first thousand."""

    textual: ClassVar[bool] = False
    """Whether `matches` applies."""

    often_empty: ClassVar[float] = 0.15
    """The share of made-up rows without a value, where none is required."""

    internal: ClassVar[bool] = False
    """Whether it is on no form, unless said."""

    self_made: ClassVar[bool] = False
    """Whether a row gets a value where none is typed: its column is never empty."""

    always_unique: ClassVar[bool] = False
    """Whether no two rows have the same, whether `unique` is said or not."""

    upload: ClassVar[bool] = False
    """Whether it is a file: the row holds its name and digest, the site's folder its bytes."""

    as_json: ClassVar[bool] = False
    """Whether it is kept as JSON: it has no order, and so no index and no filter."""

    blank_is_empty: ClassVar[bool] = True
    """Whether a control with nothing in it stands for no value."""

    filtered: ClassVar[str] = "Filter"
    """The class in the application's kit that lists are narrowed with; empty where by none."""

    shown: ClassVar[str] = ""
    """What a row's page shows it as, beside plain text: link, upload or image."""

    controls: ClassVar[Mapping[str, str]] = {}
    """What `as` may say, and the class in the kit that makes; empty where the control is told."""

    samples: ClassVar[frozenset[str]] = frozenset(("from", "uniform"))
    """The ways to make up values that `sample` may name."""

    written: ClassVar[str] = "string"
    """The kind of literal that a cell of fixed rows holds."""

    grain: ClassVar[int] = 1
    """The step that made-up values keep where they are spread, in what columns hold."""

    names_rows: ClassVar[bool] = False
    """Whether it tells rows apart where they have no name: a day or a moment."""

    schema_format: ClassVar[str] = ""
    """Its `format` in JSON Schema, where there is one."""

    tells_people: ClassVar[bool] = False
    """Whether it is people that have one: a row with it is named as people are."""

    @property
    def addressable(self) -> bool:
        """Whether an address, or a key, can be made of it."""
        return self.annotation in ("str", "int", use.UUID)

    @property
    def plain_text(self) -> bool:
        """Whether a value is a text that stands for itself."""
        return self.annotation == "str" and not self.labels()

    @property
    def long(self) -> bool:
        """Whether it takes more room than a list has: texts of several lines, lists, uploads."""
        return self.as_json

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
        return value_type(self.stored().type)

    def made(self) -> str:
        """What makes a value where none is given, as Python source; empty where a form does."""
        return ""

    def column(self) -> str:
        """The SQLAlchemy type as source, where `stored` does not tell it."""
        return ""

    def default(self, given: Bound, report: Report) -> object | None:
        """The value of `default`, or nothing when it is none of this type (and reported)."""
        raise NotImplementedError

    def held(self, drawn: Sequence[Any]) -> list[Any]:
        """Elements of a drawn column as values of the generated code."""
        return list(drawn)

    def in_json(self, value: Any) -> Any:
        """A value as an entry of a part keeps it in JSON."""
        if value is None or isinstance(value, str | int | float | bool):
            return value
        return value.isoformat() if hasattr(value, "isoformat") else str(value)

    def all_in_json(self, values: list[Any]) -> list[Any]:
        """As `in_json` for each; what JSON has itself is not looked at one by one."""
        if type(self).in_json is Kind.in_json and set(map(type, values)) <= _OF_JSON:
            return values
        return [self.in_json(value) for value in values]

    def read_json(self, value: object) -> Any:
        """What an entry of a part keeps in JSON as a value; None where it is none."""
        word, *numbers = self.stored().type.split()
        if value is None or value == "":
            return None
        try:
            if word == "boolean":
                return value if isinstance(value, bool) else None
            if word in ("integer", "bigint"):
                return value if isinstance(value, int) and not isinstance(value, bool) else None
            if word == "decimal":
                return Decimal(str(value)).quantize(Decimal(1).scaleb(-int(numbers[1])))
            if word == "double":
                return float(str(value))
            clocks = {"date": dt.date, "time": dt.time, "timestamp": dt.datetime}
            if word in clocks:
                return clocks[word].fromisoformat(str(value))  # type: ignore[attr-defined]
        except (ValueError, InvalidOperation):
            return None
        return value if isinstance(value, str) else None

    def rows_get(self, name: str) -> str:
        """What rows that are there get of their old value, as the type says; empty where they keep it."""
        return ""

    def neutral(self, value: object) -> str:
        """A value as the text that migrations keep."""
        return str(value)

    def source(self, value: object) -> str:
        """A value as Python source."""
        return repr(value)

    def control(self, field: Declared) -> Control:
        raise NotImplementedError

    def labels(self) -> Mapping[str, str]:
        """What each choice is called, by what is stored for it; for types with choices."""
        return {}

    @property
    def words(self) -> tuple[str, ...]:
        """The choices as declarations write them, in the order of `labels`."""
        return tuple(self.labels())

    def size(self) -> int | None:
        """How many different values there are, where that is known and may run out."""
        return None

    def reach(self, field: Declared, here: Here) -> Reach | None:
        """Between what made-up values lie, where they have an order; open ends are chosen."""
        return None

    def drawn(self, units: Array, places: int) -> Array:
        """Whole numbers of a `Reach` as a drawn column holds them."""
        return units

    def draw(self, field: Declared, stream: Stream) -> Array:
        """A made-up value for each row of the stream, within all the field's bounds."""
        reach = self.reach(field, stream.here)
        if reach is None:
            raise NotImplementedError
        first, last = -(-reach.low // reach.step), reach.high // reach.step
        units = stream.integers(first, max(first, last), unique=field.unique) * reach.step
        return self.drawn(units, reach.places)

    def cases(self, field: Declared) -> list[Case]:
        """Values just inside and just outside each check."""
        return []

    def tell(self, value: object) -> str:
        """A value of its bounds or its default as people read it."""
        return str(value)

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
