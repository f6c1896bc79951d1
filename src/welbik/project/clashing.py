"""Where lines of somebody's met what is declared now, told so that it can be settled."""

from __future__ import annotations

import re
from collections.abc import Iterator
from difflib import SequenceMatcher
from pathlib import Path

from ..merging.clash import Clash
from ..problems import WelbikError
from .declared import declared_texts
from .planning import Change, Plan
from .record import Record

_SHOWN = 12
_LINES = 4
_REMEDY = (
    "keep yours with --mine FILE, take the declared with --theirs FILE, or see both with --mark"
)


def told_clashes(root: Path, todo: Plan, record: Record) -> WelbikError:
    """The error that says which lines of which declaration met which lines of whom."""
    changed = list(_changed(root, record))
    lines: list[str] = []
    clashes = [(change, clash) for change in todo.clashes for clash in change.clashes]
    for change, clash in clashes[:_SHOWN]:
        lines += ["", *_told(change, clash, changed)]
    if len(clashes) > _SHOWN:
        lines += ["", f"and {len(clashes) - _SHOWN} more"]
    count = len(todo.clashes)
    said = f"{count} file{'s' * (count != 1)} clash{'es' * (count == 1)} with the declarations"
    return WelbikError("\n".join([f"{said}; nothing was written", *lines, ""]), _REMEDY)


def _told(change: Change, clash: Clash, changed: list[tuple[str, str]]) -> Iterator[str]:
    place = f"{change.name}:{clash.line}"
    if not clash.base:
        yield (
            f"{place}: {clash.mine}"
            if not clash.theirs
            else f"{place}: you and the declarations both put this in"
        )
        if not clash.theirs:
            return
    elif not clash.mine:
        yield f"{place}: you took out what is declared otherwise now"
    elif not clash.theirs:
        yield f"{place}: you changed what is declared no more"
    else:
        yield f"{place}: you changed what is declared otherwise now"
    for says, text in (("was", clash.base), ("yours", clash.mine), ("declared", clash.theirs)):
        yield from _indented(says, text)
    for line, where in _behind(clash, changed):
        yield f"  {'by':<9} {where}  {line}"


def _indented(says: str, text: str) -> Iterator[str]:
    lines = [line for line in text.strip("\n").splitlines() if line.strip()]
    for n, line in enumerate(lines[:_LINES]):
        yield f"  {says if n == 0 else '':<9} {line.strip() if n == 0 else line}"
    if len(lines) > _LINES:
        yield f"  {'':<9} … {len(lines) - _LINES} more lines"


def _behind(clash: Clash, changed: list[tuple[str, str]]) -> list[tuple[str, str]]:
    """The declarations that changed since and are spoken of where it clashes."""
    words = {*re.findall(r"\w+", f"{clash.around} {clash.base} {clash.theirs}")}
    found = []
    for line, where in changed:
        name = re.match(r"\s*(?:model\s+)?(\w+)", line)
        if name and (name[1] in words or name[1].lower() in words):
            found.append((line.strip(), where))
    return found[:3]


def _changed(root: Path, record: Record) -> Iterator[tuple[str, str]]:
    """Every line of the declarations that is not as it was when they were built last."""
    for name, text in declared_texts(root).items():
        before, after = record.declared.get(name, "").splitlines(), text.splitlines()
        if name not in record.declared:
            continue
        for tag, gone, until, start, end in SequenceMatcher(
            None, before, after, False
        ).get_opcodes():
            if tag == "delete":
                for line in before[gone:until]:
                    yield line, f"{name}:{start + 1} (taken out)"
            elif tag != "equal":
                for number in range(start, end):
                    yield after[number], f"{name}:{number + 1}"
