"""The declarations as texts: what they say is read elsewhere."""

from __future__ import annotations

from pathlib import Path

from ..project_files import DECLARATION_LIMIT, list_files, read_file

FOLDER = "models"
SUFFIX = ".welbik"


def declared_texts(root: Path) -> dict[str, str]:
    """The texts of the declarations by file name; what is not UTF-8 has � in its place."""
    return {
        name: (read_file(root, name, DECLARATION_LIMIT) or b"").decode("utf-8-sig", "replace")
        for name in list_files(root, FOLDER, SUFFIX)
    }
