"""Uploaded files: kept by the digest of their bytes, so that names are never paths.

An upload waits in a folder of its visitor until a row that has it is stored. What no row has any
more is cleared away after a while.
"""

from __future__ import annotations

import hashlib
import os
import re
import tempfile
from contextlib import suppress
from pathlib import Path
from typing import IO, Any, NamedTuple

from flask import Blueprint, Response, abort, current_app, send_file
from sqlalchemy import Dialect
from sqlalchemy.types import JSON, TypeDecorator

from . import formats
from .shelves import Shelf

_WAITING = Shelf("files/waiting", most=40, all_bytes=2_000_000_000)
_CHUNK = 1 << 16
_DIGEST = re.compile("[0-9a-f]{64}")
_SHOWN = {"png", "jpeg", "gif", "webp"}

pages = Blueprint("_uploads", __name__, url_prefix="/files")


class Stored(NamedTuple):
    """What a row holds of an upload: its name, size in bytes, type and digest."""

    name: str
    size: int
    type: str
    digest: str

    @property
    def macros(self) -> str:
        """What shows it."""
        return "look/uploads.html"

    def __str__(self) -> str:
        return self.name


class Column(TypeDecorator[Stored]):
    """What is known of an uploaded file; its bytes lie in the site's folder."""

    impl = JSON(none_as_null=True)
    cache_ok = True

    def process_bind_param(
        self, value: Stored | None, dialect: Dialect
    ) -> dict[str, Any] | None:
        return None if value is None else value._asdict()

    def process_result_value(
        self, value: dict[str, Any] | None, dialect: Dialect
    ) -> Stored | None:
        return None if value is None else Stored(**value)


def folder() -> Path:
    """Where the uploads lie that rows have."""
    return Path(current_app.config["FILES"]) / "files"


def receive(stream: IO[bytes], largest: int) -> Path | None:
    """Writes an upload into the visitor's folder, as a draft; None if it is too large."""
    room = _WAITING.make_room()
    size = 0
    handle, draft = tempfile.mkstemp(dir=room, prefix="draft-")
    with os.fdopen(handle, "wb") as file:
        while chunk := stream.read(_CHUNK):
            size += len(chunk)
            if size > largest:
                break
            file.write(chunk)
    if size <= largest:
        return Path(draft)
    Path(draft).unlink()
    return None


def wait(draft: Path) -> tuple[int, str]:
    """Names a draft by its bytes, until a row has it; its size and its digest."""
    with draft.open("rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    size = draft.stat().st_size
    draft.replace(draft.parent / digest)
    return size, digest


def settle(digest: str) -> None:
    """Puts an upload of this visitor among those that rows have; twice the same is one file."""
    with suppress(FileNotFoundError):
        (_WAITING.own() / digest).replace(folder() / digest)


def is_digest(text: str) -> bool:
    return _DIGEST.fullmatch(text) is not None


def path_of(digest: str) -> Path | None:
    """Where the bytes of an upload lie: kept for all, or waiting for this visitor."""
    if not is_digest(digest):
        return None
    paths = (folder() / digest, _WAITING.own() / digest)
    return next((path for path in paths if path.is_file()), None)


@pages.get("/<digest>/<kind>/<path:name>")
def file_page(digest: str, kind: str, name: str) -> Response:
    """The bytes of an upload: images are shown, all else is saved."""
    path = path_of(digest)
    # A header has no line's end, and none has a NUL.
    if path is None or not name.isprintable():
        abort(404)
    shown = kind in _SHOWN and formats.is_of(path, kind)
    mimetype = f"image/{kind}" if shown else "application/octet-stream"
    answer = send_file(
        path, mimetype, as_attachment=not shown, download_name=Path(name).name
    )
    answer.cache_control.private = True
    answer.headers["Content-Security-Policy"] = "default-src 'none'; sandbox"
    return answer


def shown_size(size: int) -> str:
    for unit, word in ((1000**3, "GB"), (1000**2, "MB"), (1000, "kB")):
        if size >= unit:
            return f"{size / unit:.3g} {word}"
    return f"{size} bytes"
