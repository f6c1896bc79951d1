"""What Welbik keeps in a database for its own use, beside the migrations that ran."""

from __future__ import annotations

import json
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from typing import Any, ClassVar

from ..rules.sql import quote

MADE = "welbik_made"
"""Which rows are made up, by table."""
FIXED = "welbik_fixed"
"""Which fixed rows were stored, and what was declared of them then."""

_FIXED = {"of": "text 200", "text": "text", "key": "text", "declared": "text"}


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

    def forget_rows(self, of: str) -> None:
        """Forgets what was known of single rows of a table: they are told apart otherwise now."""
        for book in {MADE, FIXED} & self.table_names():
            self.run(f"DELETE FROM {self.name(book)} WHERE {self.name('of')} = {self.mark}", [of])

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
