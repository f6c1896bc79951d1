"""Form fields for uploads: checked by their bytes, kept while a form is mended."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace
from pathlib import Path, PurePath
from typing import Any, ClassVar

from flask import Flask, current_app
from itsdangerous import BadData, URLSafeTimedSerializer

from . import formats, guard, images, shelves, sweeping, uploads
from .database import on_stored
from .fields import Field, Refused

_REFUSED = "!"
_UNNAMED = "upload"
_IMAGES = ("png", "jpeg", "gif", "webp")


@dataclass(frozen=True, kw_only=True)
class File(Field):
    """An upload. Its text tells what a row has, or is a signed note of what waits to be stored.

    A note is good for this field of the model `held_by`, for its own visitor, and for a day.
    """

    largest: int = 10_000_000
    suffixes: tuple[str, ...] = ()
    held_by: str = ""
    control: ClassVar[str] = "file"
    macros: ClassVar[str] = "look/uploads.html"
    copied: ClassVar[bool] = False
    returns: ClassVar[bool] = False
    shared: ClassVar[bool] = False

    def of(self, table: str) -> File:
        return replace(self, held_by=table)

    def room(self) -> int:
        return self.largest

    def settle(self, row: Any) -> None:
        upload = getattr(row, self.column)
        if upload is not None:
            uploads.settle(upload.digest)

    def sent(self, form: Any, files: Any) -> str:
        """The note of a new upload, else the text of the one that is there unless it is to go."""
        upload = files.get(self.name)
        if upload is not None and upload.filename and not guard.is_stale():
            return self._receive(upload)
        if form.get(f"{self.name}-remove"):
            return ""
        text: str = form.get(self.name, "")
        # What begins so is ours alone: a request can't say it.
        return text.removeprefix(_REFUSED)

    def _receive(self, upload: Any) -> str:
        draft = uploads.receive(upload.stream, self.largest)
        if draft is None:
            return f"{_REFUSED}{self.too_large()}"
        shown = "".join(c for c in upload.filename if c.isprintable())
        name = PurePath(shown.replace("\\", "/")).name[-120:] or _UNNAMED
        try:
            kind = self.kind_of(draft, name)
        except Refused as refused:
            draft.unlink()
            return f"{_REFUSED}{refused.words}"
        size, digest = uploads.wait(draft)
        return str(self._signer().dumps([name, size, kind, digest]))

    def too_large(self) -> str:
        return f"At most {uploads.shown_size(self.largest)}, please."

    def kind_of(self, draft: Path, name: str) -> str:
        """The type of an upload; raises Refused where it is none of those asked for."""
        suffix = PurePath(name).suffix.lower().lstrip(".")
        wanted = ", ".join(self.suffixes)
        if self.suffixes and suffix not in self.suffixes:
            raise self.refused("range", f"Only these, please: {wanted}.")
        if self.suffixes and not formats.is_of(draft, suffix):
            raise self.refused(
                "range", f"This is called .{suffix}, and is something else."
            )
        return suffix or "file"

    def parse(self, text: str) -> uploads.Stored:
        if text.startswith(_REFUSED):
            raise Refused("range", text.removeprefix(_REFUSED))
        kept = self._noted(text)
        if kept is None or uploads.path_of(kept.digest) is None:
            raise Refused("range", "Choose the file again.")
        return kept

    def _noted(self, text: str) -> uploads.Stored | None:
        """What a note of this field tells of; None where it is none, or not for this visitor."""
        try:
            found = self._signer().loads(text, max_age=shelves.KEPT_SECONDS)
            return uploads.Stored(*found)
        except (BadData, TypeError):
            return None

    def typed(self, value: Any) -> str:
        return "" if value is None else json.dumps(list(value))

    def flat(self, text: str) -> str:
        # The same upload twice is noted at two times.
        kept = self.stored(text)
        return text if kept is None else self.typed(kept)

    def stored(self, typed: str) -> uploads.Stored | None:
        """What a text tells of, for the page: only `parse` believes it, and only a note."""
        if not typed.startswith("["):
            return self._noted(typed)
        try:
            name, size, kind, digest = json.loads(typed)
            found = uploads.Stored(str(name), int(size), str(kind), str(digest))
        except (ValueError, TypeError, ArithmeticError, RecursionError):
            return None
        known = uploads.is_digest(found.digest) and found.name and found.type
        return found if known else None

    def told(self, typed: str) -> str:
        kept = self.stored(typed)
        return "" if kept is None else kept.name

    def limits(self) -> dict[str, Any]:
        return {"accept": ",".join(f".{suffix}" for suffix in self.suffixes) or None}

    def _signer(self) -> URLSafeTimedSerializer:
        whose = f"upload {self.held_by}.{self.name} of {guard.token()}"
        return URLSafeTimedSerializer(str(current_app.secret_key), salt=whose)


@dataclass(frozen=True, kw_only=True)
class Image(File):
    """An uploaded image: its pixels are kept, and nothing that it tells besides."""

    input_type: ClassVar[str] = "image"

    def kind_of(self, draft: Path, name: str) -> str:
        shown = self.suffixes or _IMAGES
        try:
            found = images.read(draft.read_bytes())
        except ValueError:
            found = None
        if found is None or found.type not in [s.replace("jpg", "jpeg") for s in shown]:
            words = f"This is no image of these kinds: {', '.join(shown)}."
            raise self.refused("range", words)
        if not 0 < found.width * found.height <= images.MOST_PIXELS:
            most = images.MOST_PIXELS // 1_000_000
            size = f"{found.width} × {found.height}"
            raise self.refused(
                "range", f"At most {most} million pixels: this has {size}."
            )
        draft.write_bytes(found.data)
        return found.type

    def limits(self) -> dict[str, Any]:
        return {"accept": super().limits()["accept"] or "image/*"}


def serve(app: Flask) -> None:
    """Gives the site what uploads need: their addresses, and clearing away what no row has."""
    app.register_blueprint(uploads.pages)
    app.jinja_env.filters.update(show_size=uploads.shown_size)
    on_stored(app, sweeping.sweep)
