"""What earlier versions wrote, and what has changed in the code that all projects share."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from functools import cache
from hashlib import sha256
from importlib.resources import files
from importlib.resources.abc import Traversable

_ROOMS = ("blueprint", "codegen", "kinds", "language", "rules", "schema", "storage")


def generator_digest() -> str:
    """A digest of all that decides what is generated."""
    found = sha256()
    for room in _ROOMS:
        for path, data in _contents(files("welbik") / room, room):
            found.update(path.encode() + data)
    return found.hexdigest()[:16]


def _contents(folder: Traversable, path: str) -> Iterator[tuple[str, bytes]]:
    for item in sorted(folder.iterdir(), key=lambda item: item.name):
        if item.is_dir() and item.name != "__pycache__":
            yield from _contents(item, f"{path}/{item.name}")
        elif item.is_file() and not item.name.endswith(".pyc"):
            yield f"{path}/{item.name}", item.read_bytes()


@cache
def _earlier() -> dict[str, tuple[str, ...]]:
    text = (files("welbik.blueprint") / "earlier.txt").read_text("utf-8")
    lines = (line.split() for line in text.splitlines() if line and not line.startswith("#"))
    return {name: tuple(digests) for name, *digests in lines}


def earlier(name: str) -> tuple[str, ...]:
    """Digests of what a file of `kit/` or `look/` was in earlier versions."""
    return _earlier().get(name, ())


@cache
def _changes() -> list[tuple[tuple[int, ...], tuple[str, ...], str]]:
    import tomllib

    text = (files("welbik.blueprint") / "changes.toml").read_text("utf-8")
    return [
        (_number(one["version"]), tuple(one["files"]), one["says"])
        for one in tomllib.loads(text)["change"]
    ]


def news(since: str, written: Collection[str]) -> list[str]:
    """What changed since a version in the shared files among those that are written."""
    names = [name.partition("/")[2] for name in written]
    return [
        says
        for version, about, says in _changes()
        if version > _number(since) and any(name in about for name in names)
    ]


def _number(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split(".") if part.isdigit())
