"""The syntax tree: what was written, with the place of every part of it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from .source import Span


class Word(NamedTuple):
    """A name, or a text between quotes, as it was written."""

    text: str
    span: Span


class Literal(NamedTuple):
    """A value: `kind` is number, date, datetime, time, string, boolean, percent, word, or words
    for an unquoted cell of several."""

    kind: str
    text: str
    span: Span


class Clock(NamedTuple):
    """`today` or `now`, moved by a signed number of days or other units."""

    word: str
    amount: int
    unit: str
    span: Span


Bound = Literal | Clock


class Name(NamedTuple):
    """A field, or a path of names with dots between them."""

    path: tuple[Word, ...]
    span: Span

    @property
    def text(self) -> str:
        return ".".join(word.text for word in self.path)


class Operation(NamedTuple):
    """An operator or a function with what it works on.

    `word` is when, or, and, not, a comparison, ||, + - * /, neg, empty, given, between, in,
    matches, or days (a number of days); else the name of a function.
    """

    word: Word
    operands: tuple[Expression, ...]
    span: Span


class Aggregate(NamedTuple):
    """A function over a collection: `count(inspections where mites > 3)`."""

    function: Word
    path: Name
    where: Expression | None
    span: Span


Expression = Literal | Clock | Name | Operation | Aggregate


class Range(NamedTuple):
    """`low..high`; a single bound without dots has only `high` and is `single`."""

    low: Bound | None
    high: Bound | None
    single: bool
    span: Span


class Choice(NamedTuple):
    """A choice, its label, what stands for it in the database where that is not its name, and what did."""

    name: Word
    label: Word | None
    stored_as: Word | None = None
    was: Word | None = None


class Type(NamedTuple):
    """A type word with its arguments.

    `named` is the value list of `one of`, the part of `list of` or the field of `slug from`;
    `of` the type inside a `list of`; `size` the bytes of `up to`, `suffixes` what may be uploaded.
    """

    word: Word
    span: Span
    range: Range | None = None
    choices: tuple[Choice, ...] = ()
    named: Word | None = None
    of: Type | None = None
    size: int | None = None
    suffixes: tuple[Word, ...] = ()


class Term(NamedTuple):
    """A part of `sample`: `word` with its arguments, `N% empty`, or a range `per` a relation."""

    word: Word
    arguments: tuple[Literal | Range, ...]
    span: Span


class Modifier(NamedTuple):
    """A word after a comma with its argument: a text, a value, a condition or sample terms.

    `word` of a comparison is its operator, and `expression` what it compares with; of `sample` it is
    what stands behind `only when`.
    """

    word: Word
    span: Span
    text: Word | None = None
    value: Literal | Clock | None = None
    expression: Expression | None = None
    terms: tuple[Term, ...] = ()
    of: Word | None = None
    """The type that the database has for it, behind `stored as`."""
    pair: tuple[Word, Word] | None = None
    """What stands for yes and no, or the two columns of a table of pairs."""


class Field(NamedTuple):
    """A field; a computed one has a `formula`."""

    name: Word
    type: Type
    modifiers: tuple[Modifier, ...]
    span: Span
    formula: Expression | None = None


class Reference(NamedTuple):
    name: Word
    target: Word
    modifiers: tuple[Modifier, ...]
    span: Span


class SortKey(NamedTuple):
    path: Word
    descending: bool


class Collection(NamedTuple):
    name: Word
    model: Word
    via: Word
    sort: tuple[SortKey, ...]
    modifiers: tuple[Modifier, ...]
    span: Span


class Many(NamedTuple):
    """Many to many; the side with `via` names the field that declares the relation."""

    name: Word
    target: Word
    via: Word | None
    sort: tuple[SortKey, ...]
    modifiers: tuple[Modifier, ...]
    span: Span


class Unread(NamedTuple):
    """A member that could not be read: its name still counts."""

    name: Word


Member = Field | Reference | Collection | Many | Unread


class Rule(NamedTuple):
    expression: Expression
    say: Word | None
    at: Word | None
    span: Span


class Group(NamedTuple):
    """Names that belong together: a `unique`, an `index`, or a group of the form with its title."""

    names: tuple[Word, ...]
    text: Word | None
    span: Span


@dataclass(slots=True)
class Model:
    """A model, or a part (which has fields and rules alone)."""

    name: Word
    help: Word | None
    span: Span
    members: list[Member] = field(default_factory=list)
    rules: list[Rule] = field(default_factory=list)
    uniques: list[Group] = field(default_factory=list)
    indexes: list[Group] = field(default_factory=list)
    groups: list[Group] = field(default_factory=list)
    shown_as: Word | None = None
    stored_as: Word | None = None
    as_it_is: Word | None = None
    was: Word | None = None
    columns: list[Word] | None = None
    sort: list[SortKey] | None = None
    search: list[Word] | None = None
    filter: list[Word] | None = None
    called: tuple[Word, Word | None] | None = None
    pages: list[Word] | None = None
    menu: Word | None = None
    keep: list[Word] | None = None
    address: Word | None = None
    key: Key | None = None


class Key(NamedTuple):
    """The fields that are the key; or the column of its own number; or none of either."""

    names: tuple[Word, ...]
    span: Span
    stored_as: Word | None = None
    of: Word | None = None
    handed_out: bool = False


class Values(NamedTuple):
    """A list of choices with a name."""

    name: Word
    choices: list[Choice]


class Cell(NamedTuple):
    """A value of a row; None where the cell is empty."""

    value: Literal | None
    span: Span


class Rows(NamedTuple):
    """Fixed rows of a model: a header of names and cells, or a CSV file they are read from."""

    model: Word
    file: Word | None
    header: list[Word]
    lines: list[list[Cell]]


class Count(NamedTuple):
    number: int
    model: Word


@dataclass(slots=True)
class Seed:
    """How many rows to make; `name` is the profile's, None for the usual one."""

    span: Span
    name: Word | None = None
    counts: list[Count] = field(default_factory=list)


@dataclass(slots=True)
class File:
    models: list[Model] = field(default_factory=list)
    parts: list[Model] = field(default_factory=list)
    values: list[Values] = field(default_factory=list)
    rows: list[Rows] = field(default_factory=list)
    seeds: list[Seed] = field(default_factory=list)
