"""Declarations in the making: models with their members, and their text."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass
class Line:
    """A member of a model: its name, its type or arrow, and modifiers in the order of writing.

    `column` is the column that it stands for, empty where it has none. Comments stand above it.
    """

    name: str
    type: str
    modifiers: list[str] = field(default_factory=list)
    column: str = ""
    comments: list[str] = field(default_factory=list)
    target: str = ""

    def text(self) -> str:
        return ", ".join([f"{self.name} {self.type}", *self.modifiers])

    def says(self, word: str) -> bool:
        return any(m == word or m.startswith(f"{word} ") for m in self.modifiers)


@dataclass
class Note:
    """What can't be declared of a table, or of a column of it, and what becomes of it."""

    table: str
    column: str
    what: str
    then: str

    def __str__(self) -> str:
        where = f"{self.table}.{self.column}" if self.column else self.table
        return f"{where}: {self.what}; {self.then}"


@dataclass
class Draft:
    """A model as it will be declared. `clauses` are lines of their own below its members."""

    name: str
    table: str
    help: str = ""
    lines: list[Line] = field(default_factory=list)
    clauses: list[str] = field(default_factory=list)
    comments: list[str] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)
    """What stands as comments below its members: what was left where it is."""
    taken: set[str] = field(default_factory=set)
    reads_only: bool = False
    group: str = ""
    """Its group of the menu, where there are such."""

    def line(self, column: str) -> Line | None:
        return next((line for line in self.lines if line.column == column), None)

    def text(self) -> str:
        out = [f"# {comment}" for comment in self.comments]
        out.append(f"model {self.name} {quoted(self.help)}" if self.help else f"model {self.name}")
        for line in self.lines:
            out += [f"    # {comment}" for comment in line.comments]
            out.append(f"    {line.text()}")
        out += [f"    # {remark}" for remark in self.remarks]
        out += [f"    {clause}" for clause in self.clauses]
        return "\n".join(out) + "\n"


def quoted(text: str) -> str:
    """A text of the language."""
    shown = text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
    return '"' + "".join(c for c in shown if c.isprintable()) + '"'


def whole(text: str, most: int = 200) -> str:
    """A text on one line, cut where it is long."""
    shown = " ".join(text.split())
    return shown if len(shown) <= most else f"{shown[: most - 1]}…"
