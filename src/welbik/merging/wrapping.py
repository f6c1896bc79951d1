"""What stands within something that was put round it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from .aligning import alike
from .pieces import Statement

_ALIKE = 0.6


def nearest(was: Statement, wrapper: Statement) -> Statement | None:
    """The statement within another that is the most like one; None where none is like it."""
    found = [
        (alike(was, one), -n, one)
        for n, one in enumerate(_within(wrapper))
        if one.kind == was.kind and (not was.key or not one.key or one.key == was.key)
    ]
    best = max(found, default=None, key=lambda one: one[:2])
    return best[2] if best is not None and best[0] >= _ALIKE else None


def _within(one: Statement) -> Iterator[Statement]:
    for clause in one.clauses:
        for inner in clause.block.statements if clause.block else ():
            yield inner
            yield from _within(inner)


def exchanged(wrapper: Statement, old: Statement, new: Statement | None) -> Statement:
    """A statement with one of those within it exchanged for another, or taken out."""
    clauses = []
    for clause in wrapper.clauses:
        block = clause.block
        if block is not None:
            inner = (new if one is old else exchanged(one, old, new) for one in block.statements)
            block = replace(block, statements=tuple(one for one in inner if one is not None))
        clauses.append(replace(clause, block=block))
    return replace(wrapper, clauses=tuple(clauses))
