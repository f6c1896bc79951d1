"""What is stored as `sample` clauses, so that made-up rows look like it.

Of texts only lengths are taken, and of choices how often each is there: no value of a text is taken
over. Skewed amounts become a log-normal distribution by the method of moments: with mean m and
deviation s, its median is m / sqrt(1 + s²/m²) and its spread factor exp(sqrt(ln(1 + s²/m²))).
"""

from __future__ import annotations

import datetime as dt
import math
import re
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any

from ..rules.sql import quote, text
from ..storage.backend import Database
from .drafts import Draft, Line, whole
from .tables import Adoption, choices_of

_MOST = 1_000_000
"""Rows of a table that are looked at."""
_WORD, _SENTENCE = 6, 10
"""Letters of a word with the blank behind it, and words of a sentence."""
_FEW = 5
"""Rows that say nothing of a distribution."""

Read = Callable[[Sequence[Any]], list[str]]


def profile(database: Database, work: Adoption) -> dict[str, int]:
    """Adds the `sample` clauses; how many rows each model has. Each table is read once, and the
    keys of its relations besides."""
    counts = {}
    for name, draft in work.drafts.items():
        if work.tables[name].view or draft.reads_only:
            continue
        with database.asking() as take_back:
            try:
                counts[draft.name] = _of_table(database, work, draft)
            except database.errors as error:
                take_back()
                told = f"its rows give no samples: {whole(database.told(error), 120)}"
                work.note(name, "", told, "they are made up as any others")
    return counts


def _of_table(database: Database, work: Adoption, draft: Draft) -> int:
    asked: list[str] = ["count(*)"]
    readers: list[tuple[Line, int, int, Read]] = []
    lines = [line for line in draft.lines if line.column and not line.says("set by database")]
    for line in lines:
        wanted, read = _wanted(database, line)
        if wanted:
            readers.append((line, len(asked), len(wanted), read))
            asked += wanted
    if not lines:
        return database.count(draft.table)
    listed = ", ".join(quote(line.column) for line in lines)
    found: list[Any] = []
    # Each database takes only so many results of a query.
    for start in range(0, len(asked), 500):
        some = asked[start : start + 500]
        (row,) = database.run(
            f"SELECT {', '.join(some)} FROM "
            f"(SELECT {listed} FROM {quote(draft.table)} LIMIT {_MOST}) AS some_rows"
        )
        found += row
    count = int(found[0])
    if count >= _FEW:
        for line, at, width, read in readers:
            _say(line, read([count, *found[at : at + width]]))
        for line in lines:
            if line.target in work.drafts:
                _fan_out(database, work, draft, line)
    return int(database.count(draft.table))


def _say(line: Line, terms: list[str]) -> None:
    if terms and not line.says("unique"):
        line.modifiers.append(f"sample {' and '.join(terms)}")


def _wanted(database: Database, line: Line) -> tuple[list[str], Read]:
    """What is asked of a column, and what makes terms of the answers."""
    name, word = _given(line), line.type.split()[0]
    if line.target:
        return [f"count({name})"], lambda row: _empties(row[0], row[1], line)
    plain = not (line.says("stored as") and _is_odd(line))
    if word == "one":
        values = choices_of(line.type)
        counted = [
            f"sum(CASE WHEN {quote(line.column)} = {text(v)} THEN 1 ELSE 0 END)" for v in values
        ]
        return [f"count({name})", *counted], lambda row: _weights(row, line)
    if word in ("integer", "decimal", "number") and plain:
        told = f"({name} * 1.0)"
        asked = [f"count({name})", f"avg({told})", f"avg({told} * {told})", f"min({name})"]
        return asked, lambda row: _amount(row, line)
    if word in ("date", "datetime") and plain:
        return [f"count({name})", f"min({name})"], lambda row: _since(row, line)
    if line.type == "text":
        length = database.ddl.length(name)
        asked = [f"count({name})", f"avg({length})"]
        return asked, lambda row: _words(row, line)
    truth = _truth(line) if word == "boolean" else ""
    if truth:
        yes = f"sum(CASE WHEN {truth} THEN 1 ELSE 0 END)"
        return [f"count({name})", yes], lambda row: _truths(row, line)
    return [f"count({name})"], lambda row: _empties(row[0], row[1], line)


def _words(row: Sequence[Any], line: Line) -> list[str]:
    """About as long as what is there: some words, or sentences."""
    count, given, length = row
    empty = _empties(count, given, line)
    if length is None:
        return empty
    words = max(1, round(float(length) / _WORD))
    if words > _SENTENCE and not line.says("as text"):
        return [f"sentences(1..{max(2, round(2 * words / _SENTENCE))})", *empty]
    return [f"words({max(1, words // 2)}..{max(2, words * 3 // 2)})", *empty]


def _truth(line: Line) -> str:
    """A column as a condition that it says yes; empty where only its database knows how."""
    column, told = quote(line.column), " ".join(line.modifiers)
    pair = re.search(r' with "([^"]*)" \|', told)
    if pair:
        return f"{column} = {text(pair[1])}"
    native = re.search(r' of "(\w+)', told)
    if native and native[1].lower() == "bit":
        return ""
    return f"{column} <> 0" if native else column


def _truths(row: Sequence[Any], line: Line) -> list[str]:
    count, given, yes = row
    empty = _empties(count, given, line)
    share = round(100 * int(yes or 0) / int(given)) if given else 0
    return [f"weights({share}, {100 - share})", *empty] if given else empty


def _given(line: Line) -> str:
    """A column without what stands for nothing in it."""
    for modifier in line.modifiers:
        if modifier.startswith("empty stored as "):
            stands = modifier.removeprefix("empty stored as ").strip('"')
            shown = (
                stands
                if re.fullmatch(r"-?\d+", stands) and line.type[:4] != "text"
                else text(stands)
            )
            return f"NULLIF({quote(line.column)}, {shown})"
    return quote(line.column)


def _is_odd(line: Line) -> bool:
    """Whether its values are not what its type says, as the database holds them."""
    return line.type.startswith(("date", "datetime")) and any(
        re.search(r" of \"(big|small|tiny)?int", m, re.IGNORECASE) for m in line.modifiers
    )


def _empties(count: int, given: Any, line: Line) -> list[str]:
    share = round(100 * (1 - int(given) / count))
    return [f"{share}% empty"] if 0 < share < 100 and not line.says("required") else []


def _weights(row: Sequence[Any], line: Line) -> list[str]:
    count, given, *each = row
    total = sum(int(n or 0) for n in each)
    empty = _empties(count, given, line)
    if not total:
        return empty
    shares = [max(0, round(100 * int(n or 0) / total)) for n in each]
    return [f"weights({', '.join(map(str, shares))})", *empty] if any(shares) else empty


def _amount(row: Sequence[Any], line: Line) -> list[str]:
    count, given, mean, square, least = row
    empty = _empties(count, given, line)
    if mean is None or int(given) < _FEW:
        return empty
    middle = float(mean)
    spread = math.sqrt(max(0.0, float(square) - middle * middle))
    if spread <= 0:
        return empty
    if least is not None and Decimal(str(least)) >= 0 and spread > middle / 2 and middle > 0:
        ratio = 1 + (spread / middle) ** 2
        median, factor = middle / math.sqrt(ratio), math.exp(math.sqrt(math.log(ratio)))
        return [f"lognormal({_short(median)}, {_short(max(factor, 1.01))})", *empty]
    return [f"normal({_short(middle)}, {_short(spread)})", *empty]


def _short(value: float) -> str:
    """A number with three digits that count, without an exponent."""
    digits = 2 - math.floor(math.log10(abs(value))) if value else 0
    shown = f"{round(value, digits):.{max(0, digits)}f}"
    return shown.rstrip("0").rstrip(".") if "." in shown else shown


def _since(row: Sequence[Any], line: Line) -> list[str]:
    count, given, least = row
    empty = _empties(count, given, line)
    try:
        first = dt.date.fromisoformat(str(least)[:10])
    except ValueError:
        return empty
    days = (dt.date.today() - first).days
    return [f"within({days} days)", *empty] if 0 < days < 40_000 else empty


def _fan_out(database: Database, work: Adoption, draft: Draft, line: Line) -> None:
    """How many rows lead to one: from the fewest to the most."""
    column, table = quote(line.column), quote(draft.table)
    ((least, most, parents),) = database.run(
        f"SELECT min(n), max(n), count(*) FROM (SELECT count(*) AS n FROM {table} "
        f"WHERE {column} IS NOT NULL GROUP BY {column}) AS counted"
    )
    if not parents or line.says("unique") or line.target == draft.table:
        return
    there = database.count(line.target)
    least = int(least) if int(parents) >= there else 0
    said = f"{least}..{int(most)} per {line.name}"
    at = next((n for n, m in enumerate(line.modifiers) if m.startswith("sample ")), None)
    if at is None:
        line.modifiers.append(f"sample {said}")
    else:
        line.modifiers[at] += f" and {said}"
