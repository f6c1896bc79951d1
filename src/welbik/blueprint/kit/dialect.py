"""What a database writes or does its own way; this class has the standard's words.

Templates are SQL around operands: `{0}` is the first of them.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterator, Mapping
from typing import Any, ClassVar

import sqlalchemy as sa
from sqlalchemy import Connection, Engine
from sqlalchemy.exc import DBAPIError

MOST_SECONDS = 20
"""How long a statement may take, unless its connection is `unlimited`: then it is cancelled."""


class Dialect:
    """One database; the files beside this one each say what differs there."""

    exact: bool = True
    """Whether it has decimals, which are whole numbers of their smallest place elsewhere."""
    knows_shares: bool = True
    """Whether it tells by itself how many rows have a value, and goes by what leaves few."""
    looks_up_late: bool = True
    """Whether all that an index tells is compared before a row is looked up."""
    states: frozenset[str] = frozenset()
    """The states of what failed by no fault of the request."""

    def engine(self, url: sa.URL) -> Engine:
        raise NotImplementedError

    def take_turn(self, connection: Connection, *, alone: bool) -> None:
        """Begins a change; `alone` lets no other change go on meanwhile."""

    def defer_references(self, connection: Connection) -> None:
        """Lets references be broken until the transaction ends."""

    requirement: str = ""
    """The driver, as `pip install` takes it."""

    def trouble(self, error: DBAPIError) -> str:
        """Why the database can't be opened; empty where a migration would make it."""
        return " ".join(str(error.orig).split())

    def is_passing(self, error: DBAPIError) -> bool:
        """Whether the same may well go through when it is tried again."""
        return getattr(error.orig, "sqlstate", None) in self.states

    def is_cancelled(self, error: DBAPIError) -> bool:
        """Whether a statement took longer than `MOST_SECONDS`."""
        return False

    # What tables are made of

    table_options: ClassVar[Mapping[str, str]] = {}
    numbers: ClassVar[Mapping[str, bool]] = {}
    """What lets a key that is a number never be given again."""
    partial: bool = True
    """Whether an index may leave rows out."""
    no_day: ClassVar[dt.datetime | None] = None
    """What is read where a column holds a day that no calendar has."""
    deferrable: str = ""
    """What lets references rest until a transaction ends."""

    def typed(self, type_: sa.types.TypeEngine[Any]) -> sa.types.TypeEngine[Any]:
        """The type of a column that values of a type are kept in."""
        return type_

    def bit(self, value: bool) -> int | str:
        """Yes or no as a column of a single bit takes it."""
        return int(value)

    def text_type(self, column: sa.Column[Any], text: str) -> str:
        """What the type of a column of texts is called."""
        return text

    def lacks(self, column: sa.Column[Any]) -> Iterator[tuple[str, str]]:
        """Conditions that the type of a column does not hold here, with what they are of."""
        yield from ()

    def table(self, table: sa.Table, text: str) -> str:
        """The statement that makes a table, with what else it needs."""
        return text

    def index(self, index: sa.Index, text: str) -> str:
        """The statement that makes an index, likewise."""
        return text

    # What stands in queries

    def contains(self, column: Any, word: str) -> Any:
        """The condition that a word stands in a column, whatever the case of its letters."""
        raise NotImplementedError

    def itself(self) -> str:
        return "{0}"

    def length(self) -> str:
        return "char_length({0})"

    def as_number(self, places: int) -> str:
        return "CAST({0} AS double precision)"

    def as_exact(self, have: int, places: int) -> str:
        return "CAST({0} AS numeric)"

    def to_exact(self, places: int) -> str:
        raise NotImplementedError

    def rounded(self, places: int, have: int | None) -> str:
        """A decimal of so many places, or a number, half away from zero."""
        raise NotImplementedError

    def divided(self) -> str:
        return "({0} / NULLIF({1}, 0))"

    def total(self) -> str:
        return "CAST(sum({0}) AS bigint)"

    def days_later(self) -> str:
        raise NotImplementedError

    def moment_later(self) -> str:
        raise NotImplementedError

    def days_between(self) -> str:
        return "({0} - {1})"

    def part(self, word: str) -> str:
        """The year, month or day of a date."""
        return f"CAST(extract({word} FROM {{0}}) AS integer)"

    def local_day(self, zone: str) -> str:
        raise NotImplementedError

    def extreme(self, word: str) -> str:
        """The least or greatest of two; nothing where either is nothing."""
        return f"{word}({{0}}, {{1}})"

    def trimmed(self) -> str:
        return "NULLIF(trim(both ' ' from {0}), '')"

    def folded(self, word: str) -> str:
        """Small or capital letters, A to Z alone."""
        return f"{word}({{0}})"

    def matches(self) -> str:
        raise NotImplementedError

    def form(self, pattern: str) -> str:
        """A pattern for the whole of a text."""
        return pattern

    def hinted(self, word: str) -> str:
        """A condition of which it is known how many rows meet it."""
        return "{0}"

    def unindexed(self) -> str:
        """The same value, by which no index is chosen."""
        return "{0}"


def forms(letter: str) -> list[str]:
    """All forms of a letter that are one letter each."""
    found = {letter, letter.lower(), letter.upper(), letter.casefold(), letter.title()}
    found |= {form for one in found for form in (one.lower(), one.upper())}
    if "σ" in found:
        found.add("ς")
    return sorted(form for form in found if len(form) == 1)


def any_case(word: str) -> str:
    """A regular expression for a word, whatever the case of its letters."""
    return "".join(
        f"[{''.join(some)}]" if len(some) > 1 else re.escape(letter)
        for letter in word
        for some in [forms(letter)]
    )
