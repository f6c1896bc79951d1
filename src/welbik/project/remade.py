"""Files of models of which nothing changed, as the last build made them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from ..codegen.made import Files, Made, texts_digest
from .record import OUT, Kept, Record

if TYPE_CHECKING:
    from ..schema.model import Model


class Remade:
    """The files of models that a record has, for an application called `package`.

    `as_recorded` has those that were asked for and are on disk just as the record has them.
    """

    def __init__(self, record: Record, package: str, root: Path) -> None:
        self.record, self.root = record, root
        self.as_recorded: set[str] = set()
        self._inside: dict[str, list[str]] = defaultdict(list)
        for name in record.files:
            first, *inner = name.split("/")
            if first == package and len(inner) > 1:
                self._inside[inner[0]].append(name)

    def texts(self, model: Model, wanted: str) -> Mapping[str, Callable[[], str]] | None:
        """What unpacks the texts that were made of a model; None where they have not the digest
        that is wanted.

        Nor where one was taken out, whose text is of an earlier day, or is of two branches.
        """
        kept = {name: self.record.files[name] for name in self._names(model.folder, model.tests)}
        if any(len(one) != 1 or one[0].place == OUT for one in kept.values()):
            return None
        if not kept or texts_digest({n: one.digest for n, (one,) in kept.items()}) != wanted:
            return None
        same = self.record.as_recorded(self.root, kept)
        # Of what is on disk just so nobody will ask for the text.
        if not all(one.is_sound for name, (one,) in kept.items() if name not in same):
            return None
        self.as_recorded |= same
        return {name: _text_of(one) for name, (one,) in kept.items()}

    def told(
        self, made: Mapping[str, Made], places: Mapping[str, tuple[str, str]]
    ) -> dict[str, Made]:
        """What models were made from, with a digest of the texts that came of it.

        `places` has the folder of each model in the application, and the file of its tests.
        """
        found = {}
        for name, one in made.items():
            kept = [(n, self.record.files[n]) for n in self._names(*places[name])]
            if all(len(texts) == 1 for _, texts in kept):
                digest = texts_digest({n: texts[0].digest for n, texts in kept})
                found[name] = one._replace(texts=digest)
        return found

    def _names(self, folder: str, tests: str) -> list[str]:
        return [*self._inside.get(folder, ()), *([tests] if tests in self.record.files else [])]


def all_recorded(record: Record) -> Files:
    """All files that a record has, as it has them."""
    found = Files()
    found.add({name: _text_of(texts[0]) for name, texts in record.files.items()})
    return found


def _text_of(one: Kept) -> Callable[[], str]:
    return lambda: one.text
