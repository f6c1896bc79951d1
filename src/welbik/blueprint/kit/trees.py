"""Rows that refer to rows of their own model: what is above one, and all below it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

import sqlalchemy as sa

from .database import live, session

_DEEPEST = 50
_MOST = 200


class Branch(NamedTuple):
    """A row and those below it."""

    row: Any
    below: list[Branch]


def above(row: Any, column: Any) -> Sequence[Any]:
    """The ancestors of a row, the farthest first, in one query."""
    model = type(row)
    start = sa.select(model.id, column.label("up"), sa.literal(0).label("far"))
    line = start.where(model.id == row.id).cte("line", recursive=True)
    step = sa.select(model.id, column, line.c.far + 1)
    line = line.union_all(step.where(model.id == line.c.up, line.c.far < _DEEPEST))
    rows = sa.select(model).join(line, line.c.id == model.id)
    return (
        session().scalars(rows.where(line.c.far > 0).order_by(line.c.far.desc())).all()
    )


def below(row: Any, column: Any) -> tuple[list[Branch], bool]:
    """The rows below a row, nested, in one query; and whether some are left out."""
    model = type(row)
    start = sa.select(model.id, column.label("up"), sa.literal(1).label("deep"))
    tree = start.where(column == row.id).cte("tree", recursive=True)
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
    return branches[row.id], len(found) > _MOST
