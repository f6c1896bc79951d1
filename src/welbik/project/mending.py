"""Mending declarations where the mend is mechanical."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ..language.diagnostics import Edit, Problem
from .declarations import read_declarations
from .declared import SUFFIX
from .writing import write_all

_ROUNDS = 10
"""A mend may bring to light another problem: so many times it is looked again."""


def mend(root: Path) -> list[Problem]:
    """Applies every exact replacement, all files or none; returns the problems it mended.

    A replacement that brings a problem to light that nothing mends is left out.
    """
    mended: list[Problem] = []
    texts: dict[str, str] = {}
    for _ in range(_ROUNDS):
        found = read_declarations(root, texts).problems
        chosen = _that_help(root, texts, found)
        if not chosen:
            break
        mended += chosen
        texts |= apply_edits(chosen)
    if texts:
        write_all(root, texts)
    return mended


def _that_help(root: Path, texts: dict[str, str], found: Sequence[Problem]) -> list[Problem]:
    """The problems whose replacements leave no more that nothing mends: all at once, or alone."""
    before = _unmendable(found)

    def helps(some: Sequence[Problem]) -> bool:
        return _unmendable(read_declarations(root, texts | apply_edits(some)).problems) <= before

    chosen = _apart(found)
    if not chosen or helps(chosen):
        return chosen
    return [one for one in chosen if helps([one])]


def _unmendable(found: Sequence[Problem]) -> int:
    return sum(not problem.edits for problem in found)


def _apart(problems: Sequence[Problem]) -> list[Problem]:
    """The problems that can be mended, without those whose edits lie in another's."""
    taken: list[Edit] = []
    chosen = []
    for problem in problems:
        declared = all(e.span.source.name.endswith(SUFFIX) for e in problem.edits)
        if not problem.edits or not declared:
            continue
        if not any(_touch(a, b) for a in problem.edits for b in taken):
            chosen.append(problem)
            taken += problem.edits
    return chosen


def _touch(one: Edit, other: Edit) -> bool:
    if one.span.source.name != other.span.source.name:
        return False
    return one.span.start <= other.span.end and other.span.start <= one.span.end


def apply_edits(problems: Sequence[Problem]) -> dict[str, str]:
    """The files' texts once all edits are made, last ones first."""
    edits = [edit for problem in problems for edit in problem.edits]
    found: dict[str, str] = {}
    for edit in sorted(edits, key=lambda e: e.span.start, reverse=True):
        source = edit.span.source
        text = found.get(source.name, source.text)
        found[source.name] = text[: edit.span.start] + edit.text + text[edit.span.end :]
    return found
