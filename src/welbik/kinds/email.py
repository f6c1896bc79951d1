"""E-mail addresses, in the form that HTML's own check takes."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from .base import Array, Case, Control, Stream
from .formed import Formed

if TYPE_CHECKING:
    from ..schema.model import Field


@dataclass(frozen=True, eq=False)
class Email(Formed):
    word: ClassVar[str] = "email"
    shortest: ClassVar[int] = 3
    # RFC 5321, section 4.5.3.1.3: a path of 256 octets less its brackets.
    longest: ClassVar[int] = 254
    form: ClassVar[re.Pattern[str]] = re.compile(r"[^@]*@[^@]*")
    called: ClassVar[str] = "e-mail address"
    example: ClassVar[str] = "name@example.org"

    def control(self, field: Field) -> Control:
        return Control("Email", {})

    def draw(self, field: Field, stream: Stream) -> Array:
        return stream.emails(field, self.longest)

    def cases(self, field: Field) -> list[Case]:
        return [
            Case('"a@example.org"', True, "an address"),
            Case('"nobody"', False, "no @"),
            Case('"a@b@example.org"', False, "two @"),
            Case('"a b@example.org"', False, "a space"),
        ]
