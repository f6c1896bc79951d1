"""A table as it is turned into another one, in the order in which that is possible."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from .tables import Column, Table

BESIDE = "__new"
"""Behind the name of what is made beside what is there, until it takes its place."""


@dataclass(frozen=True)
class Change:
    """A table before and after; `values` are SQL over a row of it as it is before, by column.

    `fills` are values that do not depend on the row, as literals.
    """

    before: Table
    after: Table
    values: Mapping[str, str] = field(default_factory=dict)
    fills: Mapping[str, str] = field(default_factory=dict)
    called_anew: bool = False
    """Whether the table or columns of it were called otherwise just before."""

    @property
    def come(self) -> list[Column]:
        return [c for c in self.after.columns if self.before.column(c.name) is None]

    @property
    def gone(self) -> list[Column]:
        return [c for c in self.before.columns if self.after.column(c.name) is None]

    @property
    def anew(self) -> list[Column]:
        """The columns whose values are made anew, of others or of their own old ones."""
        return [c for c in self.after.columns if c.name in self.values and c not in self.come]

    @property
    def kept(self) -> list[tuple[Column, Column]]:
        """The columns that stay, as they are and as they are to be."""
        pairs = ((self.before.column(c.name), c) for c in self.after.columns)
        return [(old, new) for old, new in pairs if old is not None and new not in self.anew]


@dataclass
class Phases:
    """Statements that reshape a table, for a migration that reshapes several.

    All tables `grow` before any is filled, and all are filled before any loses what others may
    be filled from; what holds rows together (references, indexes) comes when all is there.
    """

    grow: list[str] = field(default_factory=list)
    fill: list[str] = field(default_factory=list)
    shrink: list[str] = field(default_factory=list)
    finish: list[str] = field(default_factory=list)
