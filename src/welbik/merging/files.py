"""One file's three versions, whatever kind of file it is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from difflib import SequenceMatcher
from pathlib import PurePosixPath

from . import imports, lines, python, template
from .clash import Clash
from .pieces import Block
from .threeway import CLOSING, MIDDLE, OPENING, Merge

_READERS: dict[str, Callable[[str], Block]] = {
    ".py": python.block_of,
    ".html": template.block_of,
}


@dataclass(frozen=True)
class Merged:
    """What became of a file."""

    text: str
    clashes: tuple[Clash, ...] = ()


def merged(name: str, base: str, mine: str, theirs: str, settle: str = "mark") -> Merged:
    """The file with what was changed by hand and what is declared otherwise.

    Where both clash the text has the version that `settle` says: "mine", "theirs", or both
    between marks. Line ends and a byte order mark stay as they are in `mine`.
    """
    if mine in (base, theirs) or base == theirs:
        return Merged(theirs if mine == base else mine)
    ends = "\r\n" if "\r\n" in mine else "\n"
    head = "\ufeff" if mine.startswith("\ufeff") else ""
    was, own, new = (_plain(text) for text in (base, mine, theirs))
    found = _tree(name, was, own, new, settle)
    return replace(found, text=head + found.text.replace("\n", ends))


def marked(mine: str, theirs: str) -> str:
    """Both versions of a file of which nobody knows what it was: marks round every difference."""
    old, new = mine.splitlines(), theirs.splitlines()
    found: list[str] = []
    for tag, here, here_end, there, there_end in SequenceMatcher(
        None, old, new, autojunk=False
    ).get_opcodes():
        if tag == "equal":
            found += old[here:here_end]
        else:
            found += [OPENING, *old[here:here_end], MIDDLE, *new[there:there_end], CLOSING]
    return "\n".join(found) + "\n"


def marks_in(text: str) -> int:
    """The line at which marks of a clash are still in a file; 0 where there are none."""
    for number, line in enumerate(text.splitlines(), 1):
        if line in (OPENING, CLOSING):
            return number
    return 0


def _plain(text: str) -> str:
    text = text.removeprefix("\ufeff").replace("\r\n", "\n")
    return text if text.endswith("\n") or not text else text + "\n"


def pieces_of(name: str, text: str) -> Block:
    """A file's text as pieces, by the kind of file; by lines where it can't be read as that."""
    try:
        return _READERS.get(PurePosixPath(name).suffix, lines.block_of)(text)
    except python.Unreadable:
        return lines.block_of(text)


def _tree(name: str, base: str, mine: str, theirs: str, settle: str) -> Merged:
    suffix = PurePosixPath(name).suffix
    read = _READERS.get(suffix, lines.block_of)
    try:
        blocks = [read(text) for text in (base, mine, theirs)]
    except python.Unreadable:
        # It is brought together line by line as long as nobody can read it.
        read, blocks = lines.block_of, [lines.block_of(text) for text in (base, mine, theirs)]
    merge = Merge(settle)
    text = _on_lines(merge.block(*blocks).source)
    if suffix == ".py" and read is python.block_of and not (merge.clashes and settle == "mark"):
        try:
            text = imports.settled(base, mine, theirs, text)
        except SyntaxError as error:
            return Merged(mine, (Clash(error.lineno or 1, base, mine, theirs),))
    return Merged(text, tuple(merge.clashes))


def _on_lines(text: str) -> str:
    """Marks stand at the beginning of lines, also where what clashed began within one."""
    return text.replace(OPENING, f"\n{OPENING}").replace(f"\n\n{OPENING}", f"\n{OPENING}")
