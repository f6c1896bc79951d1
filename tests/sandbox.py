"""Runs one welbik command and reports every file access outside the project, with its links resolved.

As a script: `sandbox.py REPORT ROOT ALLOWED… -- ARGUMENT…`. The interpreter's audit events tell what is
opened, listed, changed or connected to, whichever library does it.
"""

from __future__ import annotations

import os
import site
import sys
from pathlib import Path
from typing import Any

CHANGES = {"os.remove", "os.rename", "os.rmdir", "os.mkdir", "os.link", "os.symlink", "os.truncate"}
CHANGES |= {"os.chmod", "os.chown", "os.utime", "shutil.rmtree", "shutil.move"}
SYSTEM = (
    "/usr",
    "/lib",
    "/proc",
    "/dev/null",
    "/dev/urandom",
    "/etc/localtime",
    "/etc/mime.types",
    "/sys",
)


class Watch:
    """Notes each access that is not allowed, and refuses it."""

    def __init__(self, report: Path, root: Path, allowed: list[str]) -> None:
        self.report = os.open(report, os.O_WRONLY | os.O_CREAT | os.O_APPEND)
        own = [sys.prefix, sys.base_prefix, sys.exec_prefix, *site.getsitepackages()]
        source = str(Path(__file__).resolve().parents[1] / "src")
        self.readable = tuple(map(os.path.realpath, [*SYSTEM, *own, source]))
        self.writable = tuple(map(os.path.realpath, [str(root), *allowed]))
        self.hosts = {name for name in allowed if name == "127.0.0.1"}

    def __call__(self, event: str, given: tuple[Any, ...]) -> None:
        if event == "open" and isinstance(given[0], str | bytes | os.PathLike):
            flags = given[2] if isinstance(given[2], int) else 0
            self.check(event, given[0], flags & (os.O_WRONLY | os.O_RDWR | os.O_CREAT))
        elif event in ("os.listdir", "os.scandir") and given[0] is not None:
            self.check(event, given[0], False)
        elif event in CHANGES:
            for path in (
                given[:2] if event in ("os.rename", "os.link", "shutil.move") else given[:1]
            ):
                self.check(event, path, True)
        elif event == "sqlite3.connect" and given[0] not in ("", b""):
            self.check(event, os.fsdecode(given[0]).removeprefix("file://").partition("?")[0], True)
        elif event == "socket.connect" and given[1][0] not in self.hosts:
            self.note(event, given[1])

    def check(self, event: str, path: Any, changes: Any) -> None:
        if isinstance(path, int):
            return
        # The last part of a path that is removed or renamed is the link, not what it leads to.
        path = os.fsdecode(path)
        real = os.path.realpath(path)
        if event in ("os.remove", "os.rename"):
            real = os.path.join(os.path.realpath(os.path.dirname(path)), os.path.basename(path))  # noqa: PTH118, PTH120, PTH119
        allowed = self.writable if changes else (*self.writable, *self.readable)
        if not any(real == one or real.startswith(f"{one}/") for one in allowed):
            self.note(event, real)

    def note(self, event: str, what: object) -> None:
        os.write(self.report, f"{event} {what}\n".encode())
        raise PermissionError(13, "outside the sandbox", str(what))


if __name__ == "__main__":
    report, root, *rest = sys.argv[1:]
    end = rest.index("--")
    arguments = rest[end + 1 :]
    import encodings.idna  # noqa: F401

    from welbik.cli.main import main

    sys.argv = ["welbik", *arguments]
    sys.path = [path for path in sys.path if path != str(Path(__file__).parent)]
    os.chdir(root)
    sys.addaudithook(Watch(Path(report), Path(root), rest[:end]))
    main()
