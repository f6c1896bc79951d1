"""E-mail addresses, in the form that HTML's own check takes."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from .base import Array, Case, Control, Declared, Stream
from .formed import Formed


@dataclass(frozen=True, eq=False)
class Email(Formed):
    word: ClassVar[str] = "email"
    tells_people: ClassVar[bool] = True
    schema_format: ClassVar[str] = "email"
    shortest: ClassVar[int] = 3
    # RFC 5321, section 4.5.3.1.3: a path of 256 octets less its brackets.
    longest: ClassVar[int] = 254
    form: ClassVar[re.Pattern[str]] = re.compile(r"[^@]*@[^@]*")
    called: ClassVar[str] = "e-mail address"
    example: ClassVar[str] = "name@example.org"

    def control(self, field: Declared) -> Control:
        return Control("Email", {})

    def draw(self, field: Declared, stream: Stream) -> Array:
        return stream.emails()

    def cases(self, field: Declared) -> list[Case]:
        return [
            Case('"a@example.org"', True, "an address"),
            Case('"nobody"', False, "no @"),
            Case('"a@b@example.org"', False, "two @"),
            Case('"a b@example.org"', False, "a space"),
        ]
