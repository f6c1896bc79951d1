"""Telephone numbers, as people write them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from .base import Array, Case, Control, Declared, Stream
from .formed import Formed


@dataclass(frozen=True, eq=False)
class Phone(Formed):
    word: ClassVar[str] = "phone"
    shortest: ClassVar[int] = 3
    longest: ClassVar[int] = 40
    # Digits with what people put between them; ITU-T E.164 has 15 digits at most.
    form: ClassVar[re.Pattern[str]] = re.compile(r"\+?[0-9(][0-9 ()./-]*( ?(x|ext\.?) ?[0-9]+)?")
    called: ClassVar[str] = "telephone number"
    example: ClassVar[str] = "+44 1632 960123"

    def control(self, field: Declared) -> Control:
        return Control("Phone", {})

    def draw(self, field: Declared, stream: Stream) -> Array:
        return stream.phones()

    def cases(self, field: Declared) -> list[Case]:
        return [
            Case('"+44 1632 960123"', True, "a number"),
            Case('"(01632) 960-124 ext. 7"', True, "with an extension"),
            Case('"call me"', False, "no digits"),
            Case('"12"', False, "too few digits"),
        ]
