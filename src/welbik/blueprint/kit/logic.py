"""Arithmetic as databases do it: nothing in, nothing out, and no error for a zero."""

from __future__ import annotations

import math
from collections.abc import Iterable
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

# Letters beyond A-Z stay as they are: databases disagree about those.
_LARGE, _SMALL = "ABCDEFGHIJKLMNOPQRSTUVWXYZ", "abcdefghijklmnopqrstuvwxyz"
_TO_LOWER = str.maketrans(_LARGE, _SMALL)
_TO_UPPER = str.maketrans(_SMALL, _LARGE)


def divide(value: Any, by: Any) -> float | None:
    """A quotient as a floating point number; dividing by zero gives nothing."""
    return value / by if by else None


def round(value: Any, places: int) -> Any:
    """Half away from zero; a decimal stays exact."""
    if isinstance(value, Decimal):
        exact = value.quantize(Decimal(1).scaleb(-places), ROUND_HALF_UP)
        return exact if places else int(exact)
    scale = 10.0**places
    return math.copysign(math.floor(abs(value) * scale + 0.5) / scale, value)


def to_exact(value: float, places: int) -> Decimal:
    """A floating point number as a decimal of so many places, half away from zero."""
    whole = math.floor(abs(value) * 10.0**places + 0.5)
    return Decimal(int(math.copysign(whole, value))).scaleb(-places)


def lower(text: str) -> str:
    return text.translate(_TO_LOWER)


def upper(text: str) -> str:
    return text.translate(_TO_UPPER)


def total(values: Iterable[Any]) -> Any:
    """The sum of those that are there; nothing where none is."""
    there = [value for value in values if value is not None]
    return sum(there[1:], there[0]) if there else None


def mean(values: Iterable[Any]) -> float | None:
    there = [value for value in values if value is not None]
    return float(sum(there)) / len(there) if there else None


def minimum(values: Iterable[Any]) -> Any:
    return min((value for value in values if value is not None), default=None)


def maximum(values: Iterable[Any]) -> Any:
    return max((value for value in values if value is not None), default=None)
