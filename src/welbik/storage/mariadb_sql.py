"""Expressions in MariaDB's words."""

from __future__ import annotations

from ..rules.patterns import Pattern, explicit, render
from ..rules.sql import Sql
from ..rules.tree import Apply, Held, Type
from .zones import offsets


class MariadbSql(Sql):
    """Expressions in MariaDB's words."""

    matching = "REGEXP"

    @staticmethod
    def form(pattern: Pattern) -> str:
        return rf"^(?:{render(explicit(pattern.tree))})\z"

    def cast(self, value: str, have: Type, wanted: Type) -> str:
        if wanted.name == "number":
            return f"CAST({value} AS DOUBLE)"
        if wanted.name == "decimal":
            return f"CAST({value} AS DECIMAL(38, {wanted.places}))"
        return value

    def round(self, value: str, node: Apply) -> str:
        places = int(node.operands[1].value)  # type: ignore[union-attr,arg-type]
        if node.operands[0].type.name == "number":
            return f"(floor(abs({value}) * 1e{places} + 0.5) / 1e{places} * sign({value}))"
        found = f"round({value}, {places})"
        return found if node.type.name == "decimal" else f"CAST({found} AS SIGNED)"

    def to_exact(self, value: str, places: int) -> str:
        whole = f"floor(abs({value}) * 1e{places} + 0.5) * sign({value})"
        whole = f"CAST({whole} AS DECIMAL(38, 0))"
        return f"CAST({whole} / {10**places} AS DECIMAL(38, {places}))" if places else whole

    def per(self, value: str, by: int) -> str:
        return f"({value} DIV {by})"

    def joined(self, first: str, second: str) -> str:
        return f"concat({first}, {second})"

    def length(self, value: str) -> str:
        return f"char_length({value})"

    def special(self, word: str, parts: list[str], node: Apply) -> str:
        first = parts[0]
        if word == "shift":
            return f"({first} + INTERVAL {parts[1]} DAY)"
        if word == "days_between":
            return f"datediff({first}, {parts[1]})"
        if word in ("year", "month", "day"):
            return f"extract({word} FROM {first})"
        if word == "local_date":
            return self._local_date(first)
        if word in ("least", "greatest"):
            return f"{word}({first}, {parts[1]})"
        if word == "trim":
            return f"NULLIF(trim(BOTH ' ' FROM {first}), '')"
        return _folded(word, first)

    def _local_date(self, moment: str) -> str:
        return f"CAST({self.as_local(moment)} AS DATE)"

    def _ahead(self, moment: str) -> str:
        """How many seconds the clocks of the site are ahead of UTC, at a UTC moment."""
        # The server knows no zones by name unless its keeper loaded them.
        changes, ahead = offsets(str(self.zone))
        seconds = f"timestampdiff(SECOND, TIMESTAMP '1970-01-01 00:00:00', {moment})"
        at = f"1 + interval({seconds}, {', '.join(map(str, changes))})" if changes else "1"
        return f"elt({at}, {', '.join(map(str, ahead))})"

    @classmethod
    def unheld(cls, how: Held, column: str) -> str:
        word, *numbers = how.type.split()
        if how.form == "seconds":
            moment = f"(TIMESTAMP '1970-01-01 00:00:00' + INTERVAL {column} SECOND)"
            return f"CAST({moment} AS DATE)" if word == "date" else moment
        if how.form == "iso":
            return column if word == "date" else f"CAST({column} AS DATETIME(6))"
        if how.form == "plain":
            return f"CAST({column} AS DECIMAL({numbers[0]}, {numbers[1]}))"
        if how.form == "dashed":
            return f"replace(CAST({column} AS CHAR), '-', '')"
        if how.form == "size":
            return f"octet_length({column})"
        if how.form == "digits":
            return f"bin({column} + 0)"
        if how.form == "told":
            return f"CAST({column} AS CHAR)"
        if how.form == "bits":
            return f"({column} <> 0)"
        return column if how.form in ("zoned", "padded") else super().unheld(how, column)

    def as_local(self, moment: str) -> str:
        return f"({moment} + INTERVAL {self._ahead(moment)} SECOND)"

    def as_utc(self, moment: str) -> str:
        # What the clocks say is first taken as if it were UTC: near enough but for some hours.
        near = f"({moment} - INTERVAL {self._ahead(moment)} SECOND)"
        return f"({moment} - INTERVAL {self._ahead(near)} SECOND)"

    def as_type(self, value: str, wanted: Type) -> str:
        if wanted.name == "other":
            return f"replace({value}, '-', '')"
        if wanted.name == "datetime":
            value = f"replace({value}, 'T', ' ')"
        names = {"integer": "SIGNED", "number": "DOUBLE", "date": "DATE", "time": "TIME(6)"}
        names |= {"datetime": "DATETIME(6)", "decimal": f"DECIMAL(38, {wanted.places})"}
        return f"CAST({value} AS {names[wanted.name]})"

    def plain_text(self, value: str, have: Type) -> str:
        text = f"CAST({value} AS CHAR)"
        if have.name != "number":
            return text
        # As the others write it: 1e+20.
        return f"replace(replace({text}, 'e', 'e+'), 'e+-', 'e-')"

    def clock_text(self, value: str, word: str) -> str:
        forms = {"date": "%Y-%m-%d", "time": "%H:%i:%s", "datetime": "%Y-%m-%d %H:%i:%s"}
        kind = "time" if word == "time" else "date"
        return f"{kind}_format({value}, '{forms[word]}')"


def _folded(word: str, value: str) -> str:
    """Small or capital letters, A to Z alone: its own would take other letters along."""
    for letter in "ABCDEFGHIJKLMNOPQRSTUVWXYZ":
        old, new = (letter, letter.lower()) if word == "lower" else (letter.lower(), letter)
        value = f"replace({value}, '{old}', '{new}')"
    return value
