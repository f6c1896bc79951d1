"""Uploaded images."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Type
from .base import Control, Declared
from .file import File

_KNOWN = ("png", "jpeg", "gif", "webp")
"""What browsers show and what can be told by its first bytes."""


@dataclass(frozen=True, eq=False)
class Image(File):
    word: ClassVar[str] = "image"
    shown: ClassVar[str] = "image"

    @classmethod
    def read(cls, node: Type, report: Report) -> Image | None:
        for word in node.suffixes:
            if word.text.lower().replace("jpg", "jpeg") not in _KNOWN:
                report.add(
                    "unknown-suffix",
                    f"{word.text!r} is no image that browsers show",
                    word.span,
                    f"known are {', '.join(_KNOWN)}",
                )
        found = super().read(node, report)
        return found if isinstance(found, Image) else None

    def control(self, field: Declared) -> Control:
        return Control("attachments.Image", super().control(field).arguments)
