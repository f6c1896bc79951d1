"""Expressions in SQLite's words."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

from ..rules.patterns import Pattern
from ..rules.sql import Sql, text
from ..rules.tree import Apply, Held, Type


class SqliteSql(Sql):
    """Expressions in SQLite's words.

    `matches` and moments beside dates need the functions `regexp` and `local_date`, which a
    connection registers (`ready` and the application's kit do).
    """

    matching = "REGEXP"

    def boolean(self, value: bool) -> str:
        return "1" if value else "0"

    def exact(self, value: Decimal, places: int) -> str:
        scaled = int(value.scaleb(places))
        return f"({scaled})" if scaled < 0 else str(scaled)

    def day(self, value: dt.date) -> str:
        return text(value.isoformat())

    def time(self, value: dt.time) -> str:
        return text(value.strftime("%H:%M:%S.%f"))

    def moment(self, value: dt.datetime) -> str:
        return text(value.isoformat(" ", "microseconds"))

    @staticmethod
    def form(pattern: Pattern) -> str:
        return pattern.text

    def cast(self, value: str, have: Type, wanted: Type) -> str:
        if wanted.name == "number":
            if have.name == "decimal":
                return f"(CAST({value} AS REAL) / 1e{have.places})"
            return value if have.name == "number" else f"CAST({value} AS REAL)"
        places = wanted.places - have.places
        return f"({value} * {10**places})" if places else value

    def round(self, value: str, node: Apply) -> str:
        places = int(node.operands[1].value)  # type: ignore[union-attr,arg-type]
        have = node.operands[0].type
        if have.name == "number":
            scaled = f"CAST(abs({value}) * 1e{places} + 0.5 AS INTEGER) / 1e{places}"
            return f"(CASE WHEN {value} < 0 THEN - {scaled} ELSE {scaled} END)"
        step = 10 ** (have.places - places)
        whole = f"(abs({value}) + {step // 2}) / {step}"
        return f"(CASE WHEN {value} < 0 THEN - ({whole}) ELSE {whole} END)"

    def to_exact(self, value: str, places: int) -> str:
        whole = f"CAST(abs({value}) * 1e{places} + 0.5 AS INTEGER)"
        return f"(CASE WHEN {value} < 0 THEN - {whole} ELSE {whole} END)"

    def divided(self, value: str, by: str) -> str:
        return f"({value} / {by})"

    def special(self, word: str, parts: list[str], node: Apply) -> str:
        first = parts[0]
        if word == "shift":
            days = f"({parts[1]} || ' days')"
            if node.type.name == "date":
                return f"date({first}, {days})"
            return f"(strftime('%Y-%m-%d %H:%M:%S', {first}, {days}) || substr({first}, 20))"
        if word == "days_between":
            return f"CAST(julianday({first}) - julianday({parts[1]}) AS INTEGER)"
        if word in ("year", "month", "day"):
            letter = {"year": "%Y", "month": "%m", "day": "%d"}[word]
            return f"CAST(strftime('{letter}', {first}) AS INTEGER)"
        if word in ("least", "greatest"):
            return f"{'min' if word == 'least' else 'max'}({first}, {parts[1]})"
        if word == "trim":
            return f"NULLIF(trim({first}, ' '), '')"
        return f"{word}({first})"

    def as_type(self, value: str, wanted: Type) -> str:
        if wanted.name == "integer":
            return f"CAST({value} AS INTEGER)"
        if wanted.name == "number":
            return f"CAST({value} AS REAL)"
        if wanted.name == "decimal":
            return self.to_exact(f"CAST({value} AS REAL)", wanted.places)
        if wanted.name == "datetime":
            whole = f"substr(replace({value}, 'T', ' ') || ' 00:00', 1, 26)"
            begin, end = f"substr({whole}, 1, 10)", f"trim(substr({value}, 12))"
            return f"({begin} || ' ' || {self._clock(end)})"
        if wanted.name == "time":
            return self._clock(value)
        return f"replace({value}, '-', '')" if wanted.name == "other" else value

    @staticmethod
    def _clock(value: str) -> str:
        return f"(substr({value} || substr('00:00:00.000000', length({value}) + 1), 1, 15))"

    def plain_text(self, value: str, have: Type) -> str:
        if have.name == "number":
            # The fewest digits that stand for no other number; whole ones without a point.
            short = " ".join(
                f"WHEN CAST(printf('%.{n}g', {value}) AS REAL) = {value} THEN printf('%.{n}g', {value})"
                for n in (15, 16)
            )
            return (
                f"(CASE WHEN {value} IS NULL THEN NULL {short} ELSE printf('%!.17g', {value}) END)"
            )
        if not have.places:
            return f"CAST({value} AS TEXT)"
        zeros, step = "0" * have.places, 10**have.places
        tail = f"substr('{zeros}' || abs({value}) % {step}, -{have.places})"
        return f"((CASE WHEN {value} < 0 THEN '-' ELSE '' END) || abs({value}) / {step} || '.' || {tail})"

    def clock_text(self, value: str, word: str) -> str:
        return f"substr({value}, 1, {({'date': 10, 'time': 8, 'datetime': 19})[word]})"

    @classmethod
    def unheld(cls, how: Held, column: str) -> str:
        word, *numbers = how.type.split()
        if how.form == "seconds" and word == "date":
            return f"date({column}, 'unixepoch')"
        if how.form == "seconds":
            return f"(datetime({column}, 'unixepoch') || '.000000')"
        if how.form == "iso":
            moment = f"(strftime('%Y-%m-%d %H:%M:%f', {column}) || '000')"
            return f"date({column})" if word == "date" else moment
        if how.form == "plain":
            return f"CAST(round({column} * {10 ** int(numbers[1])}) AS INTEGER)"
        if how.form == "dashed":
            return f"lower(replace({column}, '-', ''))"
        if how.form == "size":
            return f"length(CAST({column} AS BLOB))"
        if how.form in ("told", "padded", "digits"):
            return f"CAST({column} AS TEXT)"
        return column if how.form in ("bits", "zoned") else super().unheld(how, column)

    def as_utc(self, moment: str) -> str:
        return f"utc_moment({moment})"

    def as_local(self, moment: str) -> str:
        return f"local_moment({moment})"
