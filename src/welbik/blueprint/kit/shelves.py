"""What visitors leave for a while: a folder for each, with bounds for each and for all together."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from flask import current_app

from . import guard

KEPT_SECONDS = 24 * 3600
_ALL_MOST = 5_000


@dataclass(frozen=True)
class Shelf:
    """Files of one kind: at most `most` of a visitor, and `all_bytes` of everybody.

    Where there would be more, the oldest go. Nobody can guess the folder of another visitor, and
    only its own is ever looked into.
    """

    name: str
    most: int
    all_bytes: int

    def own(self) -> Path:
        """The folder of this visitor."""
        visitor = hashlib.sha256(guard.token().encode()).hexdigest()
        return self.folder / visitor[:32]

    @property
    def folder(self) -> Path:
        return Path(current_app.config["FILES"]) / self.name

    def make_room(self) -> Path:
        """The folder of this visitor, there and with room for one file more."""
        own = self.own()
        own.mkdir(mode=0o700, parents=True, exist_ok=True)
        for _, _, path in sorted(files(own), reverse=True)[self.most - 1 :]:
            path.unlink(missing_ok=True)
        used, old = 0, time.time() - KEPT_SECONDS
        for number, (modified, size, path) in enumerate(
            sorted(self._all(), reverse=True)
        ):
            used += size
            if modified < old or used > self.all_bytes or number >= _ALL_MOST:
                path.unlink(missing_ok=True)
        return own

    def _all(self) -> Iterator[tuple[float, int, Path]]:
        old = time.time() - KEPT_SECONDS
        for folder in self.folder.iterdir():
            with suppress(OSError):
                # A new one may be waiting for its first file.
                if folder.stat().st_mtime < old:
                    folder.rmdir()
            yield from files(folder)


def files(folder: Path) -> Iterator[tuple[float, int, Path]]:
    """The files of a folder: when they were written, their bytes, and where they lie."""
    with suppress(OSError):
        for path in folder.iterdir():
            with suppress(OSError):
                told = path.stat()
                yield told.st_mtime, told.st_size, path
