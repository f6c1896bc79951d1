"""A text as a tree of pieces, lossless: what is put together again is the text, byte for byte.

Every kind of file is read into the same few shapes, so that one merge serves all: a `Block`
has statements, a statement has clauses, a clause a `Run` and perhaps a block, a run has words
and groups, a group has items, and an item is a run again.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property

_QUOTED = re.compile(r"(?s)([A-Za-z]{0,2})'([^'\"\\\\]*)'")


@dataclass(frozen=True)
class Word:
    """One token, with what stands before it."""

    text: str
    before: str = ""

    @property
    def source(self) -> str:
        return self.before + self.text

    @property
    def content(self) -> str:
        """What it says, however it is laid out."""
        return _remarks(self.before) + self.likeness

    @cached_property
    def likeness(self) -> str:
        """What another is taken for the same by, in a run: quotes of either kind say the same."""
        found = _QUOTED.fullmatch(self.text)
        return f'{found[1]}"{found[2]}"' if found else self.text


@dataclass(frozen=True)
class Group:
    """What stands between brackets: items, apart by commas or blanks."""

    open: str
    items: tuple[Item, ...]
    close: str
    before: str = ""
    joint: str = ","
    ends: bool = False
    """Whether the last item has a comma too, which keeps the items on lines of their own."""

    after: str = ""
    """What stands behind the last item, comments included."""

    @property
    def source(self) -> str:
        texts = [item.source for item in self.items]
        joined = "".join(
            text + (item.joint if n + 1 < len(texts) or self.ends else "") + item.behind
            for n, (item, text) in enumerate(zip(self.items, texts, strict=True))
        )
        return f"{self.before}{self.open}{joined}{self.after}{self.close}"

    @cached_property
    def content(self) -> str:
        inner = "\x1f".join(item.content for item in self.items)
        return f"{_remarks(self.before)}{self.open}{inner}{_remarks(self.after)}{self.close}"

    @property
    def likeness(self) -> str:
        return self.open


@dataclass(frozen=True)
class Run:
    """Words and groups in a row."""

    atoms: tuple[Word | Group, ...]

    @property
    def source(self) -> str:
        return "".join(atom.source for atom in self.atoms)

    @cached_property
    def content(self) -> str:
        return " ".join(atom.content for atom in self.atoms)

    @cached_property
    def words(self) -> tuple[str, ...]:
        return tuple(_words(self))


@dataclass(frozen=True)
class Item:
    """One of a group's items: `key` tells it apart, where anything does."""

    run: Run
    key: str = ""
    joint: str = ","
    behind: str = ""
    """What stands behind its comma on the same line."""

    subject: str = ""
    """What it is about, whatever it says of it: the name that a call is given first."""

    @property
    def source(self) -> str:
        return self.run.source

    @property
    def content(self) -> str:
        return self.run.content + _remarks(self.behind)

    @property
    def words(self) -> tuple[str, ...]:
        return self.run.words


@dataclass(frozen=True)
class Clause:
    """A line, and the block that it opens, if it opens one."""

    run: Run
    end: str = "\n"
    """What ends the line: a comment, the line feed."""

    block: Block | None = None
    lead: str = ""
    """Blank lines and comments before it."""

    @property
    def source(self) -> str:
        own = f"{self.lead}{self.run.source}{self.end}"
        return own if self.block is None else own + self.block.source

    @cached_property
    def content(self) -> str:
        own = f"{_remarks(self.lead)}{self.run.content}{_remarks(self.end)}"
        return own if self.block is None else f"{own}\n{self.block.content}\x1e"


@dataclass(frozen=True)
class Statement:
    """A statement with what hangs on it: decorators before, clauses such as `else` behind."""

    clauses: tuple[Clause, ...]
    lead: str = ""
    key: str = ""
    """What tells it apart among its siblings: a name that is defined, a module; else empty."""

    kind: str = ""
    decorators: tuple[Statement, ...] = ()
    close: str = ""
    """What ends it after its last block: an end tag, a brace."""

    line: int = field(default=0, compare=False)
    """Where it begins in its file, from 1 on."""

    subject = ""

    @property
    def source(self) -> str:
        return self.lead + self.body

    @cached_property
    def body(self) -> str:
        """Its text without what leads to it."""
        before = "".join(one.source for one in self.decorators)
        return f"{before}{''.join(one.source for one in self.clauses)}{self.close}"

    @cached_property
    def says(self) -> str:
        """What it says, whatever stands above it."""
        before = "\n".join(one.content for one in self.decorators)
        inner = "\n".join(one.content for one in self.clauses)
        return f"{before}\n{inner}{self.close.strip()}"

    @cached_property
    def content(self) -> str:
        return f"{_remarks(self.lead)}{self.says}"

    @cached_property
    def words(self) -> tuple[str, ...]:
        own = [word for one in self.decorators for word in one.words]
        for clause in self.clauses:
            own += clause.run.words
            for inner in clause.block.statements if clause.block else ():
                own += inner.words
        return tuple(own)


@dataclass(frozen=True)
class Block:
    """Statements one after another."""

    statements: tuple[Statement, ...]
    tail: str = ""
    """Blank lines and comments behind the last."""

    @property
    def source(self) -> str:
        return "".join(one.source for one in self.statements) + self.tail

    @cached_property
    def content(self) -> str:
        return "\n".join(one.content for one in self.statements) + _remarks(self.tail)


def _words(run: Run) -> Iterator[str]:
    for atom in run.atoms:
        if isinstance(atom, Word):
            yield atom.likeness
        else:
            for item in atom.items:
                yield from _words(item.run)


def _remarks(between: str) -> str:
    """What is said between tokens: comments, and nothing of how they are laid out."""
    if "#" not in between and "<" not in between and "/" not in between:
        return ""
    return "".join(f"{line.strip()}\n" for line in between.splitlines() if line.strip())
