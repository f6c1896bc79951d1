"""Choices that are called otherwise: one text in the place of another, told and taken back."""

from __future__ import annotations

import re

from ..storage.tables import Column

_EXCHANGED = re.compile(r"exchanged\(([\w.]+), (.*)\)", re.DOTALL)
_TEXT = re.compile(r'"(?:[^"\\]|\\.)*"')


def pairs_in(value: str) -> list[tuple[str, str]]:
    """What becomes what, as the expression has it; nothing where it is another one."""
    found = _EXCHANGED.fullmatch(value)
    texts = _TEXT.findall(found[2]) if found else []
    return list(zip(texts[::2], texts[1::2], strict=True)) if len(texts) % 2 == 0 else []


def in_words(value: str) -> str:
    """What an expression gives rows, for people: `"national" becomes "british"`."""
    pairs = pairs_in(value)
    return ", ".join(f"{old} becomes {new}" for old, new in pairs) if pairs else value


def taken_back(value: str, before: Column) -> tuple[str, bool]:
    """The expression that gives rows what they had, as far as it is known, and whether it is of all.

    `before` is the column as it was. Of two choices that became one the first comes back.
    """
    pairs = pairs_in(value)
    stayed = {f'"{choice}"' for choice in before.among} - {old for old, _ in pairs}
    was: dict[str, str] = {}
    for old, new in pairs:
        if new not in stayed:
            was.setdefault(new, old)
    if not was:
        return "", False
    named = value[: value.index(",")]
    told = ", ".join(f"{new}, {old}" for new, old in was.items())
    return f"{named}, {told})", len(was) == len(pairs)
