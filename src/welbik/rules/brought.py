"""Names that generated Python takes from elsewhere, marked where they are written.

What brings them in is told from the marks, so no finished text is searched for names.
"""

from __future__ import annotations

import re

# Private use: no declared text holds one, as `quote` and `doc` escape them.
NAME, ROW, TYPE = "\ue000", "\ue001", "\ue002"
_MARKS = re.compile(f"[{NAME}{ROW}{TYPE}]")
_MARKED = re.compile(rf"([{NAME}{ROW}{TYPE}])(\w+)")


class _Use:
    """`use.dt` is the name `dt`, marked as one that something has to bring in."""

    def __getattr__(self, name: str) -> str:
        return NAME + name

    def row(self, model: str) -> str:
        """The class of a model's rows, marked: models may be called like anything else."""
        return ROW + model

    def type(self, model: str) -> str:
        """As `row`, in an annotation: what brings it in may wait for type checkers."""
        return TYPE + model

    def named(self, name: str) -> str:
        """A name that is told by a text."""
        return NAME + name


use = _Use()


def marked(source: str) -> set[tuple[str, str]]:
    """Each mark in some source, with the name behind it."""
    return {*_MARKED.findall(source)}


def unmarked(source: str) -> str:
    """Source without marks, as it is run or measured."""
    return source if source.isascii() else _MARKS.sub("", source)
