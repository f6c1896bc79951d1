"""What stored rows are like: counts and ends by the database, the rest from a bounded sample."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..data.columns import Here
from ..data.drawer import Drawer
from ..data.memory import Memory
from ..data.samples import empty_share, law_of
from ..data.spreads import Bell, Spread
from ..rules.sql import quote, text
from ..rules.tree import BOOLEAN, Apply, Value, plain
from ..schema.entries import REMOVED
from ..schema.model import Field, Model, Reference, Schema
from ..schema.tables import SchemaNames
from ..storage.backend import Database
from ..storage.neutral import decode
from ..storage.tables import tables_of

SAMPLE = 20_000
"""So many rows of each model are looked at one by one."""
_CHOICES = 40
_NEAR = 0.02
"""A bound is near where a value lies within this part of the whole range of it."""
_UNUSUAL = 6.0
"""So many deviations from the middle make a value an odd one."""
_TEXTS = 5


@dataclass
class Measured:
    """One field or relation as it is stored.

    `low`, `high` and `mean` are in the units of its column (days for dates, seconds for moments,
    the smallest place of decimals); `sample` some of its values in these. `counts` are by choice, or
    how many parents have so many rows. `declared_empty` is a share, None where nothing is declared.
    """

    name: str
    kind: str
    empty: int = 0
    declared_empty: float | None = None
    low: float | None = None
    high: float | None = None
    mean: float | None = None
    places: int = 0
    counts: dict[str, int] = field(default_factory=dict)
    declared_counts: dict[str, float] = field(default_factory=dict)
    lengths: tuple[int, int] | None = None
    bounds: tuple[float | None, float | None] = (None, None)
    fan_out: tuple[int, int | None] | None = None
    depths: list[int] = field(default_factory=list)
    odd: int = 0
    texts: list[tuple[str, int]] = field(default_factory=list)
    sample: NDArray[np.float64] | None = None
    spread: Spread | None = None


@dataclass
class Tight:
    """A rule, and how many of the rows that were looked at only just keep it."""

    rule: str
    at_edge: int
    of: int


@dataclass
class Table:
    """All that was measured of a model."""

    model: str
    title: str
    rows: int
    made_up: int
    in_bin: int
    declared: int | None
    members: list[Measured] = field(default_factory=list)
    rules: list[Tight] = field(default_factory=list)
    remarks: list[str] = field(default_factory=list)


class Measuring:
    """Measures the rows of a schema in a database.

    No text of a row is read, save with `values`.
    """

    def __init__(
        self,
        database: Database,
        schema: Schema,
        here: Here,
        *,
        values: bool = False,
    ) -> None:
        self.database, self.schema, self.here = database, schema, here
        self.values = values
        self.names = SchemaNames(schema)
        database.prepare(tables_of(schema), here.timezone)
        self.memory = Memory(database)
        self.drawer = Drawer(schema, 1, here.timezone)

    def table(self, model: Model) -> Table:
        live = self._live(model)
        rows = self._one(f"SELECT count(*) FROM {quote(model.table)}{live}")
        found = Table(
            model.name,
            model.plural[:1].upper() + model.plural[1:],
            rows,
            sum(run.size for run in self.memory.runs.get(model.table, ())),
            self.database.count(model.table) - rows,
            self.schema.seed.get(model.name),
        )
        if rows:
            sample = self._sample(model, rows)
            found.members = self._members(model, rows, sample)
            found.rules = list(self._rules(model, rows))
        return found

    def _one(self, statement: str) -> int:
        return int(self.database.run(statement)[0][0] or 0)

    def _live(self, model: Model) -> str:
        return f" WHERE {quote(REMOVED)} IS NULL" if "bin" in model.keeps else ""

    def _also(self, model: Model, condition: str) -> str:
        """A condition beside that rows are not in the bin."""
        live = self._live(model)
        return f"{live} AND {condition}" if live else f" WHERE {condition}"

    def _ordered(self, member: Field | Reference) -> bool:
        return isinstance(member, Field) and member.kind.value_type().name in (
            *("integer", "decimal", "number", "date", "datetime", "time", "duration"),
        )

    def _members(
        self, model: Model, rows: int, sample: dict[str, tuple[Any, Any]]
    ) -> list[Measured]:
        members = [m for m in model.members if not (isinstance(m, Field) and m.kind.self_made)]
        asked = []
        for member in members:
            column = self.database.read(model.table, member.column)
            asked.append(f"sum(CASE WHEN {column} IS NULL THEN 1 ELSE 0 END)")
            textual = isinstance(member, Field) and member.kind.annotation == "str"
            plain_text = textual and not member.kind.labels()  # type: ignore[union-attr]
            ends = column if self._ordered(member) else "NULL"
            if plain_text:
                ends = self.database.ddl.length(column)
            asked += [f"min({ends})", f"max({ends})"]
        query = f"SELECT {', '.join(asked)} FROM {quote(model.table)}{self._live(model)}"
        told = self.database.run(query)[0]
        return [
            self._member(model, member, rows, told[3 * at : 3 * at + 3], sample)
            for at, member in enumerate(members)
        ]

    def _member(
        self,
        model: Model,
        member: Field | Reference,
        rows: int,
        told: tuple[Any, ...],
        sample: dict[str, tuple[Any, Any]],
    ) -> Measured:
        only = isinstance(member, Field) and member.only is not None
        declared = not only and any(term.word == "empty" for term in member.sample)
        share = empty_share(member.sample, 0) if declared else 0.0 if member.required else None
        if isinstance(member, Reference):
            found = Measured(member.name, f"to {member.target}", int(told[0] or 0), share)
            self._relation(model, member, found)
            return found
        found = Measured(member.name, member.kind.describe(), int(told[0] or 0), share)
        type_ = member.kind.stored().type
        if member.kind.labels() or type_ == "boolean":
            self._choices(model, member, found)
        elif self._ordered(member) and told[1] is not None:
            self._number(model, member, found, told, sample)
        elif told[1] is not None and told[2] is not None and member.kind.annotation == "str":
            found.lengths = int(told[1]), int(told[2])
            if self.values:
                found.texts = self._texts(model, member)
        return found

    def _number(
        self,
        model: Model,
        member: Field,
        found: Measured,
        told: tuple[Any, ...],
        sample: dict[str, tuple[Any, Any]],
    ) -> None:
        type_ = member.kind.stored().type
        low, high = (_units(type_, decode(type_, [end])[0])[0] for end in told[1:])
        found.low, found.high = float(low), float(high)
        values, empty = sample[member.name]
        given = _units(type_, values)[~empty]
        found.sample, found.mean = given, float(given.mean()) if len(given) else None
        found.places = member.kind.value_type().places
        found.spread = self.drawer.spread(model, member)
        bounds = getattr(member.kind, "bounds", None)
        reach = member.kind.reach(member, self.here)
        if bounds is not None and reach is not None:
            scale = 10.0**reach.places
            ends = reach.low / scale, reach.high / scale
            found.bounds = (
                ends[0] if bounds.low is not None else None,
                ends[1] if bounds.high is not None else None,
            )
        if len(given) > 10:
            logs = isinstance(found.spread, Bell) and found.spread.logs and bool((given > 0).all())
            given = np.log(given) if logs else given
            middle, spread = np.median(given), _robust(given)
            found.odd = int((np.abs(given - middle) > _UNUSUAL * spread).sum()) if spread else 0

    def _choices(self, model: Model, member: Field, found: Measured) -> None:
        column = self.database.read(model.table, member.column)
        where = self._also(model, f"{column} IS NOT NULL")
        query = (
            f"SELECT {column}, count(*) FROM {quote(model.table)}{where} "
            f"GROUP BY {column} ORDER BY 2 DESC LIMIT {_CHOICES}"
        )
        stored = {str(value): int(count) for value, count in self.database.run(query)}
        labels = dict(member.kind.labels()) or {"1": "Yes", "0": "No"}
        boolean = not member.kind.labels()
        told = {
            label: stored.get(value, 0) + (stored.get(str(value == "1"), 0) if boolean else 0)
            for value, label in labels.items()
        }
        others = sum(stored.values()) - sum(told.values())
        found.counts = told | ({"other": others} if others else {})
        for term in member.sample:
            if term.word == "weights":
                weights = [float(one) for one in term.arguments]  # type: ignore[arg-type]
                shares = [one / sum(weights) for one in weights]
                found.declared_counts = dict(zip(labels.values(), shares, strict=False))

    def _texts(self, model: Model, member: Field) -> list[tuple[str, int]]:
        column = self.database.read(model.table, member.column)
        where = self._also(model, f"{column} IS NOT NULL")
        query = (
            f"SELECT {column}, count(*) FROM {quote(model.table)}{where} "
            f"GROUP BY {column} ORDER BY 2 DESC, 1 LIMIT {_TEXTS}"
        )
        return [(str(text), int(count)) for text, count in self.database.run(query)]

    def _relation(self, model: Model, member: Reference, found: Measured) -> None:
        """How many rows lead to each parent, those with none too."""
        column, table = quote(member.column), quote(model.table)
        where = self._also(model, f"{column} IS NOT NULL")
        groups = f"SELECT count(*) AS n FROM {table}{where} GROUP BY {column}"
        query = f"SELECT n, count(*) FROM ({groups}) AS each_one GROUP BY n ORDER BY n"
        counts = {int(n): int(parents) for n, parents in self.database.run(query)}
        target = self.schema.models[member.target]
        there = self._one(f"SELECT count(*) FROM {quote(target.table)}{self._live(target)}")
        none = there - sum(counts.values())
        if none > 0:
            counts[0] = none
        found.counts = {str(n): counts[n] for n in sorted(counts)}
        law = law_of(self.schema, member)
        if law.word == "range":
            found.fan_out = law.low, law.high
        if member.target == model.name and model.numbered:
            found.depths = self._depths(model, member)

    def _depths(self, model: Model, member: Reference) -> list[int]:
        """How many rows stand so deep in a tree: the first have no parent."""
        key, table = quote(model.number), quote(model.table)
        column = quote(member.column)
        first = f"{column} IS NULL"
        if member.empty is not None:
            first += f" OR {column} = {text(member.empty)}"
        tree = (
            f"WITH RECURSIVE tree(k, depth) AS (SELECT {key}, 0 FROM {table} WHERE {first} "
            f"UNION ALL SELECT c.{key}, tree.depth + 1 FROM {table} AS c JOIN tree "
            f"ON c.{column} = tree.k WHERE tree.depth < 60) "
            "SELECT depth, count(*) FROM tree GROUP BY depth ORDER BY depth"
        )
        return [int(count) for _, count in self.database.run(tree)]

    def _sample(self, model: Model, rows: int) -> dict[str, tuple[Any, Any]]:
        """Some rows' ordered values: every so-many-th row."""
        fields = [f for f in model.fields if self._ordered(f)]
        if not fields:
            return {}
        columns = ", ".join(self.database.read(model.table, f.column) for f in fields)
        some = f"{quote(model.table)}{self._also(model, self._some(model, rows))}"
        read = self.database.run(f"SELECT {columns} FROM {some} LIMIT {2 * SAMPLE}")
        lists = list(zip(*read, strict=True)) if read else [()] * len(fields)
        return {
            f.name: decode(f.kind.stored().type, list(column))
            for f, column in zip(fields, lists, strict=True)
        }

    def _some(self, model: Model, rows: int) -> str:
        """A condition for about as many rows as are looked at: every so-many-th."""
        step = max(1, rows // SAMPLE)
        return f"{quote(model.number)} % {step} = 0" if step > 1 and model.numbered else "1 = 1"

    def _rules(self, model: Model, rows: int) -> Iterator[Tight]:
        """How many of the rows that are looked at only just keep each rule that compares two values."""
        some = f"{quote(model.table)}{self._also(model, self._some(model, rows))}"
        sql = self.database.sql(self.names, zone=self.here.timezone)
        for rule in model.rules:
            node = rule.node
            if not isinstance(node, Apply) or node.word != "<=":
                continue
            if not any(isinstance(plain(side), Value) for side in node.operands):
                continue
            equal = sql.write(Apply("=", node.operands, BOOLEAN), model.table)
            query = (
                f"SELECT count(equal), sum(CASE WHEN equal THEN 1 ELSE 0 END) "
                f"FROM (SELECT {equal} AS equal FROM {some}) AS looked_at"
            )
            ((of, edge),) = self.database.run(query)
            yield Tight(rule.text, int(edge or 0), int(of))


def _robust(values: NDArray[np.float64]) -> float:
    """A deviation that a few odd values do not move: from the quartiles (Tukey, 1977)."""
    first, third = np.percentile(values, [25, 75])
    return float((third - first) / 1.349)


def _units(type_: str, values: Any) -> NDArray[np.float64]:
    """Decoded values as numbers in the units of their column."""
    word = type_.split()[0]
    if word == "date":
        found: Any = values.astype("datetime64[D]").astype(np.int64)
    elif word == "timestamp":
        found = values.astype("datetime64[s]").astype(np.int64)
    else:
        found = values // 10**6 if word == "time" else values
    numbers: NDArray[np.float64] = found.astype(np.float64)
    return numbers


def near_ends(found: Measured) -> list[str]:
    """The declared bounds that no value comes near."""
    low, high = found.bounds
    if found.low is None or found.high is None or isinstance(found.spread, Bell):
        # What is declared to lie in the middle need not come near its ends.
        return []
    ends = (found.low if low is None else low, found.high if high is None else high)
    width = max(ends[1] - ends[0], 1e-12)
    far = []
    if low is not None and found.low - low > (0.2 + _NEAR) * width:
        far.append("low")
    if high is not None and high - found.high > (0.2 + _NEAR) * width:
        far.append("high")
    return far


def as_json(table: Table) -> dict[str, object]:
    """A table as JSON has it: without the sample."""
    members = []
    for member in table.members:
        plain_one = asdict(Measured(**{**member.__dict__, "sample": None, "spread": None}))
        plain_one.pop("sample")
        plain_one.pop("spread")
        plain_one["bounds_never_near"] = near_ends(member)
        members.append(plain_one)
    found = asdict(Table(**{**table.__dict__, "members": []}))
    return found | {"members": members}
