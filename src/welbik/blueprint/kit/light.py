"""Rows to be shown: just the columns of a list or a page, without what the ORM keeps of a row.

A list changes nothing, so it needs no identity map and no change tracking. Its rows still
have the methods, labels and addresses of their model's class, and related rows as
attributes, so that a template can't tell the difference.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from operator import attrgetter
from typing import Any, ClassVar

from sqlalchemy import Select, inspect

from .database import Base, fetch

_OWN = {"__str__", "__format__"}
_EVERY = ("url_part", "OWNER", "HISTORY")


class _Kind(type):
    """A class of light rows has what its model has, for queries too."""

    def __getattr__(cls, name: str) -> Any:
        return getattr(cls._model, name)


class Light(metaclass=_Kind):
    """The base of all light rows: what is not loaded is no attribute."""

    _model: ClassVar[Any] = Base

    def __init__(self, values: dict[str, Any]) -> None:
        self.__dict__ = values

    def __getattr__(self, name: str) -> Any:
        raise AttributeError(
            f"the list of {type(self).__name__} does not load {name!r}: "
            "add it to the columns that its controller selects"
        )


class Whole(Light):
    """A row of a page that shows all of it; what it has not loaded is looked up when asked for."""

    def __init__(self, values: dict[str, Any]) -> None:
        object.__setattr__(self, "__dict__", values)

    def __getattr__(self, name: str) -> Any:
        model = type(self)._model
        if name.startswith("_") or not hasattr(model, name):
            raise AttributeError(f"{model.__name__} has no attribute {name!r}")
        if "_stored" not in self.__dict__:
            self.__dict__["_stored"] = fetch(model, self.id)
        return getattr(self.__dict__["_stored"], name)

    def __setattr__(self, name: str, value: Any) -> None:
        raise TypeError(
            f"this {type(self).__name__} is only shown: rows.find gives one to change"
        )


def class_of(model: Any, kind: type[Light] = Light) -> type[Light]:
    """A class of light rows with everything of a model but its columns."""
    known = inspect(model).all_orm_descriptors.keys()
    found: dict[str, Any] = {name: vars(Base)[name] for name in _EVERY}
    found["_model"] = model
    for owner in reversed(model.__mro__[:-1]):
        if owner is Base or not issubclass(owner, Base):
            continue
        for name, value in vars(owner).items():
            if name in _OWN or not (name.startswith("__") or name in known):
                found[name] = value
    for synonym in inspect(model).synonyms:
        found[synonym.key] = property(attrgetter(synonym.name))
    return type(model.__name__, (kind,), found)


def names_itself(row: Any) -> bool:
    """Whether all is loaded that a row's name and address take."""
    try:
        return bool(f"{row} {row.url_part}")
    except AttributeError:
        return False


def reader(
    rows: Select[Any], related: Mapping[str, Any], kind: type[Light] = Light
) -> Callable[[Sequence[Any]], Any]:
    """What makes a light row of a result's row.

    `rows` selects the model's own columns first, then those of each entity of `related`,
    which are named by their path ("apiary.keeper"); the first column of each is its key.
    """
    places: dict[Any, list[int]] = {}
    names: dict[Any, list[str]] = {}
    for at, column in enumerate(rows.column_descriptions):
        places.setdefault(column["entity"], []).append(at)
        names.setdefault(column["entity"], []).append(column["expr"].key)
    root, *others = places
    first = class_of(inspect(root).mapper.class_, kind)
    own, end = tuple(names[root]), len(places[root])
    paths = {entity: path for path, entity in related.items()}
    parts = [
        (
            class_of(inspect(entity).mapper.class_, kind),
            tuple(names[entity]),
            slice(places[entity][0], places[entity][-1] + 1),
            paths[entity].rpartition("."),
        )
        for entity in others
    ]

    def read(values: Sequence[Any]) -> Light:
        row = first(dict(zip(own, values[:end], strict=False)))
        made = {"": row}
        for other, columns, span, (owner, _, name) in parts:
            some = values[span]
            there = (
                other(dict(zip(columns, some, strict=True)))
                if some[0] is not None
                else None
            )
            if there is not None:
                made[f"{owner}.{name}" if owner else name] = there
            if owner in made:
                made[owner].__dict__[name] = there
        return row

    return read
