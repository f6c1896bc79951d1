"""Tables as they are found in a database: all that its own catalogue tells of them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field


@dataclass
class FoundColumn:
    """A column; `default` is an expression in the database's words.

    `counted` says that the database numbers it, `made` that it works its values out, and `renewed`
    that it sets them at every change. `choices` are those of an enumeration.
    """

    name: str
    native: str
    required: bool = False
    default: str | None = None
    comment: str = ""
    counted: bool = False
    made: bool = False
    renewed: bool = False
    choices: tuple[str, ...] = ()
    plain: bool = True
    """Whether the database has its type by itself, and nobody defined it there."""


@dataclass
class FoundReference:
    """Columns that refer to others; `removal` is CASCADE, SET NULL, SET DEFAULT, or NO ACTION."""

    columns: tuple[str, ...]
    table: str
    targets: tuple[str, ...]
    removal: str = "NO ACTION"


@dataclass
class FoundIndex:
    """An index; `special` says what is not plain about it: that it is partial, or of what."""

    name: str
    columns: tuple[str, ...]
    unique: bool = False
    special: str = ""


@dataclass
class FoundTable:
    """A table or a view. `rows` is about how many there are, -1 where nobody knows."""

    name: str
    view: bool = False
    comment: str = ""
    columns: list[FoundColumn] = field(default_factory=list)
    key: tuple[str, ...] = ()
    references: list[FoundReference] = field(default_factory=list)
    indexes: list[FoundIndex] = field(default_factory=list)
    checks: list[tuple[str, str]] = field(default_factory=list)
    rows: int = -1
    natural: bool = False
    """Whether Welbik itself made it."""
    history: bool = False
    """Whether a table beside it keeps its changes."""

    def column(self, name: str) -> FoundColumn | None:
        return next((column for column in self.columns if column.name == name), None)

    def is_unique(self, columns: Sequence[str]) -> bool:
        """Whether no two rows have the same in some columns together."""
        told = set(columns)
        return told == set(self.key) or any(
            i.unique and not i.special and set(i.columns) == told for i in self.indexes
        )


@dataclass
class Catalog:
    """All tables by name, in the order of their names, and what could not be read of them."""

    tables: dict[str, FoundTable] = field(default_factory=dict)
    troubles: list[tuple[str, str]] = field(default_factory=list)


def by_table(tables: Iterable[FoundTable]) -> dict[str, FoundTable]:
    return {table.name: table for table in sorted(tables, key=lambda table: table.name)}
