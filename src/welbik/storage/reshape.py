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
    def has_other_key(self) -> bool:
        """Whether rows are told apart otherwise."""
        return self.before.key_as_said != self.after.key_as_said

    @property
    def gone_with_key(self) -> list[str]:
        """The columns that were a key, or a part of it, and go with it or are made anew."""
        told = () if self.before.keyless or self.before.numbered else self.before.told_by
        own = [self.before.number] if self.before.numbered and not self.after.numbered else []
        return [*own, *(c.name for c in (*self.gone, *self.anew) if c.name in told)]

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
    be filled from; a `key` is another one when nothing refers to the old one any more; what
    holds rows together (references, indexes) comes when all is there.
    """

    grow: list[str] = field(default_factory=list)
    fill: list[str] = field(default_factory=list)
    shrink: list[str] = field(default_factory=list)
    key: list[str] = field(default_factory=list)
    finish: list[str] = field(default_factory=list)
