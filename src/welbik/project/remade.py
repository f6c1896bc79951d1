"""Files of models of which nothing changed, as the last build made them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from typing import TYPE_CHECKING

from ..codegen.made import Made, texts_digest
from .record import OUT, Record

if TYPE_CHECKING:
    from ..schema.model import Model


class Remade:
    """The files of models that a record has, for an application called `package`."""

    def __init__(self, record: Record, package: str) -> None:
        self.record = record
        self._inside: dict[str, list[str]] = defaultdict(list)
        for name in record.files:
            first, *inner = name.split("/")
            if first == package and len(inner) > 1:
                self._inside[inner[0]].append(name)

    def texts(self, model: Model, wanted: str) -> Mapping[str, str] | None:
        """The texts that were made of a model; None where they have not the digest that is wanted.

        Nor where one was taken out, whose text is of an earlier day, or is of two branches.
        """
        kept = {name: self.record.files[name] for name in self._names(model.folder, model.endpoint)}
        if any(len(one) != 1 or one[0].place == OUT for one in kept.values()):
            return None
        if not kept or texts_digest({n: one.digest for n, (one,) in kept.items()}) != wanted:
            return None
        if not all(one.is_sound for (one,) in kept.values()):
            return None
        return {name: one.text for name, (one,) in kept.items()}

    def told(
        self, made: Mapping[str, Made], places: Mapping[str, tuple[str, str]]
    ) -> dict[str, Made]:
        """What models were made from, with a digest of the texts that came of it.

        `places` has the folder of each model in the application, and its endpoint.
        """
        found = {}
        for name, one in made.items():
            kept = [(n, self.record.files[n]) for n in self._names(*places[name])]
            if all(len(texts) == 1 for _, texts in kept):
                digest = texts_digest({n: texts[0].digest for n, texts in kept})
                found[name] = one._replace(texts=digest)
        return found

    def _names(self, folder: str, endpoint: str) -> list[str]:
        tests = f"tests/test_{endpoint}.py"
        return [*self._inside.get(folder, ()), *([tests] if tests in self.record.files else [])]
