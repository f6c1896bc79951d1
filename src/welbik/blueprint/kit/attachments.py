"""Form fields for uploads: checked by their bytes, kept while a form is mended."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import PurePath
from typing import Any, ClassVar

from flask import current_app
from itsdangerous import BadData, URLSafeSerializer

from . import uploads
from .fields import Field, Refused

_REFUSED = "!"


@dataclass(frozen=True, kw_only=True)
class File(Field):
    """An upload. Its text is a signed note of what is kept, so that nobody makes one up."""

    largest: int = 10_000_000
    suffixes: tuple[str, ...] = ()
    control: ClassVar[str] = "file"

    def sent(self, form: Any, files: Any) -> str:
        """The note of a new upload, else of the one that is there unless it is to go."""
        upload = files.get(self.name)
        if upload is not None and upload.filename:
            return self._keep(upload)
        if form.get(f"{self.name}-remove"):
            return ""
        note: str = form.get(self.name, "")
        # What begins so is ours alone: a request can't say it.
        return note.removeprefix(_REFUSED)

    def _keep(self, upload: Any) -> str:
        kept = uploads.keep(upload.stream, self.largest)
        if kept is None:
            return f"{_REFUSED}{self.too_large()}"
        draft, size, digest = kept
        shown = "".join(c for c in upload.filename if c.isprintable())
        name = PurePath(shown.replace("\\", "/")).name[-120:]
        kind = self.kind_of(draft, name)
        if kind.startswith(_REFUSED):
            uploads.discard(draft)
            return kind
        uploads.settle(draft, digest)
        return self.typed(uploads.Stored(name or "upload", size, kind, digest))

    def too_large(self) -> str:
        return f"At most {shown_size(self.largest)}, please."

    def kind_of(self, draft: Any, name: str) -> str:
        """The type of an upload, or what is wrong with it."""
        suffix = PurePath(name).suffix.lower().lstrip(".")
        if self.suffixes and suffix not in self.suffixes:
            return f"{_REFUSED}Only these, please: {', '.join(self.suffixes)}."
        return suffix or "file"

    def parse(self, text: str) -> uploads.Stored:
        if text.startswith(_REFUSED):
            raise self.refused("range", text.removeprefix(_REFUSED))
        try:
            return uploads.Stored(*_signer().loads(text))
        except (BadData, TypeError):
            words = "Choose the file again."
            raise Refused("range", words) from None

    def typed(self, value: Any) -> str:
        return "" if value is None else str(_signer().dumps(list(value)))

    def stored(self, typed: str) -> uploads.Stored | None:
        """What a note tells of, for the page."""
        try:
            return None if typed in ("", None) else self.parse(typed)
        except Refused:
            return None

    def told(self, typed: str) -> str:
        kept = self.stored(typed)
        return "" if kept is None else kept.name

    def limits(self) -> dict[str, Any]:
        return {"accept": ",".join(f".{suffix}" for suffix in self.suffixes) or None}


@dataclass(frozen=True, kw_only=True)
class Image(File):
    """An uploaded image, told by its first bytes."""

    input_type: ClassVar[str] = "image"

    def kind_of(self, draft: Any, name: str) -> str:
        kind = uploads.image_type(draft)
        known = [suffix.replace("jpg", "jpeg") for suffix in self.suffixes]
        if not kind or (known and kind not in known):
            shown = ", ".join(self.suffixes or ("png", "jpeg", "gif", "webp"))
            return f"{_REFUSED}This is no image of these kinds: {shown}."
        return kind

    def limits(self) -> dict[str, Any]:
        return {"accept": super().limits()["accept"] or "image/*"}


def shown_size(size: int) -> str:
    for unit, word in ((1000**3, "GB"), (1000**2, "MB"), (1000, "kB")):
        if size >= unit:
            return f"{size / unit:.3g} {word}"
    return f"{size} bytes"


def _signer() -> URLSafeSerializer:
    return URLSafeSerializer(str(current_app.secret_key), salt="upload")
