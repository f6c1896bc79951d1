"""Declarations from the tables of a database: read, declared, and tried."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from ..language.diagnostics import Problem
from ..language.layout import tidy
from ..problems import WelbikError
from ..rules.sql import quote
from ..storage.backend import BOOKS, Database
from ..storage.catalog import Catalog, FoundTable
from . import names
from .drafts import Draft, Note, whole
from .facts import Fact, facts_of
from .profile import profile
from .proposing import proposed
from .tables import (
    Adoption,
    can_be_called,
    choose_key,
    draft_of,
    many_lines,
    other_sides,
    pairs_of,
    plain_indexes,
)
from .telling import tell

_TRIES = 8
_HISTORY = "_history"

Try = Callable[[str], Sequence[Problem]]
"""Gives the problems that a text of declarations has."""


@dataclass(frozen=True)
class Wish:
    """Which tables are adopted, by patterns with `*`, and what their names begin with."""

    tables: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    prefix: str = ""
    samples: bool = False
    """Whether `sample` clauses are fitted to what is stored."""


@dataclass
class Adopted:
    """What became of a database's tables: a text of declarations for each, by the model's name."""

    drafts: dict[str, Draft] = field(default_factory=dict)
    notes: list[Note] = field(default_factory=list)
    pairs: list[str] = field(default_factory=list)
    """Tables that became a relation to many."""
    counts: dict[str, int] = field(default_factory=dict)
    """How many rows there are, where made-up ones are to look like them."""

    def texts(self) -> dict[str, str]:
        return {name: tidy(draft.text()) for name, draft in self.drafts.items()}


def adopt(
    database: Database,
    wish: Wish,
    taken: Sequence[str] = (),
    tell_of: Callable[[str], None] = lambda table: None,
) -> Adopted:
    """Reads the tables of a database, of one moment, and describes them.

    `taken` are names of models that are declared already; `tell_of` hears of each table that was
    looked at. Raises WelbikError where there is nothing to adopt.
    """
    with database.reading():
        catalog = database.catalog()
        tables = wanted(database, catalog, wish)
        found = Adopted()
        found.notes += [
            Note(name, "", what, "it is left out")
            for name, what in catalog.troubles
            if _is_asked(name, wish)
        ]
        if not taken and database.applied():
            what = "migrations of another project have run here, whose declarations say more"
            then = "go on with that project; if it is lost, empty this table before welbik migrate"
            found.notes.append(Note(BOOKS, "", what, then))
        for name in [name for name in tables if not can_be_called(name)]:
            del tables[name]
            what = "no table is called so in a declaration"
            found.notes.append(Note(name, "", what, "it is left out"))
        facts: dict[str, Mapping[str, Fact]] = {}
        for table in tables.values():
            facts[table.name] = _facts(database, table, found)
            tell_of(table.name)
        called = {}
        known = set(taken)
        for name in tables:
            called[name] = names.model_name(name, wish.prefix, known)
            known.add(called[name])
        ours = database.was_migrated(catalog.tables)
        for table in tables.values():
            table.natural = ours and _is_ours(table)
            if table.natural:
                table.history = f"{table.name}{_HISTORY}" in catalog.tables
                table.indexes = plain_indexes(table)
            choose_key(table)
        work = Adoption(database, tables, called, facts, found.notes)
        _describe(work, found)
        proposed(work, database)
        if wish.samples:
            found.counts = profile(database, work)
    found.drafts = {draft.name: draft for draft in work.drafts.values()}
    return found


def wanted(database: Database, catalog: Catalog, wish: Wish) -> dict[str, FoundTable]:
    """The tables that are asked for; raises WelbikError where there are none."""
    history = {f"{name}{_HISTORY}" for name in catalog.tables}
    natural = database.was_migrated(catalog.tables)
    tables = {
        name: table
        for name, table in catalog.tables.items()
        if not name.startswith(database.reserved)
        and not (natural and name in history)
        and _is_asked(name, wish)
    }
    if not tables:
        there = sorted(catalog.tables)[:8]
        raise WelbikError(
            f"there is no table to adopt in {database.where}",
            f"there are: {', '.join(there)}" if there else "it has no tables at all",
        )
    return tables


_OURS = re.compile(r"_(length|range|among|rule|boolean|index|unique|reference)(_[0-9a-f]{8})?$")


def _is_ours(table: FoundTable) -> bool:
    """Whether Welbik itself made a table: going by how what holds it is called."""
    called = [name for name, _ in table.checks] + [index.name for index in table.indexes]
    if called:
        return all(name.startswith(table.name[:50]) and _OURS.search(name) for name in called)
    return bool(table.columns) and table.columns[0].name == "id" and table.columns[0].counted


def _is_asked(name: str, wish: Wish) -> bool:
    return (not wish.tables or _matches(name, wish.tables)) and not _matches(name, wish.without)


def _matches(name: str, patterns: Sequence[str]) -> bool:
    return any(fnmatch.fnmatchcase(name.lower(), pattern.lower()) for pattern in patterns)


def _facts(database: Database, table: FoundTable, found: Adopted) -> Mapping[str, Fact]:
    """What the rows tell; nothing, and a note, where they can't be read."""
    try:
        with database.asking() as take_back:
            try:
                facts = dict(facts_of(database, table))
                facts |= _loops(database, table)
            except database.errors as error:
                take_back()
                told = f"its rows can't be read: {whole(database.told(error), 120)}"
                found.notes.append(
                    Note(table.name, "", told, "it is described by its columns alone")
                )
                return {}
        return facts
    except database.errors:
        return {}


def _loops(database: Database, table: FoundTable) -> dict[str, Fact]:
    """Which references to its own table lead from a row to itself."""
    found = {}
    for reference in table.references:
        if reference.table == table.name and len(reference.columns) == 1:
            one, two = quote(reference.columns[0]), quote(reference.targets[0])
            asked = f"SELECT 1 FROM {quote(table.name)} WHERE {one} = {two} LIMIT 1"
            if database.run(asked):
                found[f"loops {reference.columns[0]}"] = Fact(rows=1)
    return found


def _describe(work: Adoption, found: Adopted) -> None:
    told = len(work.notes)
    while True:
        _draft(work, found)
        bare = [n for n, d in work.drafts.items() if not any(line.column for line in d.lines)]
        if not bare:
            break
        # Nobody refers to what has nothing to be shown by: all is described anew without it.
        del work.notes[told:]
        for name in bare:
            what = "it has no column that can be declared"
            work.notes.append(Note(name, "", what, "it is left out; the database stays as it is"))
        told = len(work.notes)
        work.tables = {n: t for n, t in work.tables.items() if n not in bare}
        work.drafts.clear()
        found.pairs.clear()
    if not work.drafts:
        raise WelbikError("there is no table that can be declared", "see: docs/adopting.md")
    other_sides(work)
    tell(work)


def _draft(work: Adoption, found: Adopted) -> None:
    pairs = {}
    for name, table in work.tables.items():
        pair = pairs_of(work, table)
        if pair is not None:
            pairs[name] = pair
        else:
            work.drafts[name] = draft_of(work, table)
    for name, pair in pairs.items():
        if all(reference.table in work.drafts for reference in pair):
            many_lines(work, work.tables[name], pair)
            found.pairs.append(name)
        else:
            work.drafts[name] = draft_of(work, work.tables[name])


def heal(found: Adopted, problems: Try) -> None:
    """Takes out what the language does not accept after all, each with a note of why.

    Whatever a schema holds, what is written is read again without a problem.
    """
    for _ in range(_TRIES):
        text = "\n".join(found.texts().values())
        told = problems(text)
        if not told:
            return
        _take_out(found, text, told)


def _take_out(found: Adopted, text: str, told: Sequence[Problem]) -> None:
    lines = text.split("\n")
    for problem in told:
        at = text.count("\n", 0, problem.span.start)
        while at > 0 and lines[at].startswith("        "):
            # A long member goes on below itself, indented deeper.
            at -= 1
        said = lines[at].strip()
        model = next((line.split()[1] for line in lines[at::-1] if line.startswith("model ")), "")
        draft = found.drafts.get(model)
        if draft is not None:
            _without(found, draft, said, problem)


def _without(found: Adopted, draft: Draft, said: str, problem: Problem) -> None:
    first = said.split()[0] if said else ""
    line = next((line for line in draft.lines if line.name == first), None)
    what = f"the language refuses {whole(said, 80)!r}: {problem.message}"
    then = "it is left out; the database stays as it is"
    clause = next((c for c in draft.clauses if _same(c, said)), None)
    if clause is not None:
        draft.clauses.remove(clause)
        found.notes.append(Note(draft.table, "", what, then))
    elif line is not None and not _loosened(line, problem):
        draft.lines.remove(line)
        _forget(found, draft, line.name)
        found.notes.append(Note(draft.table, line.column, what, then))


_RISKY = ("default", "hint", "label", "unique", "as ", "sample", "in ")


def _loosened(line: object, problem: Problem) -> bool:
    """Takes a modifier away that is not needed, where the problem is about it."""
    modifiers: list[str] = line.modifiers  # type: ignore[attr-defined]
    for modifier in modifiers:
        if modifier.startswith(_RISKY) and problem.span.text in modifier and problem.span.text:
            modifiers.remove(modifier)
            return True
    return False


def _same(clause: str, said: str) -> bool:
    squeezed = ["".join(text.split()) for text in (clause, said)]
    return squeezed[0].startswith(squeezed[1]) or squeezed[1].startswith(squeezed[0])


def _forget(found: Adopted, draft: Draft, name: str) -> None:
    """Takes a name out of the clauses that list names."""
    for at, clause in enumerate(draft.clauses):
        word, _, rest = clause.partition(" ")
        if word in ("list", "search", "index", "unique"):
            kept = [one for one in rest.split(", ") if one != name]
            draft.clauses[at] = f"{word} {', '.join(kept)}" if kept else ""
        elif word == "shown" and f"{{{name}}}" in clause:
            draft.clauses[at] = ""
    draft.clauses = [clause for clause in draft.clauses if clause]
    for other in found.drafts.values():
        back = f"<- {draft.name}.{name}"
        other.lines = [line for line in other.lines if line.type != back]
