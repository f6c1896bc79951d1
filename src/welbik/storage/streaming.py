"""One statement that reads a file, and rows that are written to it while they are made up."""

from __future__ import annotations

import os
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path

from ..problems import WelbikError

_POLL_SECONDS = 0.001
_offered: dict[int, str] = {}
"""By thread: the one file that it may open."""


@contextmanager
def only_file(path: str) -> Iterator[None]:
    """Lets this thread open one file and no other.

    The server names the file that the driver sends it, and could name any.
    """
    _watch_opening()
    thread = threading.get_ident()
    _offered[thread] = path
    try:
        yield
    finally:
        del _offered[thread]


@cache
def _watch_opening() -> None:
    # The interpreter tells its audit hooks of every file before it is opened.
    sys.addaudithook(_refuse_other_files)


def _refuse_other_files(event: str, arguments: tuple[object, ...]) -> None:
    if event != "open" or not _offered:
        return
    offered = _offered.get(threading.get_ident())
    name = arguments[0]
    if offered is not None and not (isinstance(name, str | bytes) and os.fsdecode(name) == offered):
        raise WelbikError(
            f"the database server asks for {arguments[0]}, which it was not offered",
            "do not trust this server: nothing was sent",
        )


class Stream:
    """A file that has no end until it is closed; `read` is handed its path and runs beside, in `aside`.

    Only where the system has named pipes.
    """

    possible = hasattr(os, "mkfifo")

    def __init__(self, aside: ThreadPoolExecutor, read: Callable[[str], None]) -> None:
        self.folder = tempfile.TemporaryDirectory(prefix="welbik-")
        path = Path(self.folder.name) / "rows"
        os.mkfifo(path)
        self.reading: Future[None] = aside.submit(read, str(path))
        self.file = self._opened(path)
        self.rows = 0

    def _opened(self, path: Path) -> int:
        """The end to write to; -1 where nobody came to read."""
        while not self.reading.done():
            # Opened for as long as nobody reads it would wait for ever.
            with suppress(OSError):
                file = os.open(path, os.O_WRONLY | os.O_NONBLOCK)
                os.set_blocking(file, True)
                return file
            wait([self.reading], timeout=_POLL_SECONDS)
        return -1

    def write(self, lines: bytes, rows: int) -> None:
        """Hands rows over; what is wrong with them is raised by `close`."""
        self.rows += rows
        view = memoryview(lines)
        with suppress(BrokenPipeError):
            while view:
                view = view[os.write(self.file, view) :]

    def close(self) -> None:
        """Ends the file and waits for the statement; raises what that raised."""
        if self.file >= 0:
            os.close(self.file)
        try:
            self.reading.result()
        finally:
            self.folder.cleanup()
