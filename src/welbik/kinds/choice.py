"""One of a closed list, each with a label."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Bound, Literal, Type
from ..problems import did_you_mean
from .base import Array, Case, Control, Declared, Kind, Stored, Stream


@dataclass(frozen=True, eq=False)
class Choice(Kind):
    word: ClassVar[str] = "one"
    annotation: ClassVar[str] = "str"
    filtered: ClassVar[str] = "Choice"
    controls: ClassVar[Mapping[str, str]] = {"select": "", "radio": ""}
    samples: ClassVar[frozenset[str]] = frozenset(("from", "weights", "uniform"))
    written: ClassVar[str] = "word"
    choices: tuple[tuple[str, str], ...] = ()

    @classmethod
    def read(cls, node: Type, report: Report) -> Choice | None:
        found: dict[str, str] = {}
        for choice in node.choices:
            name = choice.name.text
            if name in found:
                report.add(
                    "said-twice",
                    f"the choice {name!r} is listed twice",
                    choice.name.span,
                    "take one away",
                )
            found[name] = choice.label.text if choice.label else name.replace("_", " ").capitalize()
        return cls(tuple(found.items()))

    @property
    def names(self) -> tuple[str, ...]:
        return tuple(name for name, _ in self.choices)

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
        if name in self.names:
            return name
        report.add(
            "wrong-value",
            f"{name} is none of the choices",
            given.span,
            did_you_mean(name, self.names),
        )
        return None

    def source(self, value: object) -> str:
        return f'"{value}"'

    def control(self, field: Declared) -> Control:
        return Control("Choice", {"labels": f"{field.model}.{field.labels_name}"})

    def labels(self) -> Mapping[str, str]:
        return dict(self.choices)

    def size(self) -> int | None:
        return len(self.choices)

    def draw(self, field: Declared, stream: Stream) -> Array:
        return stream.pick(self.names, unique=field.unique)

    def cases(self, field: Declared) -> list[Case]:
        inside = [Case(f'"{name}"', True, f"the choice {name}") for name in self.names]
        return [*inside, Case('"none_of_these"', False, "no choice")]

    def describe(self) -> str:
        return "one of " + " | ".join(self.names)
