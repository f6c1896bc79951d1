"""Reads a project's files: regular files below its root, each within the size limit of its kind.

A project may come from somebody else, so no path in it is trusted: links, devices and pipes are
refused, and so is every path that leaves the root.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path, PurePosixPath

from .problems import WelbikError

KB, MB = 1024, 1024 * 1024
SETTINGS_LIMIT = 64 * KB
DECLARATION_LIMIT = 4 * MB
MIGRATION_LIMIT = 16 * MB
CODE_LIMIT = 4 * MB
ROWS_LIMIT = 64 * MB
PACK_LIMIT = 32 * MB
MOST_FILES = 20_000
"""Bytes of one file by its kind, and how many files one folder may hold."""


def resolve_below(root: Path, name: str) -> Path:
    """The path of a file or folder below `root`, which need not exist.

    Raises WelbikError if the name is absolute, has a `..` in it, or passes through a link.
    """
    parts = PurePosixPath(name).parts
    if not parts or "\0" in name or Path(name).is_absolute() or ".." in parts or "\\" in name:
        raise WelbikError(
            f"{name!r} is not the name of a file in {root}", "remove it from the project"
        )
    path = root
    for part in parts:
        path = path / part
        if path.is_symlink():
            raise _refused(path.relative_to(root).as_posix(), "is a link")
    return path


def read_file(root: Path, name: str, limit: int) -> bytes | None:
    """The bytes of a file below `root`; None if there is no such file.

    Raises WelbikError if it is a link, a device, a folder or larger than `limit` bytes.
    Raises PermissionError as the system does.
    """
    path = resolve_below(root, name)
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | getattr(os, "O_NOFOLLOW", 0))
    except (FileNotFoundError, NotADirectoryError):
        return None
    except OSError as error:
        if isinstance(error, PermissionError):
            raise
        raise WelbikError(
            f"{name} can't be read: {error.strerror}", "remove it from the project"
        ) from None
    with os.fdopen(handle, "rb") as file:
        found = os.fstat(handle)
        if stat.S_ISDIR(found.st_mode):
            raise _refused(name, "is a folder")
        if not stat.S_ISREG(found.st_mode):
            raise _refused(name, "is not a regular file")
        data = file.read(limit + 1) if found.st_size <= limit else b""
    if found.st_size > limit or len(data) > limit:
        raise WelbikError(
            f"{name} has more than {_size(limit)}", "such files are not read: make it smaller"
        )
    return data


def list_files(root: Path, folder: str, suffix: str, *, deep: bool = True) -> list[str]:
    """The names of a folder's files with a suffix, sorted and relative to `root`.

    Raises WelbikError if the folder or one of those files is a link, or there are too many.
    """
    top = resolve_below(root, folder)
    found = []
    for path in _walk(top, deep):
        if path.name.endswith(suffix):
            found.append(path.relative_to(root).as_posix())
            if path.is_symlink():
                raise _refused(found[-1], "is a link")
        if len(found) > MOST_FILES:
            raise WelbikError(f"{folder} has more than {MOST_FILES:,} files", "remove some of them")
    return sorted(found)


def _walk(top: Path, deep: bool) -> Iterator[Path]:
    """All that is in a folder and its subfolders but the folders; links are not followed."""
    for here, folders, files in os.walk(top):
        links = [name for name in folders if os.path.islink(os.path.join(here, name))]  # noqa: PTH114, PTH118
        yield from (Path(here, name) for name in (*files, *links))
        if not deep:
            folders.clear()


def _refused(name: str, reason: str) -> WelbikError:
    return WelbikError(
        f"{name} {reason}: only regular files of the project are read and written",
        "replace it with a regular file or folder",
    )


def _size(limit: int) -> str:
    return f"{limit // MB} MB" if limit >= MB else f"{limit // KB} kB"
