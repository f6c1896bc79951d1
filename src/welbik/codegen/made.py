"""What is kept of how a model's files were made; see `made_from`."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from hashlib import sha256
from typing import NamedTuple


class Made(NamedTuple):
    """A model's files as they were made: digests of what from and of their texts, and the notes.

    The texts have a digest once they are written. `reached` has what all projects share that they
    name: modules and templates, by their path in the application.
    """

    of: str
    texts: str
    reached: tuple[str, ...]
    notes: tuple[str, ...]


class Files(Mapping[str, str]):
    """Texts by the path of their file; some are unpacked only where somebody asks for them."""

    def __init__(self) -> None:
        self._texts: dict[str, str | Callable[[], str]] = {}

    def __getitem__(self, name: str) -> str:
        text = self._texts[name]
        return text if isinstance(text, str) else text()

    def __contains__(self, name: object) -> bool:
        return name in self._texts

    def __iter__(self) -> Iterator[str]:
        return iter(self._texts)

    def __len__(self) -> int:
        return len(self._texts)

    @property
    def packed(self) -> set[str]:
        """The files whose text is still to be unpacked."""
        return {name for name, text in self._texts.items() if not isinstance(text, str)}

    def add(self, texts: Mapping[str, str | Callable[[], str]]) -> None:
        """Adds files, or puts them in place of others."""
        self._texts.update(texts)


def texts_digest(digests: Mapping[str, str]) -> str:
    """One digest of files by the digests of their texts."""
    told = "".join(f"{name} {digest}\n" for name, digest in sorted(digests.items()))
    return sha256(told.encode()).hexdigest()[:16]
