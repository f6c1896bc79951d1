"""One of a closed list, each with a label."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Literal, Type
from ..problems import did_you_mean
from ..rules.brought import use
from .base import Array, Case, Control, Declared, Kind, Stored, Stream
from .literals import quote


@dataclass(frozen=True, eq=False)
class Choice(Kind):
    word: ClassVar[str] = "one"
    annotation: ClassVar[str] = "str"
    filtered: ClassVar[str] = "Choice"
    controls: ClassVar[Mapping[str, str]] = {"select": "", "radio": ""}
    samples: ClassVar[frozenset[str]] = frozenset(("from", "weights", "uniform"))
    written: ClassVar[str] = "word"
    choices: tuple[tuple[str, str], ...] = ()
    """What is stored for each, and its label."""
    known: tuple[str, ...] = ()
    """What each is called in declarations, where that is not what is stored."""
    was: tuple[tuple[str, str], ...] = ()
    """What stood for a choice before, and what does now."""

    @classmethod
    def read(cls, node: Type, report: Report) -> Choice | None:
        found: dict[str, str] = {}
        was: dict[str, str] = {}
        known: list[str] = []
        for choice in node.choices:
            name = choice.stored_as.text if choice.stored_as else choice.name.text
            if name in found or choice.name.text in known:
                report.add(
                    "said-twice",
                    f"the choice {choice.name.text!r} is listed twice",
                    choice.name.span,
                    "take one away",
                )
            else:
                known.append(choice.name.text)
            label = choice.name.text.replace("_", " ").capitalize()
            found[name] = choice.label.text if choice.label else label
            if choice.was is not None and choice.was.text in was:
                report.add(
                    "said-twice",
                    f"{choice.was.text!r} can't become two choices",
                    choice.was.span,
                    "take one 'was' away",
                )
            elif choice.was is not None and choice.was.text != name:
                was[choice.was.text] = name
        return cls(tuple(found.items()), tuple(known), tuple(was.items()))

    def rows_get(self, name: str) -> str:
        pairs = ", ".join(f"{quote(old)}, {quote(new)}" for old, new in self.was)
        return f"exchanged({name}, {pairs})" if pairs else ""

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(name for name, _ in self.choices)

    @property
    def words(self) -> tuple[str, ...]:
        return self.known or self.names

    @property
    def _width(self) -> int:
        return max(len(name) for name in self.names)

    def stored(self) -> Stored:
        return Stored(f"text {self._width}", among=self.names)

    def default(self, given: Bound, report: Report) -> str | None:
        name = (
            given.text
            if isinstance(given, Literal) and given.kind in ("word", "boolean")
            else given.span.text
        )
        if name in self.words:
            return self.names[self.words.index(name)]
        report.add(
            "wrong-value",
            f"{name} is none of the choices",
            given.span,
            did_you_mean(name, self.words),
        )
        return None

    def source(self, value: object) -> str:
        return quote(str(value))

    def control(self, field: Declared) -> Control:
        return Control("Choice", {"labels": f"{use.row(field.model)}.{field.labels_name}"})

    def labels(self) -> Mapping[str, str]:
        return dict(self.choices)

    def size(self) -> int | None:
        return len(self.choices)

    def draw(self, field: Declared, stream: Stream) -> Array:
        return stream.pick(self.names, unique=field.unique)

    def cases(self, field: Declared) -> list[Case]:
        inside = [Case(quote(name), True, f"the choice {name}") for name in self.names]
        return [*inside, Case('"none_of_these"', False, "no choice")]

    def describe(self) -> str:
        return "one of " + " | ".join(self.words)
