"""Resolved, immutable models, fields and relations."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

from ..kinds.base import Kind
from ..language.source import Span
from ..rules.patterns import Pattern
from . import names

_TAKEN_ATTRIBUTES = frozenset(
    {
        *("self", "metadata", "registry", "in_order", "int", "str", "bool", "float", "list"),
        *("dt", "sa", "orm", "columns", "clock", "show", "mapped_column", "relationship"),
    }
)
"""What a table class has of its own, and names that its body uses."""

_TAKEN_FOLDERS = frozenset({"kit", "look", "settings", "models", "fingerprint"})


@dataclass(frozen=True, eq=False)
class Field:
    """A typed value of a row. `says` words the failure of a check by the check's name."""

    model: str
    name: str
    kind: Kind
    span: Span
    required: bool = False
    unique: bool = False
    default: object | None = None
    pattern: Pattern | None = None
    label: str = ""
    hint: str = ""
    says: Mapping[str, str] = field(default_factory=dict)

    @property
    def attribute(self) -> str:
        return names.module(self.name, _TAKEN_ATTRIBUTES)

    @property
    def column(self) -> str:
        return self.name

    @property
    def labels_name(self) -> str:
        """The constant that holds the labels of its choices."""
        return f"{self.name.upper()}_LABELS"


@dataclass(frozen=True, eq=False)
class Reference:
    """Many rows of `model` to one row of `target`; one to one where it is unique.

    `removal` says what happens to the row when its target is removed: refuse, clear, remove.
    """

    model: str
    name: str
    target: str
    span: Span
    required: bool = False
    unique: bool = False
    removal: str = "refuse"
    label: str = ""
    hint: str = ""
    says: Mapping[str, str] = field(default_factory=dict)

    @property
    def attribute(self) -> str:
        return names.module(self.name, _TAKEN_ATTRIBUTES)

    @property
    def column(self) -> str:
        return f"{self.name}_id"


class Sort(NamedTuple):
    name: str
    descending: bool = False

    def __str__(self) -> str:
        return f"-{self.name}" if self.descending else self.name


@dataclass(frozen=True, eq=False)
class Collection:
    """The other side of `child.via`, shown on the parent's page."""

    name: str
    child: str
    via: str
    label: str
    sort: tuple[Sort, ...]
    span: Span

    @property
    def attribute(self) -> str:
        return names.module(self.name, _TAKEN_ATTRIBUTES)


class Part(NamedTuple):
    """A piece of `shown as`: a plain text, or the name of a field between braces."""

    text: str
    is_field: bool


@dataclass(frozen=True, eq=False)
class Model:
    name: str
    help: str
    singular: str
    plural: str
    members: tuple[Field | Reference, ...]
    collections: tuple[Collection, ...]
    shown_as: tuple[Part, ...]
    columns: tuple[str, ...]
    sort: tuple[Sort, ...]
    span: Span

    @cached_property
    def fields(self) -> tuple[Field, ...]:
        return tuple(m for m in self.members if isinstance(m, Field))

    @cached_property
    def references(self) -> tuple[Reference, ...]:
        return tuple(m for m in self.members if isinstance(m, Reference))

    @cached_property
    def by_name(self) -> Mapping[str, Field | Reference]:
        return {member.name: member for member in self.members}

    @property
    def table(self) -> str:
        return names.snake(self.name)

    @property
    def folder(self) -> str:
        """The folder and the variable of the generated code."""
        return names.module(self.table, _TAKEN_FOLDERS)

    @property
    def factory(self) -> str:
        """What makes a row of it in tests."""
        return names.module(self.table, frozenset({"store", "session"}))

    @property
    def url(self) -> str:
        return names.slug(self.plural)

    @property
    def a_row(self) -> str:
        return f"{names.article(self.singular)} {self.singular}"


@dataclass(frozen=True, eq=False)
class Schema:
    """All models by name, in the order of declaration, and how many rows a fill makes."""

    models: Mapping[str, Model]
    seed: Mapping[str, int]

    def __iter__(self) -> Iterator[Model]:
        return iter(self.models.values())

    def referring(self, name: str) -> list[Reference]:
        """The references to a model, from any model."""
        return [r for model in self for r in model.references if r.target == name]

    @cached_property
    def parents_first(self) -> tuple[Model, ...]:
        """Models so that those a row refers to come before it.

        Where optional references go in a circle, only the required ones decide.
        """
        placed: dict[str, Model] = {}
        todo = list(self)
        while todo:
            chosen = (
                _first_free(todo, placed, needed_only=False)
                or _first_free(todo, placed, needed_only=True)
                or todo[0]
            )
            placed[chosen.name] = chosen
            todo.remove(chosen)
        return tuple(placed.values())


def _first_free(
    todo: list[Model], placed: Mapping[str, Model], *, needed_only: bool
) -> Model | None:
    for model in todo:
        wanted = {r.target for r in model.references if r.required or not needed_only} - {
            model.name
        }
        if wanted <= placed.keys():
            return model
    return None
