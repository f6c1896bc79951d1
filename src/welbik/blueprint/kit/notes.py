"""Forms left for a moment, kept beside the site till their visitor comes back to them."""

from __future__ import annotations

import json
import os
import re
import secrets
import tempfile
import time
from typing import Any

from .shelves import KEPT_SECONDS, Shelf

_SHELF = Shelf("notes", most=20, all_bytes=100_000_000)
_NAME = re.compile(r"[A-Za-z0-9_-]{22}")


def new_name() -> str:
    return secrets.token_urlsafe(16)


def write(name: str, content: Any) -> None:
    """Keeps a note of this visitor under a name from `new_name`."""
    if not _NAME.fullmatch(name):
        return
    folder = _SHELF.make_room()
    handle, draft = tempfile.mkstemp(dir=folder, prefix="draft-")
    with os.fdopen(handle, "w", encoding="utf-8") as file:
        json.dump(content, file)
    os.replace(draft, folder / name)


def read(name: str) -> Any:
    """What this visitor kept under a name; None where nothing was, or too long ago."""
    if not _NAME.fullmatch(name):
        return None
    path = _SHELF.own() / name
    try:
        if path.stat().st_mtime < time.time() - KEPT_SECONDS:
            return None
        return json.loads(path.read_text("utf-8"))
    except (OSError, ValueError):
        return None
