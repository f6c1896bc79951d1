"""What Welbik keeps in a database for its own use, beside the migrations that ran."""

from __future__ import annotations

import json
from abc import ABC, abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, ClassVar, Literal, NamedTuple

from ..rules.sql import quote

MADE = "welbik_made"
"""Which rows are made up, by table."""
FIXED = "welbik_fixed"
"""Which fixed rows were stored, and what was declared of them then."""

_FIXED = {"of": "text 200", "text": "text", "key": "text", "declared": "text"}


class Anew(NamedTuple):
    """A change of what is known of a table's rows.

    What is `called` otherwise is the table, or a `column`; a column `came` with values or `went`, or the
    table is `dropped`.
    """

    table: str
    what: Literal["called", "dropped", "column", "came", "went"]
    old: str = ""
    new: str = ""


class Books(ABC):
    """Tables of our own: made where they are missing, read and written whole."""

    mark: ClassVar[str]

    @abstractmethod
    def run(self, statement: str, values: Sequence[object] = ()) -> list[tuple[Any, ...]]: ...

    @abstractmethod
    def name(self, identifier: str) -> str: ...

    @abstractmethod
    def table_names(self) -> set[str]: ...

    @abstractmethod
    def _make(self, table: str, columns: Mapping[str, str], key: str = "") -> None: ...

    @abstractmethod
    def _add(self, table: str, rows: Sequence[tuple[object, ...]]) -> None: ...

    def keep_book(self, table: str, columns: Mapping[str, str]) -> None:
        """A table of our own, where it is not there yet; outside of transactions."""
        if table not in self.table_names():
            self._make(table, columns)

    def book(self, table: str, columns: Mapping[str, str]) -> list[tuple[Any, ...]]:
        """All rows of a table of our own; none where there is no such table."""
        if table not in self.table_names():
            return []
        return self.run(f"SELECT {', '.join(map(quote, columns))} FROM {quote(table)}")

    def add_to_book(self, table: str, rows: Sequence[tuple[object, ...]]) -> None:
        """Puts rows into a table of our own, beside those that it has."""
        self._add(table, rows)

    def write_book(self, table: str, rows: Sequence[tuple[object, ...]]) -> None:
        """Puts rows into a table of our own, in place of those that it has."""
        self.run(f"DELETE FROM {self.name(table)}")
        self._add(table, rows)

    def tell_anew(self, changes: Sequence[Anew]) -> None:
        """Brings up what is known of rows, one change of their tables after another."""
        for book, said in ((MADE, "said"), (FIXED, "declared")):
            for change in changes if book in self.table_names() else ():
                of = {"of": change.table}
                if change.what == "called":
                    self._set(book, "of", change.new, of)
                elif change.what == "dropped":
                    at = f"{self.name('of')} = {self.mark}"
                    self.run(f"DELETE FROM {self.name(book)} WHERE {at}", (change.table,))
                else:
                    self._bring_up(book, said, change)

    def _bring_up(self, book: str, said: str, change: Anew) -> None:
        met = f"{self.name('of')} = {self.mark}"
        kept = f"SELECT {self.name(said)} FROM {self.name(book)} WHERE {met}"
        for (text,) in self.run(kept, (change.table,)):
            known = json.loads(text)
            anew = [_run(run, change) for run in known] if book == MADE else _fixed(known, change)
            self._set(book, said, json.dumps(anew), {"of": change.table, said: text})

    def _set(self, book: str, column: str, value: str, where: Mapping[str, str]) -> None:
        met = " AND ".join(f"{self.name(name)} = {self.mark}" for name in where)
        asked = f"UPDATE {self.name(book)} SET {self.name(column)} = {self.mark} WHERE {met}"
        self.run(asked, (value, *where.values()))

    def remembered(self) -> dict[tuple[str, str], tuple[object, dict[str, object]]]:
        """The fixed rows that were stored: by table and text their key, and what was declared."""
        if FIXED not in self.table_names():
            return {}
        rows = self.run(f"SELECT {', '.join(map(quote, _FIXED))} FROM {quote(FIXED)}")
        return {(of, text): (json.loads(key), json.loads(said)) for of, text, key, said in rows}

    def make_fixed(self) -> None:
        """The table of fixed rows, where it is not there yet."""
        if FIXED not in self.table_names():
            self._make(FIXED, _FIXED)

    def remember(self, table: str, rows: Mapping[str, tuple[object, Mapping[str, object]]]) -> None:
        """Writes down the fixed rows of a table, in place of what was known of them."""
        self.make_fixed()
        self.run(f"DELETE FROM {self.name(FIXED)} WHERE {self.name('of')} = {self.mark}", [table])
        self._add(
            FIXED,
            [
                (table, text, json.dumps(key), json.dumps(said))
                for text, (key, said) in rows.items()
            ],
        )


def _listed(names: Iterable[str], change: Anew) -> list[str]:
    """The columns that are known of, after a change of them."""
    left = [change.new if name == change.old else name for name in names]
    return [name for name in [*left, *([change.new] if change.what == "came" else [])] if name]


def _run(run: dict[str, Any], change: Anew) -> dict[str, Any]:
    """Made-up rows with a column changed; what they are told by was made of those that there were."""
    lists = {"columns"} if change.what != "column" else {"columns", "marked"}
    return {**run, **{name: _listed(run[name], change) for name in lists & run.keys()}}


def _fixed(declared: dict[str, Any], change: Anew) -> dict[str, Any]:
    found = {change.new if name == change.old else name: value for name, value in declared.items()}
    return {name: value for name, value in found.items() if name}
