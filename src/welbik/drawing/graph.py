"""What a diagram shows: boxes with lines of text, and the relations between them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from ..language.diagnostics import width
from ..schema.model import Computed, Field, Model, Reference, Schema

LINE, HEAD, PAD = 18.0, 26.0, 12.0
CHARACTER = 7.3
"""Width of a character of 12 px monospace type, a little on the safe side."""
_MOST = 34


class Box(NamedTuple):
    """A model: its name, and for each member its name and type."""

    name: str
    rows: tuple[tuple[str, str], ...]

    @property
    def gutter(self) -> float:
        """Where the types begin."""
        return PAD + CHARACTER * (2 + max((width(name) for name, _ in self.rows), default=0))

    @property
    def width(self) -> float:
        longest = max((width(kind) for _, kind in self.rows), default=0)
        head = PAD * 2 + 8.0 * width(self.name)
        return max(head, self.gutter + CHARACTER * longest + PAD, 90.0)

    @property
    def height(self) -> float:
        return HEAD + LINE * len(self.rows) + (6.0 if self.rows else 0.0)


class Relation(NamedTuple):
    """From the model that holds the reference to its target, with how many stand at each end."""

    source: str
    target: str
    name: str
    many: str
    one: str


def boxes(schema: Schema, only: Sequence[str] = ()) -> dict[str, Box]:
    """The models to draw, all unless some are named."""
    return {
        model.name: Box(model.name, tuple(_rows(model)))
        for model in schema
        if not only or model.name in only
    }


def _rows(model: Model) -> list[tuple[str, str]]:
    found = []
    for member in model.everything:
        if isinstance(member, Field):
            mark = "" if member.required else "?"
            found.append((member.name, _cut(f"{member.kind.describe()}{mark}")))
        elif isinstance(member, Reference):
            found.append((member.name, f"→ {member.target}{'' if member.required else '?'}"))
        elif isinstance(member, Computed):
            found.append((member.name, f"= {member.kind.word}"))
    return found


def _cut(text: str) -> str:
    return text if len(text) <= _MOST else f"{text[: _MOST - 1]}…"


def relations(schema: Schema, names: Sequence[str]) -> list[Relation]:
    """Every relation between the models that are drawn."""
    found = []
    for model in schema:
        for reference in model.references:
            many = "0..1" if reference.unique else "*"
            one = "1" if reference.required else "0..1"
            found.append(Relation(model.name, reference.target, reference.name, many, one))
        for many_side in model.many:
            if many_side.declares:
                found.append(Relation(model.name, many_side.target, many_side.name, "*", "*"))
    return [r for r in found if r.source in names and r.target in names]
