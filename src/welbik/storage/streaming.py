"""One statement that reads a file, and rows that are written to it while they are made up."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import suppress
from pathlib import Path

_POLL_SECONDS = 0.001


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
