"""A private folder outside the project for what this machine knows of this checkout.

What lies in a project may have come with a clone or a pull request, so nothing in it is proof that
Welbik wrote it. What must be trusted, such as the journal of a broken-off write, lies here.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from hashlib import sha256
from pathlib import Path

from ..problems import WelbikError

_ADDRESS = "database-address"


def state_folder(root: Path, *, create: bool = False) -> Path | None:
    """The folder of a checkout; None if there is none and `create` is not set.

    Below XDG_STATE_HOME (XDG Base Directory Specification), else a folder of this user's that
    survives a restart. Raises WelbikError if none can be created.
    """
    root = root.resolve()
    name = sha256(os.fsencode(root)).hexdigest()[:24]
    for base in _bases(root):
        folder = base / name
        try:
            if create:
                base.mkdir(mode=0o700, parents=True, exist_ok=True)
                folder.mkdir(mode=0o700, exist_ok=True)
            if folder.is_dir() and _is_private(base) and os.access(folder, os.W_OK):
                return folder
        except OSError:
            continue
    if not create:
        return None
    raise WelbikError(
        "there is no folder for what Welbik must remember on this machine",
        "set XDG_STATE_HOME to a folder that you can write to",
    )


def _bases(root: Path) -> Iterator[Path]:
    places = [os.environ.get("XDG_STATE_HOME", ""), os.path.expanduser("~/.local/state")]  # noqa: PTH111
    for place in filter(os.path.isabs, places):
        # A home within the project could be committed with it.
        if not Path(place).resolve().is_relative_to(root):
            yield Path(place) / "welbik"
    user = os.getuid() if hasattr(os, "getuid") else "user"
    lasting = Path("/var/tmp")
    yield (lasting if lasting.is_dir() else Path(tempfile.gettempdir())) / f"welbik-{user}"


def _is_private(folder: Path) -> bool:
    if not hasattr(os, "getuid"):
        return True
    found = folder.lstat()
    return found.st_uid == os.getuid() and not found.st_mode & 0o022


def trust_address(root: Path, address: str) -> None:
    """Remembers that the user typed a project's database address on this machine."""
    folder = state_folder(root, create=True)
    assert folder is not None
    (folder / _ADDRESS).write_text(_digest(address), "ascii")


def is_trusted(root: Path, address: str) -> bool:
    """Whether the user typed this database address for this checkout."""
    folder = state_folder(root)
    try:
        return folder is not None and (folder / _ADDRESS).read_text("ascii") == _digest(address)
    except OSError:
        return False


def _digest(address: str) -> str:
    return sha256(address.encode()).hexdigest()
