"""One command at a time may change a project's files or its database's tables."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from ..problems import WelbikError
from ..project_files import resolve_below

_WAIT_SECONDS = 30
_held: set[Path] = set()


@contextmanager
def alone(root: Path, wait: float = _WAIT_SECONDS) -> Iterator[None]:
    """Keeps other commands waiting meanwhile; raises WelbikError where one does not end.

    The lock is the system's own, on the folder `.welbik`: it goes with the process, however
    that ends.
    """
    try:
        import fcntl
    except ImportError:  # No such locks on this system.
        yield
        return
    folder = resolve_below(root, ".welbik")
    if folder in _held:
        yield
        return
    try:
        folder.mkdir(parents=True, exist_ok=True)
        handle = os.open(folder, os.O_RDONLY)
    except OSError as error:
        raise WelbikError(
            f"{folder} can't be written: {error.strerror}", "nothing was changed"
        ) from None
    try:
        last = time.monotonic() + wait
        while True:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                if time.monotonic() > last:
                    raise WelbikError(
                        f"another welbik command is at work in {root}",
                        "wait until it has ended, then try again",
                    ) from None
                time.sleep(0.05)
        _held.add(folder)
        yield
    finally:
        _held.discard(folder)
        os.close(handle)
