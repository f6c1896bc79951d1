"""What can go wrong, as data: text is made of it last, by whoever shows it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence


class WelbikError(Exception):
    """Something the user can mend.

    `message` says what is wrong and where, `remedy` what to do about it, and
    `status` is the exit code: 1 the project has problems, 2 wrong usage.
    """

    def __init__(self, message: str, remedy: str = "", *, status: int = 1) -> None:
        super().__init__(message)
        self.message = message
        self.remedy = remedy
        self.status = status
        self.no_database = False
        """Whether there is a server, and only the database on it is missing."""


_SURE, _LIKELY = 0.79, 0.6
"""How alike two words are: so much that one was meant, or that one may have been."""


def nearest(word: str, known: Sequence[str], likeness: float = _SURE) -> str | None:
    """The known word that another was surely meant to be, if there is one."""
    from difflib import get_close_matches

    near = get_close_matches(word, known, n=1, cutoff=likeness)
    if near:
        return near[0]
    lowered = {other.lower(): other for other in known}
    near = get_close_matches(word.lower(), list(lowered), n=1, cutoff=likeness)
    return lowered[near[0]] if near else None


def did_you_mean(word: str, known: Sequence[str]) -> str:
    """A remedy that offers the nearest of the known words, or lists them all."""
    near = nearest(word, known, _LIKELY)
    if near:
        return f"did you mean {near}?"
    if not known:
        return ""
    if len(known) > 12:
        return f"known are {', '.join(known[:12])} and {len(known) - 12} more"
    return f"known are {', '.join(known)}"


def no_model(name: str, known: Iterable[str]) -> WelbikError:
    """A name on the command line that no model has."""
    return WelbikError(f"there is no model {name!r}", did_you_mean(name, list(known)), status=2)
