"""Web addresses."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from .base import Array, Case, Control, Stream
from .formed import Formed

if TYPE_CHECKING:
    from ..schema.model import Field


@dataclass(frozen=True, eq=False)
class Url(Formed):
    word: ClassVar[str] = "url"
    longest: ClassVar[int] = 2000
    form: ClassVar[re.Pattern[str]] = re.compile(r"https?://[^\s/?#]+\S*", re.IGNORECASE)
    called: ClassVar[str] = "web address"
    example: ClassVar[str] = "https://example.org"

    def control(self, field: Field) -> Control:
        return Control("Url", {})

    def draw(self, field: Field, stream: Stream) -> Array:
        return stream.addresses(field)

    def cases(self, field: Field) -> list[Case]:
        return [
            Case('"https://example.org/hives?x=1"', True, "an address"),
            Case('"example.org"', False, "no scheme"),
            Case('"javascript:alert(1)"', False, "no web page"),
            Case('"https:// example.org"', False, "a space"),
        ]
