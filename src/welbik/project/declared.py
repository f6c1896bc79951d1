"""The declarations as texts: what they say is read elsewhere."""

from __future__ import annotations

from pathlib import Path

FOLDER = "models"
SUFFIX = ".welbik"


def declared_texts(root: Path) -> dict[str, str]:
    """The declarations as they are written, by file; what can't be read is left out."""
    return {
        path.relative_to(root).as_posix(): path.read_bytes().decode("utf-8-sig", "replace")
        for path in sorted((root / FOLDER).rglob(f"*{SUFFIX}"))
        if path.is_file()
    }
