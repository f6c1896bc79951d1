"""What two sides of a merge can't both have."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Clash:
    """Where both sides changed one thing differently."""

    line: int
    """Where it begins in the file as it is, from 1 on; where it is gone there, what is near."""

    base: str
    mine: str
    """Its text in the file as it is; empty where it was taken out there."""

    theirs: str
    """Its text as it would be generated; empty where it is declared no more."""

    around: str = ""
    """What it would be generated within, as far as that is short: it tells what is meant."""
