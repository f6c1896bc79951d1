"""What the files of each model are made from: where none of that changed, they are as they were.

A model's files are made from a schema that notes what is looked at: other models by name, and
questions that go over all of them with their answers. What was noted is digested; the next
build digests the same again.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import fields, is_dataclass
from decimal import Decimal
from enum import Enum
from functools import cache
from hashlib import sha256
from types import FunctionType, NoneType
from typing import Any

from ..language.source import Span
from ..schema.model import Model, Reference, Schema
from ..storage.tables import Table
from .made import Made
from .needed import reached

_PLAIN = {str, int, float, bool, NoneType, Decimal, bytes, dt.date, dt.datetime, dt.time}
_PLAIN |= {dt.timedelta, dt.timezone}
_ALL, _TABLE, _REFERRING, _CHOSEN = "*", "table:", "to:", "chosen:"


class Watched(Schema):
    """A schema that notes what somebody looks at, of it and of its tables."""

    whole: Schema
    noted: set[str]
    tables: Mapping[str, Table]

    def __init__(self, schema: Schema, tables: Mapping[str, Table]) -> None:
        notes: set[str] = set()
        models = _Noting(schema.models, notes)
        super().__init__(models, schema.seed, schema.profiles, schema.parts, schema.rows)
        # What a schema holds is set once for all.
        self.__dict__.update(whole=schema, noted=notes, tables=_Noting(tables, notes, _TABLE))

    @property
    def parents_first(self) -> tuple[Model, ...]:
        return self._asked(_ALL).parents_first

    def referring(self, name: str) -> list[Reference]:
        return self._asked(f"{_REFERRING}{name}").referring(name)

    def is_chosen(self, name: str) -> bool:
        return self._asked(f"{_CHOSEN}{name}").is_chosen(name)

    def _asked(self, note: str) -> Schema:
        self.noted.add(note)
        return self.whole


class _Noting(Mapping[str, Any]):
    """A mapping that notes which of its keys somebody looks up, or that it is gone through."""

    def __init__(self, held: Mapping[str, Any], notes: set[str], begin: str = "") -> None:
        self._held, self._notes, self._begin = held, notes, begin

    def __getitem__(self, name: str) -> Any:
        self._notes.add(f"{self._begin}{name}")
        return self._held[name]

    def __contains__(self, name: object) -> bool:
        self._notes.add(f"{self._begin}{name}")
        return name in self._held

    def __iter__(self) -> Iterator[str]:
        self._notes.add(_ALL)
        return iter(self._held)

    def __len__(self) -> int:
        self._notes.add(_ALL)
        return len(self._held)


class Digests:
    """Digests of what was noted of a schema and its tables, each worked out only once.

    `besides` is what files of any model may be made from without its being noted.
    """

    def __init__(self, schema: Schema, tables: Mapping[str, Table], besides: object) -> None:
        self.schema, self.tables = schema, tables
        places = [(model.name, model.folder, model.tests) for model in schema]
        shared = (schema.seed, schema.profiles, schema.parts, schema.rows, places, besides)
        self._shared = digest(shared)
        self._known: dict[str, str] = {}

    def of(self, notes: Iterable[str]) -> str:
        """One digest of all that is noted."""
        return digest((self._shared, [(note, self._of(note)) for note in notes]))

    def _of(self, note: str) -> str:
        if note not in self._known:
            self._known[note] = digest(self._noted(note))
        return self._known[note]

    def _noted(self, note: str) -> object:
        models = self.schema.models
        if note == _ALL:
            return [self._of(name) for name in models]
        if note.startswith(_TABLE):
            return self.tables.get(note.removeprefix(_TABLE))
        for begin, ask in (
            (_REFERRING, self.schema.referring),
            (_CHOSEN, self.schema.is_chosen),
        ):
            if note.startswith(begin):
                name = note.removeprefix(begin)
                return ask(name) if name in models else None
        return models.get(note)


class Earlier:
    """What was made by the build before, and what this one makes, by model.

    `files` has what unpacks the texts that the build before made of a model, where they have a
    certain digest; `besides` is what all files are made from besides the declarations and settings. `now` is what
    this build made from, `places` the folder of each model and its tests.
    """

    def __init__(
        self,
        made: Mapping[str, Made],
        files: Callable[[Model, str], Mapping[str, Callable[[], str]] | None],
        besides: object = None,
    ) -> None:
        self.made, self.files, self.besides = made, files, besides
        self.now: dict[str, Made] = {}
        self.places: dict[str, tuple[str, str]] = {}

    def of(self, model: Model, digests: Digests) -> Mapping[str, Callable[[], str]] | None:
        """A model's files, where they would be made just as they are; None where they may not."""
        self.places[model.name] = model.folder, model.tests
        before = self.made.get(model.name)
        if before is None or digests.of(before.notes) != before.of:
            return None
        found = self.files(model, before.texts)
        if found is not None:
            self.now[model.name] = before
        return found

    def note(
        self, model: Model, digests: Digests, notes: Iterable[str], files: Mapping[str, str]
    ) -> None:
        """Keeps what a model's files were made from, for the next build."""
        told = tuple(sorted(notes))
        named = tuple(sorted(reached(files)))
        self.now[model.name] = Made(digests.of(told), "", named, told)


def digest(value: object) -> str:
    """A digest of a value, whatever of the schema it is; where it was declared does not count."""
    found: list[str] = []
    _tell(value, found.append)
    return sha256("\0".join(found).encode()).hexdigest()[:16]


def _tell(value: Any, out: Callable[[str], None]) -> None:
    kind = type(value)
    if kind in _PLAIN:
        out(repr(value))
    elif kind is Span:
        return
    elif isinstance(value, Mapping):
        out("{")
        for key, one in value.items():
            _tell(key, out)
            _tell(one, out)
        out("}")
    elif is_dataclass(value) and kind is not type:
        out(kind.__qualname__)
        of: Any = kind
        for name, usual in _members(of):
            held = getattr(value, name)
            # Most members of most fields say nothing.
            if held is not usual:
                out(name)
                _tell(held, out)
        out(")")
    elif isinstance(value, list | tuple):
        out("(")
        for one in value:
            _tell(one, out)
        out(")")
    elif isinstance(value, set | frozenset):
        out(f"{{{sorted(map(digest, value))}")
    elif isinstance(value, type | FunctionType):
        out(f"{value.__module__}.{value.__qualname__}")
    elif isinstance(value, Enum | re.Pattern):
        out(repr(value))
    else:
        raise TypeError(f"{kind.__qualname__} has no digest: say of it what files are made from")


@cache
def _members(kind: Any) -> tuple[tuple[str, object], ...]:
    return tuple((field.name, field.default) for field in fields(kind))
