"""Uploaded images."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from ..language.diagnostics import Report
from ..language.syntax import Type
from .base import Control
from .file import File

if TYPE_CHECKING:
    from ..schema.model import Field

_KNOWN = ("png", "jpeg", "gif", "webp")
"""What browsers show and what can be told by its first bytes."""


@dataclass(frozen=True, eq=False)
class Image(File):
    word: ClassVar[str] = "image"

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

    def control(self, field: Field) -> Control:
        return Control("attachments.Image", super().control(field).arguments)
