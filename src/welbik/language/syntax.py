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
    """A value: `kind` is number, date, datetime, time, string, boolean, percent or word."""

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


class Range(NamedTuple):
    """`low..high`; a single bound without dots has only `high` and is `single`."""

    low: Bound | None
    high: Bound | None
    single: bool
    span: Span


class Choice(NamedTuple):
    name: Word
    label: Word | None


class Type(NamedTuple):
    """A type word with its arguments; `supported` is false for what is still to come."""

    word: Word
    span: Span
    range: Range | None = None
    choices: tuple[Choice, ...] = ()
    supported: bool = True


class Modifier(NamedTuple):
    """A word after a comma with its argument: a text, a value or a sign of removal."""

    word: Word
    span: Span
    text: Word | None = None
    value: Literal | Clock | None = None


class Field(NamedTuple):
    name: Word
    type: Type
    modifiers: tuple[Modifier, ...]
    span: Span


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


class Later(NamedTuple):
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


class Count(NamedTuple):
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
