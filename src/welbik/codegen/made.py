"""What is kept of how a model's files were made; see `made_from`."""

from __future__ import annotations

from collections.abc import Mapping
from hashlib import sha256
from typing import NamedTuple


class Made(NamedTuple):
    """A model's files as they were made: digests of what from and of their texts, and the notes.

    The texts have a digest once they are written.
    """

    of: str
    texts: str
    notes: tuple[str, ...]


def texts_digest(digests: Mapping[str, str]) -> str:
    """One digest of files by the digests of their texts."""
    told = "".join(f"{name} {digest}\n" for name, digest in sorted(digests.items()))
    return sha256(told.encode()).hexdigest()[:16]
