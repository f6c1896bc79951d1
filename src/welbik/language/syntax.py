"""The syntax tree: what was written, with the place of every part of it."""

from __future__ import annotations

from dataclasses import dataclass, field

from .source import Span


@dataclass(frozen=True, slots=True)
class Word:
    """A name, or a text between quotes, as it was written."""

    text: str
    span: Span


@dataclass(frozen=True, slots=True)
class Literal:
    """A value: `kind` is number, date, datetime, time, string, boolean, percent or word."""

    kind: str
    text: str
    span: Span


@dataclass(frozen=True, slots=True)
class Clock:
    """`today` or `now`, moved by a signed number of days or other units."""

    word: str
    amount: int
    unit: str
    span: Span


Bound = Literal | Clock


@dataclass(frozen=True, slots=True)
class Range:
    """`low..high`; a single bound without dots has only `high` and is `single`."""

    low: Bound | None
    high: Bound | None
    single: bool
    span: Span


@dataclass(frozen=True, slots=True)
class Choice:
    name: Word
    label: Word | None


@dataclass(frozen=True, slots=True)
class Type:
    """A type word with its arguments; `supported` is false for what is still to come."""

    word: Word
    span: Span
    range: Range | None = None
    choices: tuple[Choice, ...] = ()
    supported: bool = True


@dataclass(frozen=True, slots=True)
class Modifier:
    """A word after a comma with its argument: a text, a value or a sign of removal."""

    word: Word
    span: Span
    text: Word | None = None
    value: Literal | Clock | None = None


@dataclass(frozen=True, slots=True)
class Field:
    name: Word
    type: Type
    modifiers: tuple[Modifier, ...]
    span: Span


@dataclass(frozen=True, slots=True)
class Reference:
    name: Word
    target: Word
    modifiers: tuple[Modifier, ...]
    span: Span


@dataclass(frozen=True, slots=True)
class SortKey:
    path: Word
    descending: bool


@dataclass(frozen=True, slots=True)
class Collection:
    name: Word
    model: Word
    via: Word
    sort: tuple[SortKey, ...]
    modifiers: tuple[Modifier, ...]
    span: Span


@dataclass(frozen=True, slots=True)
class Later:
    """A member that the language has and this version does not: its name still counts."""

    name: Word


Member = Field | Reference | Collection | Later


@dataclass(slots=True)
class Model:
    name: Word
    help: Word | None
    span: Span
    members: list[Member] = field(default_factory=list)
    shown_as: Word | None = None
    columns: list[Word] | None = None
    sort: list[SortKey] | None = None
    called: tuple[Word, Word | None] | None = None


@dataclass(frozen=True, slots=True)
class Count:
    number: int
    model: Word


@dataclass(slots=True)
class Seed:
    span: Span
    counts: list[Count] = field(default_factory=list)


@dataclass(slots=True)
class File:
    models: list[Model] = field(default_factory=list)
    seeds: list[Seed] = field(default_factory=list)
    later: list[Word] = field(default_factory=list)
    """Names of parts and value lists: known, but not supported yet."""
