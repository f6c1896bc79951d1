"""Steps as the statements of a database, in an order in which each is possible."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from ..problems import WelbikError
from ..rules.sql import quote
from ..rules.tree import Node
from ..storage.ddl import Ddl
from ..storage.reshape import Change, Phases
from ..storage.tables import Column, Table, Tables
from .converting import Converted, converted, type_of
from .keys import begins_anew, following, histories, number_as, referring
from .steps import (
    AddColumn,
    ChangeColumn,
    ChangeEntries,
    CopyRows,
    CreateTable,
    DropTable,
    MakeRows,
    RenameColumn,
    RenameTable,
    Run,
    Step,
    after,
)
from .values import Rows, node_of, rows_of

Work = Run | ChangeEntries
"""Steps that are no statements."""


@dataclass(frozen=True)
class Given:
    """What a column gets: a value of its type, and the text that its row is found by, if it is."""

    value: Converted
    find: str = ""


@dataclass
class Part:
    """Steps that are taken together: tables before and after, and what is renamed first.

    `given` has what columns get, by table and column, and `moved` those of them that refer to rows
    with another key; `steps` are those that are no renames.
    """

    before: Tables
    renamed: Tables
    after: Tables
    renames: list[Step] = field(default_factory=list)
    steps: list[Step] = field(default_factory=list)
    rows: Rows = field(default_factory=lambda: Rows({}))
    given: dict[tuple[str, str], Given] = field(default_factory=dict)
    moved: dict[tuple[str, str], Node] = field(default_factory=dict)

    @property
    def made(self) -> list[Table]:
        return [step.table for step in self.steps if isinstance(step, CreateTable)]

    @property
    def dropped(self) -> list[str]:
        return [s.table for s in self.steps if isinstance(s, DropTable) and not s.leave]

    @property
    def changed(self) -> Iterator[tuple[Table, Table]]:
        """The tables that are there before and after, where something of them changes."""
        for name, table in self.renamed.items():
            new = self.after.get(name)
            asked = any(key[0] == name for key in self.given)
            if new is not None and name not in self.dropped and (new != table or asked):
                yield table, new


def parts(tables: Tables, steps: Sequence[Step]) -> Iterator[Part | Run]:
    """Steps in groups that are worked out together, and those written by hand between them."""
    state, left = dict(tables), list(steps)
    while left:
        if isinstance(left[0], Run):
            yield left[0]
            left.pop(0)
            continue
        renames: list[Step] = []
        while left and isinstance(left[0], RenameTable | RenameColumn):
            renames.append(left.pop(0))
        some: list[Step] = []
        while left and not isinstance(left[0], RenameTable | RenameColumn | Run):
            if some and begins_anew(some, left[0]):
                break
            some.append(left.pop(0))
        renamed = after(state, renames)
        part = Part(state, renamed, after(renamed, some), renames, some)
        _work_out(part)
        yield part
        state = dict(part.after)


def _work_out(part: Part) -> None:
    made = {table.name: table for table in part.made}
    part.rows = rows_of({**part.renamed, **made})
    moved = referring(part.renamed, part.after, part.steps, part.rows)
    part.moved = {(table, column): node for table, column, node in moved}
    part.given |= {place: Given(Converted(node)) for place, node in part.moved.items()}
    for step in part.steps:
        if isinstance(step, AddColumn | ChangeColumn):
            if (step.table, step.column.name) in part.moved:
                continue
            known = part.renamed.get(step.table)
            if known is None:
                continue
            old = known.column(step.column.name)
            if step.value:
                part.given[step.table, step.column.name] = _given(part.rows, known, step)
            elif isinstance(step, ChangeColumn) and old is not None:
                found = _by_itself(part.rows, known, old, step.column)
                if found is not None:
                    part.given[step.table, step.column.name] = Given(found)
    for step in part.steps:
        if isinstance(step, ChangeColumn) and step.value and not step.find:
            _follow_key(part, step)


def _keys_anew(part: Part) -> dict[str, Node]:
    """What keys that stay are from now on, by table, where somebody said so."""
    return {
        s.table: part.given[s.table, s.column.name].value.node
        for s in part.steps
        if isinstance(s, ChangeColumn)
        and s.value
        and s.table in part.renamed
        and part.renamed[s.table].key == s.column.name == part.after[s.table].key
    }


def _follow_key(part: Part, step: ChangeColumn) -> None:
    """Where a key gets other values, what refers to it gets them too."""
    table, name = step.table, step.column.name
    if table not in part.renamed or part.renamed[table].key != name:
        return
    value = part.given[table, name].value.node
    for child, column, node in following(part.renamed, part.after, table, name, value, part.rows):
        part.moved[child, column] = node
        part.given[child, column] = Given(Converted(node))


def _given(rows: Rows, table: Table, step: AddColumn | ChangeColumn) -> Given:
    node = node_of(rows, table.name, step.value)
    wanted = "text" if step.find else step.column.type
    found = converted(node, type_of(node, spelled_in(rows, table)), wanted, asked=True)
    if found is None:
        raise WelbikError(
            f"{step.value!r} gives no value for {step.table}.{step.column.name} ({step.column.type})",
            "correct it in the newest file of migrations/",
        )
    return Given(found, step.find)


def spelled_in(rows: Rows, table: Table) -> Table:
    """A table whose columns are called as expressions call them."""
    names = {c: n for (t, n), c in rows.columns.items() if t == table.name}
    columns = (replace(c, name=names.get(c.name, c.name)) for c in table.columns)
    return replace(table, columns=tuple(columns))


def _by_itself(rows: Rows, table: Table, old: Column, new: Column) -> Converted | None:
    """The values of a column whose type changes; None where they stay as they are stored."""
    if old.type.split()[0] == new.type.split()[0] and not _is_narrower(old.type, new.type):
        return None
    name = next(n for (t, n), c in rows.columns.items() if t == table.name and c == old.name)
    node = node_of(rows, table.name, name)
    found = converted(node, old.type, new.type)
    return None if found is None or found.node is node else found


def _is_narrower(old: str, new: str) -> bool:
    """Whether a decimal has other places: its values are not those of the old type any more."""
    return old.startswith("decimal") and old.split()[2] != new.split()[2]


def statements(
    ddl: Ddl, tables: Tables, steps: Sequence[Step], today: dt.datetime
) -> list[str | Work]:
    """A database's SQL of steps, in order. `today` stands in for `today` and `now`.

    Functions written by hand stand between the statements as they are.
    """
    out: list[str | Work] = []
    for part in parts(tables, steps):
        if isinstance(part, Run):
            out += _by_hand(ddl, part)
        else:
            out += _of_part(ddl, part, today)
    return out


def _by_hand(ddl: Ddl, step: Run) -> list[str | Work]:
    if step.python:
        return [step]
    said = dict(step.sql)
    if ddl.word not in said:
        raise WelbikError(
            f"a step in migrations/ has SQL for {', '.join(said)} and none for {ddl.word}",
            f'write what it is there: sql = {{ {ddl.word} = "…" }}, or "" where it is nothing',
        )
    return [one for one in said[ddl.word] if one.strip()]


def keys_of(*states: Tables) -> dict[str, str]:
    """Which column is the key of a table, where it is not `id`."""
    found = {name: table.own for tables in states for name, table in tables.items()}
    return {name: own for name, own in found.items() if own != "id"}


def _of_part(ddl: Ddl, part: Part, today: dt.datetime) -> list[str | Work]:
    keys = keys_of(part.before, part.renamed, part.after)
    number_as(ddl, part.rows, part.steps)
    out: list[str] = []
    state = dict(part.before)
    for step in part.renames:
        following = after(state, [step])
        out += _rename(ddl, step, state, following, keys)
        state = following
    for table in part.made:
        # Later steps may say more of a table that is made here.
        out += ddl.create_table(part.after.get(table.name, table), keys)
    anew = _called_anew(ddl, part)
    pairs = dict.fromkeys([*(old.name for old, _ in part.changed), *anew])
    phases = []
    for name in pairs:
        change = change_of(ddl, part, part.renamed[name], part.after[name], today)
        phases.append(ddl.reshape(replace(change, called_anew=name in anew), keys))
    out += [one for phase in phases for one in phase.grow]
    made = [
        one for s in part.steps if isinstance(s, MakeRows) for one in make_rows(ddl, part, s, today)
    ]
    made += [copy_rows(ddl, part, s, today) for s in part.steps if isinstance(s, CopyRows)]
    out += made + [one for phase in phases for one in phase.fill]
    out += histories(ddl, part.renamed, part.after, part.steps, part.rows, _keys_anew(part), today)
    out += ddl.settled if made or part.moved else ()
    out += [one for phase in phases for one in phase.shrink]
    for name in part.dropped:
        out += ddl.drop_table(name)
    out += [one for phase in phases for one in phase.key]
    out += _held(ddl, part, phases, keys)
    return [*out, *(step for step in part.steps if isinstance(step, ChangeEntries))]


def _called_anew(ddl: Ddl, part: Part) -> list[str]:
    """The tables that stay, and whose conditions are called as before until it is made anew."""
    if not ddl.anew_when_called:
        return []
    was = {step.name: step.table for step in part.renames if isinstance(step, RenameTable)}
    found = []
    for name, table in part.renamed.items():
        old = part.before.get(was.get(name, name))
        columns = {
            s.old: s.name for s in part.renames if isinstance(s, RenameColumn) and s.table == name
        }
        if name in part.after and old and _held_as(ddl, old, columns) != _held_as(ddl, table, {}):
            found.append(name)
    return found


def _held_as(ddl: Ddl, table: Table, columns: Mapping[str, str]) -> dict[str, str]:
    """The conditions of a table by their names, once some columns have been called anew."""
    found = [one for column in table.columns for one in ddl.checks(table, column)]
    marked = {quote(old): quote(new) for old, new in columns.items()}
    return {
        name: re.sub(r'"(?:[^"]|"")+"', lambda m: marked.get(m[0], m[0]), condition)
        for name, condition in (*found, *ddl.rules(table))
    }


def _held(ddl: Ddl, part: Part, phases: Sequence[Phases], keys: Mapping[str, str]) -> list[str]:
    """What holds the rows of tables, and of one table to another: when all are there."""
    made = [part.after[table.name] for table in part.made if table.name in part.after]
    out = [one for table in made for one in ddl.create_indexes(table)]
    out += [one for phase in phases for one in phase.finish]
    for table in made:
        out += ddl.add_references(table, table.bound, keys)
    return out


def _rename(
    ddl: Ddl, step: Step, before: Tables, following: Tables, keys: Mapping[str, str]
) -> list[str]:
    if isinstance(step, RenameTable):
        return ddl.rename_table(before[step.table], following[step.name], keys)
    assert isinstance(step, RenameColumn)
    tables = before[step.table], following[step.table]
    return ddl.rename_column(*tables, step.old, step.name, keys)


def change_of(ddl: Ddl, part: Part, old: Table, new: Table, today: dt.datetime) -> Change:
    """How a table is reshaped, its values as SQL."""
    values, fills = {}, {}
    for name, given in ((key[1], g) for key, g in part.given.items() if key[0] == old.name):
        if new.column(name) is not None:
            values[name] = sql_of(ddl, part, old.name, given, today)
    for step in part.steps:
        if isinstance(step, AddColumn) and step.table == old.name and not step.value:
            if step.made:
                values[step.column.name] = ddl.made(old, step.made)
            elif step.fill:
                fill = settle(step, today).fill
                fills[step.column.name] = ddl.given(fill, step.column.type)
        elif isinstance(step, ChangeColumn) and step.table == old.name and step.fill is not None:
            kind = step.column.type
            values[step.column.name] = (
                ddl.given(step.fill, kind) if step.fill else ddl.nothing(kind)
            )
    return Change(old, new, values, fills)


def sql_of(ddl: Ddl, part: Part, table: str, given: Given, today: dt.datetime) -> str:
    """What a column gets, as SQL over a row of its table."""
    value = write(ddl, part.rows, given.value.node, table, today)
    if not given.find:
        return value
    other, _, name = given.find.partition(".")
    key = quote(part.rows.key(other))
    return f"(SELECT min({quote(other)}.{key}) FROM {quote(other)} WHERE {quote(other)}.{quote(name)} = {value})"


def write(ddl: Ddl, rows: Rows, node: Node, table: str, today: dt.datetime) -> str:
    """An expression as SQL over a row of a table."""
    return ddl.sql(rows, today, str(today.tzinfo)).write(node, table)


def make_rows(ddl: Ddl, part: Part, step: MakeRows, today: dt.datetime) -> list[str]:
    """A row for each text that is not there yet; a second time nothing comes."""
    table = part.after[step.table]
    if step.of not in part.renamed:
        raise WelbikError(f"there is no table {step.of} to take rows from", "look at migrations/")
    node = node_of(part.rows, step.of, step.value)
    found = converted(node, type_of(node, spelled_in(part.rows, part.renamed[step.of])), "text")
    value = write(ddl, part.rows, (found or Converted(node)).node, step.of, today)
    names, values = [quote(step.column)], ["given.found"]
    for name, fill in step.fills:
        column = table.column(name)
        if column is None:
            continue
        if fill in ("uuid",) or fill.startswith("slug"):
            # Made of the text alone: no row is there yet that could be told by its key.
            values.append(ddl.new_uuid())
        else:
            values.append(
                ddl.given(settle(AddColumn(step.table, column, fill), today).fill, column.type)
            )
        names.append(quote(name))
    own = f"{quote(step.table)}.{quote(step.column)}"
    return [
        f"INSERT INTO {quote(step.table)} ({', '.join(names)})\nSELECT {', '.join(values)} "
        f"FROM (SELECT DISTINCT {value} AS found FROM {quote(step.of)}) AS given\n"
        f"WHERE given.found IS NOT NULL AND NOT EXISTS "
        f"(SELECT 1 FROM {quote(step.table)} WHERE {own} = given.found)"
    ]


def copied(part: Part, step: CopyRows) -> dict[str, Converted]:
    """What each column of a copied row is, as an expression over the row that it is made for."""
    known, table = part.renamed.get(step.of), part.after[step.table]
    if known is None:
        raise WelbikError(f"there is no table {step.of} to take rows from", "look at migrations/")
    found = {}
    for name, text in step.values:
        column = table.column(name)
        node = node_of(part.rows, step.of, text)
        have = type_of(node, spelled_in(part.rows, known))
        value = converted(node, have, column.type, asked=True) if column else None
        if value is None:
            raise WelbikError(
                f"{text!r} gives no value for {step.table}.{name}",
                "correct it in the newest file of migrations/",
            )
        found[name] = value
    return found


def copy_rows(ddl: Ddl, part: Part, step: CopyRows, today: dt.datetime) -> str:
    """The rows of a table that is new; none where it has some."""
    given = {
        name: write(ddl, part.rows, value.node, step.of, today)
        for name, value in copied(part, step).items()
    }
    some = " OR ".join(f"({given[name]}) IS NOT NULL" for name in step.least) or "1 = 1"
    return (
        f"INSERT INTO {quote(step.table)} ({', '.join(map(quote, given))})\n"
        f"SELECT {', '.join(given.values())} FROM {quote(step.of)}\n"
        f"WHERE ({some}) AND (SELECT count(*) FROM {quote(step.table)}) = 0"
    )


def settle(step: AddColumn, today: dt.datetime) -> AddColumn:
    """The step with a fill that no longer moves with the clock; moments become UTC."""
    if not step.fill:
        return step
    word, *shift = step.fill.split()
    moved = today
    if word in ("today", "now") and shift:
        days = int(shift[1]) * (-1 if shift[0] == "-" else 1)
        moved = today + dt.timedelta(days=days)
    if step.column.type == "date" and word == "today":
        return replace(step, fill=moved.date().isoformat())
    if step.column.type == "timestamp":
        local = (
            moved
            if word == "now"
            else dt.datetime.fromisoformat(step.fill).replace(tzinfo=today.tzinfo)
        )
        return replace(step, fill=local.astimezone(dt.UTC).strftime("%Y-%m-%d %H:%M:%S"))
    return step
