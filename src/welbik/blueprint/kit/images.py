"""Images as they are kept: told by their structure, measured, and without what they tell besides.

A photo tells where and by whom it was taken. Only its pixels are kept, its colours, and which way
up it is: segment by segment, so that no pixel changes.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Iterator
from typing import NamedTuple

MOST_PIXELS = 50_000_000
_PNG = b"\x89PNG\r\n\x1a\n"
_PNG_TOLD = {b"eXIf", b"tEXt", b"iTXt", b"zTXt", b"tIME"}
_GIF_KEPT = (b"NETSCAPE2.0", b"ANIMEXTS1.0")
# Markers of ITU T.81, table B.1: frames tell the size, and these stand without a length.
_FRAMES = {*range(0xC0, 0xD0)} - {0xC4, 0xC8, 0xCC}
_ALONE = {0x01, *range(0xD0, 0xD8)}
_ORIENTATION = 0x0112
_EXIF = b"Exif\0\0"


class Image(NamedTuple):
    """The type of an image, its size in pixels, and the bytes that are kept of it."""

    type: str
    width: int
    height: int
    data: bytes


def read(data: bytes) -> Image:
    """An image out of its bytes; ValueError where they are none that browsers show, or not whole."""
    for start, reader in _READERS.items():
        if data.startswith(start):
            try:
                return reader(data)
            except (IndexError, struct.error):
                break
    raise ValueError("no image")


def _png(data: bytes) -> Image:
    """PNG (ISO 15948): chunks up to the end, less those of texts and places."""
    if data[12:16] != b"IHDR":
        raise ValueError("no header")
    width, height = struct.unpack(">II", data[16:24])
    kept, at = bytearray(_PNG), len(_PNG)
    while True:
        (size,) = struct.unpack(">I", data[at : at + 4])
        name, end = data[at + 4 : at + 8], at + 12 + size
        if end > len(data):
            raise ValueError("not whole")
        if name not in _PNG_TOLD:
            kept += data[at:end]
        if name == b"IEND":
            return Image("png", width, height, bytes(kept))
        at = end


def _jpeg(data: bytes) -> Image:
    """JPEG (ITU T.81): segments up to the end of the image, less what applications add."""
    width = height = turned = 0
    kept = bytearray()
    for marker, whole in _segments(data):
        body = whole[4:]
        if marker in _FRAMES:
            height, width = struct.unpack(">HH", body[1:5])
        if marker == 0xE1 and body.startswith(_EXIF):
            turned = turned or _orientation(body[len(_EXIF) :])
        colours = marker in (0xE0, 0xEE) or (
            marker == 0xE2 and body.startswith(b"ICC_PROFILE")
        )
        if colours or not (0xE0 <= marker <= 0xEF or marker == 0xFE):
            kept += whole
    if not width:
        raise ValueError("no frame")
    return Image(
        "jpeg", width, height, b"\xff\xd8" + _turned(turned) + bytes(kept) + b"\xff\xd9"
    )


def _segments(data: bytes) -> Iterator[tuple[int, bytes]]:
    """The segments between start and end, each with the coded data behind it."""
    at = 2
    while True:
        if data[at] != 0xFF:
            raise ValueError("no marker")
        marker = data[at + 1]
        if marker == 0xD9:
            return
        if marker == 0xFF:
            at += 1
            continue
        size = 0 if marker in _ALONE else struct.unpack(">H", data[at + 2 : at + 4])[0]
        end = at + 2 + size
        if marker == 0xDA:
            # Coded data has no marker in it, but for restarts and stuffed bytes.
            found = _NEXT_MARKER.search(data, end)
            if found is None:
                raise ValueError("not whole")
            end = found.start()
        if end > len(data):
            raise ValueError("not whole")
        yield marker, data[at:end]
        at = end


def _orientation(tiff: bytes) -> int:
    """Which way up a photo is, as EXIF has it (1 to 8); 0 where it does not say."""
    order = {b"II": "<", b"MM": ">"}.get(tiff[:2])
    if order is None:
        return 0
    try:
        (start,) = struct.unpack(f"{order}I", tiff[4:8])
        (count,) = struct.unpack(f"{order}H", tiff[start : start + 2])
        for number in range(count):
            at = start + 2 + 12 * number
            tag, _, _, value = struct.unpack(f"{order}HHIH", tiff[at : at + 10])
            if tag == _ORIENTATION:
                return int(value) if 1 <= value <= 8 else 0
    except struct.error:
        pass
    return 0


def _turned(orientation: int) -> bytes:
    """A segment that says which way up and nothing else; none for an upright photo."""
    if orientation < 2:
        return b""
    entry = struct.pack(">HHIHH", _ORIENTATION, 3, 1, orientation, 0)
    body = _EXIF + b"MM\0*" + struct.pack(">IH", 8, 1) + entry + bytes(4)
    return struct.pack(">HH", 0xFFE1, len(body) + 2) + body


def _gif(data: bytes) -> Image:
    """GIF (89a): blocks up to the trailer, less comments and what applications add.

    Its size is that of the canvas and of all frames.
    """
    width, height, packed = struct.unpack("<HHB", data[6:11])
    at = 13 + _table(packed)
    kept = bytearray(data[:at])
    while data[at] != 0x3B:
        start, label = at, data[at + 1]
        if data[at] == 0x21:
            at = _past_blocks(data, at + 2)
            told = label == 0xFE or (
                label == 0xFF and data[start + 3 : start + 14] not in _GIF_KEPT
            )
        elif data[at] == 0x2C:
            left, top, wide, tall = struct.unpack("<4H", data[at + 1 : at + 9])
            # A frame beyond the canvas would make it larger.
            width, height = max(width, left + wide), max(height, top + tall)
            at = _past_blocks(data, at + 11 + _table(data[at + 9]))
            told = False
        else:
            raise ValueError("no block")
        if not told:
            kept += data[start:at]
    return Image("gif", width, height, bytes(kept) + b"\x3b")


def _table(packed: int) -> int:
    """The bytes of a colour table."""
    return 3 << (packed & 7) + 1 if packed & 0x80 else 0


def _past_blocks(data: bytes, at: int) -> int:
    while data[at]:
        at += data[at] + 1
    return at + 1


def _webp(data: bytes) -> Image:
    """WebP (RFC 9649): chunks of a RIFF file, less those of texts and places."""
    if data[8:12] != b"WEBP":
        raise ValueError("another RIFF file")
    (size,) = struct.unpack("<I", data[4:8])
    if size + 8 > len(data):
        raise ValueError("not whole")
    width = height = 0
    kept, at = bytearray(b"WEBP"), 12
    while at < size + 8:
        name = data[at : at + 4]
        (length,) = struct.unpack("<I", data[at + 4 : at + 8])
        body, end = data[at + 8 : at + 8 + length], at + 8 + length + length % 2
        if not width:
            width, height = _webp_size(name, body)
        if name == b"VP8X":
            body = bytes([body[0] & ~0x0C]) + body[1:]
        if name not in (b"EXIF", b"XMP "):
            kept += data[at : at + 8] + body + bytes(length % 2)
        at = end
    if not width:
        raise ValueError("no frame")
    return Image(
        "webp", width, height, b"RIFF" + struct.pack("<I", len(kept)) + bytes(kept)
    )


def _webp_size(name: bytes, body: bytes) -> tuple[int, int]:
    if name == b"VP8X":
        return 1 + int.from_bytes(body[4:7], "little"), 1 + int.from_bytes(
            body[7:10], "little"
        )
    if name == b"VP8L":
        bits = int.from_bytes(body[1:5], "little")
        return 1 + (bits & 0x3FFF), 1 + (bits >> 14 & 0x3FFF)
    if name == b"VP8 ":
        width, height = struct.unpack("<HH", body[6:10])
        return width & 0x3FFF, height & 0x3FFF
    return 0, 0


_NEXT_MARKER = re.compile(rb"\xff[^\x00\xd0-\xd7]", re.DOTALL)
_READERS = {
    _PNG: _png,
    b"\xff\xd8\xff": _jpeg,
    b"GIF87a": _gif,
    b"GIF89a": _gif,
    b"RIFF": _webp,
}
