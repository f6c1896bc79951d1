"""Web addresses."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from .base import Array, Case, Control, Declared, Stream
from .formed import Formed


@dataclass(frozen=True, eq=False)
class Url(Formed):
    word: ClassVar[str] = "url"
    shown: ClassVar[str] = "link"
    schema_format: ClassVar[str] = "uri"
    longest: ClassVar[int] = 2000
    form: ClassVar[re.Pattern[str]] = re.compile(r"https?://[^\s/?#]+\S*", re.IGNORECASE)
    called: ClassVar[str] = "web address"
    example: ClassVar[str] = "https://example.org"

    def control(self, field: Declared) -> Control:
        return Control("Url", {})

    def draw(self, field: Declared, stream: Stream) -> Array:
        return stream.addresses()

    def cases(self, field: Declared) -> list[Case]:
        return [
            Case('"https://example.org/hives?x=1"', True, "an address"),
            Case('"example.org"', False, "no scheme"),
            Case('"javascript:alert(1)"', False, "no web page"),
            Case('"https:// example.org"', False, "a space"),
        ]
