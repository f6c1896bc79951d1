"""What stored rows have otherwise than declarations say of made-up ones, in words."""

from __future__ import annotations

import math
from collections.abc import Iterator

from .measures import Measured, Table, near_ends

_POINTS = 0.02


def judge(table: Table) -> None:
    """Writes a table's remarks: what stands out, what differs from what is declared."""
    found: list[str] = []
    if table.declared is not None and table.rows != table.declared:
        found.append(f"{table.rows:,} rows, {table.declared:,} are declared")
    for member in table.members:
        found += _member(member, table.rows)
    for rule in table.rules:
        if rule.of and rule.at_edge / rule.of > 0.25:
            found.append(f"{_percent(rule.at_edge / rule.of)} only just keep: {rule.rule}")
    table.remarks = found


def _member(member: Measured, rows: int) -> Iterator[str]:
    share = member.empty / rows
    declared = member.declared_empty
    if declared is not None and _differs(share, declared, rows):
        yield f"{member.name} is empty in {_percent(share)}, {_percent(declared)} are declared"
    elif declared is None and member.empty == rows:
        yield f"{member.name} is never given"
    total = sum(member.counts.values())
    for label, expected in member.declared_counts.items():
        stored = member.counts.get(label, 0) / max(total, 1)
        if _differs(stored, expected, total):
            yield f"{member.name} is {label} in {_percent(stored)}, {_percent(expected)} are declared"
    if member.counts and not member.fan_out and not member.kind.startswith("to "):
        never = [label for label, count in member.counts.items() if not count]
        if never and total > 50:
            yield f"{member.name} is never {', '.join(never)}"
    if member.fan_out is not None:
        low, high = member.fan_out
        outside = sum(
            parents
            for n, parents in member.counts.items()
            if int(n) < low or high is not None and int(n) > high
        )
        if outside:
            told = f"{low}..{high}"
            yield f"{outside:,} {member.kind.removeprefix('to ')} have another number by {member.name} than {told}"
    for end in near_ends(member):
        yield f"{member.name} comes nowhere near its {'lowest' if end == 'low' else 'highest'} value"
    if member.odd:
        yield f"{member.name} has {member.odd:,} odd values far from all others, in the sample"


def _differs(share: float, declared: float, rows: int) -> bool:
    """By more than two points, and by more than chance has it: three standard errors."""
    error = math.sqrt(max(declared * (1 - declared), 1e-9) / max(rows, 1))
    return abs(share - declared) > max(_POINTS, 3 * error)


def _percent(share: float) -> str:
    return f"{100 * share:.0f}%" if share >= 0.1 or share == 0 else f"{100 * share:.1f}%"
