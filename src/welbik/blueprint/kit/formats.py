"""Which kind of file some bytes are: by what such files begin with."""

from __future__ import annotations

from pathlib import Path

_ZIP = (b"PK\x03\x04", b"PK\x05\x06")
_OLE = (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1",)
_STARTS: dict[str, tuple[bytes, ...]] = {
    "png": (b"\x89PNG\r\n\x1a\n",),
    "gif": (b"GIF87a", b"GIF89a"),
    "bmp": (b"BM",),
    **dict.fromkeys(("jpg", "jpeg"), (b"\xff\xd8\xff",)),
    **dict.fromkeys(("tif", "tiff"), (b"II*\0", b"MM\0*")),
    **dict.fromkeys(("zip", "docx", "xlsx", "pptx", "odt", "ods", "odp", "epub"), _ZIP),
    **dict.fromkeys(("doc", "xls", "ppt"), _OLE),
    "gz": (b"\x1f\x8b",),
    "xz": (b"\xfd7zXZ",),
    "bz2": (b"BZh",),
    "7z": (b"7z\xbc\xaf",),
    "mp3": (b"ID3", b"\xff\xfb", b"\xff\xf3", b"\xff\xf2"),
    "ogg": (b"OggS",),
    "flac": (b"fLaC",),
    "rtf": (b"{\\rtf",),
    "webm": (b"\x1aE\xdf\xa3",),
}
# Files that begin with a size, or with another kind's name: where the mark stands, and what it is.
_MARKS = {
    "webp": (8, b"WEBP"),
    "wav": (8, b"WAVE"),
    "avi": (8, b"AVI "),
    "tar": (257, b"ustar"),
    **dict.fromkeys(("mp4", "m4a", "mov", "heic", "avif"), (4, b"ftyp")),
}
# A reader looks for it within the first kilobyte (ISO 32000-1, annex H, 3.4.1).
_PDF, _PDF_WITHIN = b"%PDF-", 1024
_TEXTS = {
    "txt",
    "csv",
    "tsv",
    "md",
    "json",
    "xml",
    "svg",
    "html",
    "css",
    "log",
    "ics",
    "vcf",
    "toml",
}
_LOOKED_AT = 1 << 16


def is_of(path: Path, suffix: str) -> bool:
    """Whether a file is what its suffix says; one that is not known here may be anything."""
    with path.open("rb") as file:
        start = file.read(_LOOKED_AT)
    if suffix in _STARTS:
        return start.startswith(_STARTS[suffix])
    if suffix in _MARKS:
        at, mark = _MARKS[suffix]
        return start[at : at + len(mark)] == mark
    if suffix == "pdf":
        return _PDF in start[:_PDF_WITHIN]
    return suffix not in _TEXTS or _is_text(start)


def _is_text(start: bytes) -> bool:
    if start.startswith((b"\xff\xfe", b"\xfe\xff")):
        return len(start) % 2 == 0 or len(start) == _LOOKED_AT
    # Old tables come in other encodings than UTF-8: only what no text holds tells.
    return not set(start) & {*range(9), *range(14, 27), *range(28, 32)}
