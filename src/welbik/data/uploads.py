"""Made-up uploads: small images and files that are what they say, drawn and not shipped.

There are a few of each kind, whatever the number of rows: they are kept by the digest of
their bytes, as the application keeps them.
"""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

from ..kinds.file import File
from ..kinds.image import Image
from ..schema.model import Field, Schema

VARIANTS = 8
_COLOURS = ("#c9722c", "#e0b13a", "#6d8b3f", "#3f7d8b", "#5b5ea6", "#a6455f", "#8a6d5a", "#4f6f52")
_IMAGES = {"jpg": "jpeg", "tif": "tiff"}
_DRAWN = ("png", "jpeg", "gif", "webp", "bmp", "tiff")


class Upload(NamedTuple):
    """What a row holds of an upload, as the application does: size in bytes, SHA-256 digest."""

    name: str
    size: int
    type: str
    digest: str


def uploads_of(field: Field) -> list[Upload]:
    """The uploads that rows of a field choose from."""
    assert isinstance(field.kind, File)
    made = _made(field.kind, isinstance(field.kind, Image), field.name)
    return [upload for upload, _ in made]


def bytes_of(field: Field, digest: str) -> bytes:
    """The bytes of a made-up upload of a field."""
    assert isinstance(field.kind, File)
    made = _made(field.kind, isinstance(field.kind, Image), field.name)
    return next(data for upload, data in made if upload.digest == digest)


def write_uploads(schema: Schema, models: set[str], folder: Path) -> None:
    """Puts the bytes of all that made-up rows of some models may hold into a folder."""
    for name in models:
        for field in schema.models[name].fields:
            if not field.kind.upload:
                continue
            folder.mkdir(mode=0o700, parents=True, exist_ok=True)
            for upload, data in _made(field.kind, isinstance(field.kind, Image), field.name):
                path = folder / upload.digest
                if not path.exists():
                    draft = path.with_suffix(".draft")
                    draft.write_bytes(data)
                    draft.replace(path)


@lru_cache(maxsize=64)
def _made(kind: File, image: bool, name: str) -> list[tuple[Upload, bytes]]:
    found = []
    suffixes = kind.suffixes or (("png", "jpeg") if image else ("txt", "pdf", "csv"))
    for number in range(VARIANTS):
        suffix = suffixes[number % len(suffixes)]
        plain = _IMAGES.get(suffix, suffix)
        data = _bytes(plain, number, kind.largest)
        digest = hashlib.sha256(data).hexdigest()
        type_ = plain if image else suffix
        found.append((Upload(f"{name}-{number + 1}.{suffix}", len(data), type_, digest), data))
    return found


def _bytes(kind: str, number: int, largest: int) -> bytes:
    """A file of a kind, as small as it must be."""
    if kind in _DRAWN:
        for size in (96, 16, 1):
            data = _picture(kind, number, size)
            if len(data) <= largest:
                return data
        return data
    return _WRITERS.get(kind, _text)(number)[: largest or None]


def _picture(kind: str, number: int, size: int) -> bytes:
    """A landscape of two colours and a sun; its place tells one from another."""
    from PIL import Image as Canvas
    from PIL import ImageDraw

    canvas = Canvas.new("RGB", (max(1, size * 4 // 3), size), _COLOURS[number % len(_COLOURS)])
    pen = ImageDraw.Draw(canvas)
    pen.rectangle((0, size * 2 // 3, canvas.width, size), fill=_COLOURS[(number + 3) % VARIANTS])
    left = (number * 37) % max(1, size)
    pen.ellipse((left, size // 6, left + size // 4, size // 6 + size // 4), fill="#fff3c4")
    out = io.BytesIO()
    canvas.save(out, kind)
    return out.getvalue()


def _text(number: int) -> bytes:
    return f"Note {number + 1}\n".encode()


def _pdf(number: int) -> bytes:
    """One page with one line (ISO 32000-1, 7.5)."""
    line = f"BT /F 18 Tf 40 100 Td (Page {number + 1}) Tj ET"
    parts = [
        "<</Type/Catalog/Pages 2 0 R>>",
        "<</Type/Pages/Kids[3 0 R]/Count 1>>",
        "<</Type/Page/Parent 2 0 R/MediaBox[0 0 300 200]/Contents 4 0 R"
        "/Resources<</Font<</F<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>>>>>>>",
        f"<</Length {len(line)}>>stream\n{line}\nendstream",
    ]
    out, places = "%PDF-1.4\n", []
    for at, part in enumerate(parts, 1):
        places.append(len(out))
        out += f"{at} 0 obj{part}endobj\n"
    table = "".join(f"{place:010} 00000 n \n" for place in places)
    start = len(out)
    out += f"xref\n0 5\n0000000000 65535 f \n{table}trailer<</Size 5/Root 1 0 R>>\n"
    return f"{out}startxref\n{start}\n%%EOF\n".encode()


def _zip(number: int) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        # A fixed date: the same bytes on every day.
        archive.writestr(zipfile.ZipInfo(f"note-{number + 1}.txt"), _text(number))
    return out.getvalue()


_WRITERS: dict[str, Callable[[int], bytes]] = {
    "pdf": _pdf,
    "zip": _zip,
    "csv": lambda n: f"name,number\nfirst,{n + 1}\n".encode(),
    "tsv": lambda n: f"name\tnumber\nfirst\t{n + 1}\n".encode(),
    "json": lambda n: json.dumps({"number": n + 1}).encode(),
    "xml": lambda n: f'<?xml version="1.0"?>\n<note number="{n + 1}"/>\n'.encode(),
    "svg": lambda n: (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 4 3">'
        f'<rect width="4" height="3" fill="{_COLOURS[n % VARIANTS]}"/></svg>\n'
    ).encode(),
    "html": lambda n: f"<!doctype html><title>Note {n + 1}</title>\n".encode(),
}
