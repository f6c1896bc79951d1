"""Small notes kept for a while beside the site: forms left for a moment, forms already sent.

Each has a name that nobody can guess. They lie in the site's own folder, which all its
processes share.
"""

from __future__ import annotations

import json
import os
import re
import secrets
import tempfile
import time
from contextlib import suppress
from typing import Any

from .. import settings

FOLDER = settings.ROOT / "instance" / "notes"
_KEPT_SECONDS = 24 * 3600
_NAME = re.compile(r"[A-Za-z0-9_-]{22}")


def new_name() -> str:
    return secrets.token_urlsafe(16)


def write(name: str, content: Any) -> None:
    """Keeps a note under a name from `new_name`; older ones are cleared away now and then."""
    if not _NAME.fullmatch(name):
        return
    FOLDER.mkdir(parents=True, exist_ok=True)
    handle, draft = tempfile.mkstemp(dir=FOLDER, prefix="draft-")
    with os.fdopen(handle, "w", encoding="utf-8") as file:
        json.dump(content, file)
    os.replace(draft, FOLDER / name)
    if secrets.randbelow(100) == 0:
        _clear()


def read(name: str) -> Any:
    """What was kept under a name; None where nothing was, or too long ago."""
    if not _NAME.fullmatch(name):
        return None
    path = FOLDER / name
    try:
        if path.stat().st_mtime < time.time() - _KEPT_SECONDS:
            return None
        return json.loads(path.read_text("utf-8"))
    except (OSError, ValueError):
        return None


def _clear() -> None:
    old = time.time() - _KEPT_SECONDS
    for path in FOLDER.iterdir():
        with suppress(OSError):
            if path.stat().st_mtime < old:
                path.unlink()
