"""Rows made ready for a table where they are drawn: who stores them only hands them on.

What a row becomes on its way (see `neutral`) takes longer than handing it over, and other processes do it
as well as the one that holds the connection.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from .forms import outgoing
from .neutral import as_lines
from .tables import Column

Columns = Sequence[Sequence[Any]]


@dataclass(frozen=True)
class Packed:
    """Rows of a table as its database takes them: by their columns, or as text, a line each."""

    packing: Packing
    rows: int
    columns: Columns = ()
    lines: bytes = b""


@dataclass(frozen=True)
class Packing:
    """How rows of a table are made ready; it goes to other processes as it stands.

    `columns` are those that are declared, None for a key of the table's own, `types` the neutral types.
    `exact` says whether the database has decimals, `by_lines` whether it loads text,
    `bits_as_letters` whether bits are those of a text's letters then.
    """

    table: str
    names: tuple[str, ...]
    columns: tuple[Column | None, ...]
    types: tuple[str, ...]
    exact: bool
    by_lines: bool
    bits_as_letters: bool = False

    def pack(self, columns: Columns) -> Packed:
        """Rows, given by their columns in the neutral form, as they are handed over."""
        rows = len(columns[0]) if columns else 0
        held, types = self.held(columns)
        if self.by_lines:
            return Packed(self, rows, lines=as_lines(held, types).encode())
        return Packed(self, rows, held)

    def held(self, columns: Columns) -> tuple[list[Sequence[Any]], list[str]]:
        """Columns as the table holds them, and the types that they then have."""
        found: list[Sequence[Any]] = []
        types: list[str] = []
        for column, type_, values in zip(self.columns, self.types, columns, strict=True):
            if column is not None and (column.native or column.yes_no or column.empty is not None):
                values, type_ = outgoing(
                    column, values, exact=self.exact, letters=self.bits_as_letters
                )
            found.append(values)
            types.append(type_)
        return found, types
