"""Rows that refer to rows of their own model: what is above one, and all below it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import sqlalchemy as sa
from flask import Flask

from . import paging
from .database import live, session

_DEEPEST = 50
_MOST = 1_000
_NESTED_MOST = 2_000
_OPEN = 30


class Branch(NamedTuple):
    """A row and those below it."""

    row: Any
    below: list[Branch]

    @property
    def number(self) -> int:
        """How many stand below it."""
        return len(self.below) + sum(one.number for one in self.below)


class Tree(NamedTuple):
    """What stands below a row: whether that is few enough to be seen at once, and whether there is more."""

    branches: list[Branch]
    few: bool
    more: bool


class Nesting:
    """How the rows of a list stand below each other: by the column that leads to the row above."""

    def __init__(self, column: Any) -> None:
        self.column = column

    def lines(self, kind: Any, tops: Sequence[Any], sort: str) -> list[tuple[Any, int]]:
        """The rows without any above, and all below them, each with its depth."""
        return _nested(kind, tops, sort)


def serve(app: Flask) -> None:
    """Gives the pages what they show of rows above and below."""
    app.jinja_env.globals.update(above=above, below=below)


def above(row: Any, column: Any) -> Sequence[Any]:
    """The ancestors of a row, the farthest first, in one query."""
    model = column.class_
    start = sa.select(model.id, column.label("up"), sa.literal(0).label("far"))
    line = start.where(model.id == row.id).cte("welbik_line", recursive=True)
    step = sa.select(model.id, column, line.c.far + 1)
    line = line.union_all(step.where(model.id == line.c.up, line.c.far < _DEEPEST))
    rows = sa.select(model).join(line, line.c.id == model.id)
    return (
        session().scalars(rows.where(line.c.far > 0).order_by(line.c.far.desc())).all()
    )


def _nested(kind: Any, tops: Sequence[Any], sort: str) -> list[tuple[Any, int]]:
    """Rows of a list and all below them, each behind the one above it, with its depth.

    `tops` are rows without any above; `sort` says the order of those beside each other.
    """
    model, column = kind.model, kind.tree.column
    start = sa.select(model.id, sa.literal(1).label("deep"))
    start = start.where(column.in_([row.id for row in tops]))
    tree = start.cte("welbik_tree", recursive=True)
    step = sa.select(model.id, tree.c.deep + 1)
    tree = tree.union_all(step.where(column == tree.c.id, tree.c.deep < _DEEPEST))
    first = sa.select(tree.c.id).order_by(tree.c.deep, tree.c.id).limit(_NESTED_MOST)
    # Not every database counts rows within a condition: it is done in a table of its own.
    some = sa.select(first.subquery("nested").c.id)
    keys = kind.order(sort)
    order = [*paging.expanded(keys[0]), *keys[1:]]
    rows = kind.joined(kind.rows.where(model.id.in_(some)), sort).add_columns(column)
    found = session().execute(rows.order_by(*(key.ordered for key in order))).all()
    under: dict[Any, list[Any]] = {}
    for values in found:
        under.setdefault(values[-1], []).append(kind.read(values))
    return [line for row in tops for line in _walk(row, under, 0)]


def _walk(
    row: Any, under: dict[Any, list[Any]], deep: int
) -> Iterator[tuple[Any, int]]:
    yield row, deep
    for other in under.pop(row.id, ()):
        yield from _walk(other, under, deep + 1)


def below(row: Any, column: Any) -> Tree:
    """The rows below a row, nested, in one query."""
    model = column.class_
    start = sa.select(model.id, column.label("up"), sa.literal(1).label("deep"))
    tree = start.where(column == row.id).cte("welbik_tree", recursive=True)
    step = sa.select(model.id, column, tree.c.deep + 1)
    tree = tree.union_all(step.where(column == tree.c.id, tree.c.deep < _DEEPEST))
    rows = sa.select(model, tree.c.up).join(tree, tree.c.id == model.id)
    rows = live(rows, model).order_by(tree.c.deep, model.id).limit(_MOST + 1)
    found: Sequence[Any] = session().execute(rows).all()
    branches: dict[Any, list[Branch]] = {row.id: []}
    for other, up in found[:_MOST]:
        branch = Branch(other, [])
        if up in branches:
            branches[up].append(branch)
            branches[other.id] = branch.below
    return Tree(branches[row.id], len(found) <= _OPEN, len(found) > _MOST)
