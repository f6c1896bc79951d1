"""Uploaded files: kept by the digest of their bytes, so that names are never paths."""

from __future__ import annotations

import hashlib
import os
import tempfile
from pathlib import Path
from typing import IO, NamedTuple

from flask import Blueprint, Response, abort, send_file

from .. import settings

FOLDER = settings.ROOT / "instance" / "files"
_CHUNK = 1 << 16
_IMAGES = {
    "png": b"\x89PNG\r\n\x1a\n",
    "jpeg": b"\xff\xd8\xff",
    "gif": b"GIF8",
    "webp": b"RIFF",
}

pages = Blueprint("uploads", __name__, url_prefix="/files")


class Stored(NamedTuple):
    """What a row holds of an upload: its name, size in bytes, type and digest."""

    name: str
    size: int
    type: str
    digest: str

    def __str__(self) -> str:
        return self.name


def image_type(path: Path) -> str:
    """Which image the first bytes of a file tell of; empty for none that browsers show."""
    with path.open("rb") as file:
        start = file.read(12)
    for kind, mark in _IMAGES.items():
        if start.startswith(mark) and (kind != "webp" or start[8:12] == b"WEBP"):
            return kind
    return ""


def keep(stream: IO[bytes], largest: int) -> tuple[Path, int, str] | None:
    """Writes an upload beside its place: the draft, its size and digest; None if too large."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    digest, size = hashlib.sha256(), 0
    handle, draft = tempfile.mkstemp(dir=FOLDER, prefix="draft-")
    with os.fdopen(handle, "wb") as file:
        while chunk := stream.read(_CHUNK):
            size += len(chunk)
            if size > largest:
                break
            digest.update(chunk)
            file.write(chunk)
    if size > largest:
        Path(draft).unlink()
        return None
    return Path(draft), size, digest.hexdigest()


def settle(draft: Path, digest: str) -> None:
    """Puts a draft in its place; the same bytes twice are one file."""
    draft.replace(FOLDER / digest)


def discard(draft: Path) -> None:
    draft.unlink(missing_ok=True)


@pages.get("/<digest>/<kind>/<path:name>")
def file_page(digest: str, kind: str, name: str) -> Response:
    """The bytes of an upload: images are shown, all else is saved."""
    path = FOLDER / digest
    if len(digest) != 64 or not digest.isalnum() or not path.is_file():
        abort(404)
    shown = kind in _IMAGES and image_type(path) == kind
    mimetype = f"image/{kind}" if shown else "application/octet-stream"
    answer = send_file(
        path, mimetype, as_attachment=not shown, download_name=Path(name).name
    )
    answer.headers["Content-Security-Policy"] = "default-src 'none'; sandbox"
    return answer
