"""A table that is there as a model: its columns, its key, and what leads to other tables."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from ..kinds.native import family
from ..rules.sql import quote
from ..rules.sql import text as sql_text
from ..schema import names as schema_names
from ..schema.entries import REMOVED
from ..storage.backend import Database
from ..storage.catalog import FoundIndex, FoundReference, FoundTable
from ..storage.ddl import Ddl
from . import names
from .columns import Bounds, Context, field_line
from .conditions import Field, Tree, UnreadError, conjuncts, form_of, read_condition, written
from .conditions import columns_of as read_columns
from .drafts import Draft, Line, Note, quoted, whole
from .facts import Fact

_LONGEST = 64
_KEPT = ("created_at", "updated_at")


@dataclass
class Adoption:
    """What is adopted: tables by name, the names of their models, and what could not be said."""

    database: Database
    tables: Mapping[str, FoundTable]
    names: Mapping[str, str]
    facts: Mapping[str, Mapping[str, Fact]]
    notes: list[Note] = field(default_factory=list)
    drafts: dict[str, Draft] = field(default_factory=dict)

    @property
    def ddl(self) -> Ddl:
        return self.database.ddl

    def note(self, table: str, column: str, what: str, then: str) -> None:
        self.notes.append(Note(table, column, what, then))


def draft_of(work: Adoption, table: FoundTable) -> Draft:
    """The model of a table, without what stands on the other sides of relations."""
    draft = Draft(work.names[table.name], table.name, whole(table.comment))
    draft.taken = {"id", "created_at", "updated_at"} if _keeps_times(work, table) else {"id"}
    own = _own_number(work, table)
    context = Context(
        work.ddl, table, dict(work.facts.get(table.name, {})), work.notes, {}, table.natural
    )
    trees = _conditions(work, table, context)
    leading = {r.columns[0]: r for r in table.references if _can_lead(work, table, r)}
    for column in table.columns:
        if column.name == own or _is_kept(work, table, column.name):
            continue
        if not can_be_called(column.name, '"'):
            then = "it stays as it is, and the site does not show it"
            work.note(table.name, column.name, "no column is called so in a declaration", then)
            continue
        if column.name in leading:
            line: Line | None = reference_line(work, table, leading[column.name], draft)
        else:
            line = field_line(context, column, draft.taken)
        if line is not None:
            draft.lines.append(line)
        else:
            draft.remarks.append(f"{column.name} {column.native} is there too")
    _stored(work, draft, table, own)
    _pages(work, draft, table)
    _groups(work, draft, table)
    _rules(work, draft, table, trees)
    return draft


def can_be_called(name: str, odd: str = '".') -> bool:
    """Whether `stored as` can say a name."""
    return 0 < len(name) <= _LONGEST and name.isprintable() and not set(name) & set(odd)


def _own_number(work: Adoption, table: FoundTable) -> str:
    """The column that is a number of its row, which nobody enters; empty where there is none."""
    if len(table.key) != 1:
        return ""
    column = table.column(table.key[0])
    if column is None or any(column.name in r.columns for r in table.references):
        return ""
    whole_number = family(column.native) == "whole" or column.native.lower() in (
        "numeric(10,0)",
        "decimal(10,0)",
    )
    return column.name if column.counted or whole_number else ""


def plain_indexes(table: FoundTable) -> list[FoundIndex]:
    """The indexes of a table that Welbik made, as they were declared.

    The key stands in those of lists, on some databases behind what others index alone; some have
    only the beginnings of texts; and what is unique among the rows that live is so by a condition, or a column.
    """
    found = []
    for index in table.indexes:
        columns = tuple(c for c in index.columns if table.column(c) is not None)
        if not index.unique and len(columns) > 1 and len(table.key) == 1:
            columns = columns[:1] + tuple(c for c in columns[1:] if c != table.key[0])
        special = index.special if index.special == "of an expression" else ""
        own = columns in ((REMOVED,), ("updated_at",))
        if columns and not own:
            found.append(FoundIndex(index.name, columns, index.unique, special))
    return found


def choose_key(table: FoundTable) -> None:
    """Where a table has no key, what is unique and never empty serves as one."""
    if table.key or table.view:
        return
    required = {column.name for column in table.columns if column.required}
    fitting = [
        i for i in table.indexes if i.unique and not i.special and set(i.columns) <= required
    ]
    if fitting:
        table.key = min(fitting, key=lambda index: len(index.columns)).columns


def _can_lead(work: Adoption, table: FoundTable, reference: FoundReference) -> bool:
    """Whether a reference can be a relation: by one column, to the key of a table that is known."""
    if len(reference.columns) > 1:
        return False
    other = work.tables.get(reference.table)
    return other is not None and tuple(reference.targets) == other.key and not other.view


def reference_line(
    work: Adoption, table: FoundTable, reference: FoundReference, draft: Draft
) -> Line:
    """The line of a relation, by a name that the draft has taken then."""
    column = table.column(reference.columns[0])
    assert column is not None
    target = work.names[reference.table]
    name = names.reference_name(column.name, target, draft.taken)
    draft.taken |= {name, f"{name}_id"}
    line = Line(name, f"-> {target}", column=column.name, target=reference.table)
    line.modifiers += ["required"] if column.required else []
    if table.key == (column.name,) or table.is_unique((column.name,)):
        line.modifiers.append("unique")
    elif any(i.columns == (column.name,) and not i.special for i in table.indexes):
        line.modifiers.append("indexed")
    ways = {"CASCADE": "remove", "SET NULL": "clear"}
    if reference.removal in ways and not (column.required and reference.removal == "SET NULL"):
        line.modifiers.append(f"on removal {ways[reference.removal]}")
    if reference.table == table.name and _loops(work, table, column.name):
        line.modifiers.append("loops allowed")
    line.modifiers += _words(column.name, column.comment)
    target_column = work.tables[reference.table].column(reference.targets[0])
    native = target_column.native if target_column else ""
    other = "" if native == column.native else column.native
    if column.name != f"{name}_id" or other:
        said = f"stored as {quoted(column.name)}"
        line.modifiers.append(f"{said} of {quoted(other)}" if other else said)
    if column.made or column.renewed:
        line.modifiers.append("set by database")
    return line


def _words(name: str, comment: str) -> list[str]:
    found = []
    if not name.isascii():
        found.append(f"label {quoted(whole(name.replace('_', ' '), 60))}")
    return [*found, f"hint {quoted(whole(comment))}"] if comment else found


def _loops(work: Adoption, table: FoundTable, column: str) -> bool:
    fact = work.facts.get(table.name, {}).get(f"loops {column}")
    return fact is not None and fact.rows > 0


def _keeps_times(work: Adoption, table: FoundTable) -> bool:
    found = [table.column(name) for name in _KEPT]
    return table.natural and all(
        c is not None and c.required and family(c.native) == "moment" for c in found
    )


def _is_kept(work: Adoption, table: FoundTable, name: str) -> bool:
    if name in _KEPT:
        return _keeps_times(work, table)
    return table.natural and name == REMOVED


def _stored(work: Adoption, draft: Draft, table: FoundTable, own: str) -> None:
    """The clauses that say what the table is, and what tells its rows."""
    kept = ["times"] if _keeps_times(work, table) else []
    kept += ["bin"] if table.natural and table.column(REMOVED) else []
    kept += ["history"] if table.history else []
    if kept:
        draft.clauses.append(f"keep {', '.join(kept)}")
    draft.clauses += _key(work, draft, table, own)
    draft.clauses.append(f"stored as {quoted(table.name)}, as it is")


def _key(work: Adoption, draft: Draft, table: FoundTable, own: str) -> list[str]:
    if not table.key or table.view:
        draft.reads_only = True
        then = "its rows are shown, and can't be changed: nothing tells them apart"
        if not table.view:
            work.note(table.name, "", "the table has no key", then)
        return ["key none", "pages list, view"]
    if own:
        column = table.column(own)
        assert column is not None
        same = work.ddl.is_same("integer", column.native)
        native = "" if same else f" of {quoted(column.native)}"
        handed = "" if column.counted else ", handed out"
        usual = own == "id" and not native and not handed
        return [] if usual else [f"key stored as {quoted(own)}{native}{handed}"]
    lines = [draft.line(name) for name in table.key]
    found = [line for line in lines if line is not None]
    if len(found) < len(table.key) or any(line.says("set by database") for line in found):
        draft.reads_only = True
        work.note(
            table.name,
            "",
            "its key has a column that the language has no type for",
            "its rows are shown, and can't be changed",
        )
        return ["key none", "pages list, view"]
    if len(found) == 1 and not found[0].target:
        line = found[0]
        if not line.says("unique"):
            at = line.modifiers.index("required") + 1 if line.says("required") else 0
            line.modifiers[at:at] = ["unique"] if line.says("required") else ["required", "unique"]
        if line.type.split()[0] in ("text", "email", "integer", "uuid"):
            if not line.says("set by database") and line.type.split()[0] != "uuid":
                line.modifiers.append("fixed")
            return [f"key {line.name}"]
        line.modifiers.remove("unique")
    return [f"key {', '.join(line.name for line in found)}"]


def _pages(work: Adoption, draft: Draft, table: FoundTable) -> None:
    """Leaves out the pages that make rows, where something must be given that no form has."""
    if draft.reads_only:
        return
    given = {
        line.column
        for line in draft.lines
        if line.column and not line.says("set by database") and line.type != "uuid"
    }
    needed = [
        column.name
        for column in table.columns
        if column.required
        and column.name not in given
        and column.default is None
        and not (column.counted or column.made or column.renewed)
        and column.name not in table.key
        and not _is_kept(work, table, column.name)
    ]
    if needed:
        draft.clauses.append(
            "pages list, view, edit, remove" if given else "pages list, view, remove"
        )
        then = "rows are made elsewhere: here they are shown, changed and removed"
        work.note(table.name, ", ".join(needed), "it must be given, and no form has it", then)
    elif not given:
        draft.clauses.append("pages list, view, remove")


def _groups(work: Adoption, draft: Draft, table: FoundTable) -> None:
    """What is unique together, and the indexes over several columns; special ones are noted."""
    for index in table.indexes:
        lines = [draft.line(name) for name in index.columns]
        named = [line.name for line in lines if line is not None]
        if index.columns == table.key and not index.special:
            continue
        if index.special or len(named) < len(index.columns) or not named:
            _left(work, table, index)
        elif len(named) > 1 and set(index.columns) != set(table.key):
            word = "unique" if index.unique else "index"
            clause = f"{word} {', '.join(named)}"
            if clause not in draft.clauses:
                draft.clauses.insert(0, clause)
    for reference in table.references:
        if not _can_lead(work, table, reference):
            _unled(work, table, reference)


def _left(work: Adoption, table: FoundTable, index: FoundIndex) -> None:
    if not index.special and all(table.column(name) is None for name in index.columns):
        return
    if table.natural and REMOVED in index.columns or (table.natural and index.special):
        return
    if index.columns and all(name in _KEPT for name in index.columns) and table.natural:
        return
    kind = "unique index" if index.unique else "index"
    what = f"the {kind} {index.name} is {index.special or 'over columns that are not declared'}"
    then = "it stays; what it holds, the database alone holds" if index.unique else "it stays"
    work.note(table.name, "", what, then)


def _unled(work: Adoption, table: FoundTable, reference: FoundReference) -> None:
    columns = ", ".join(reference.columns)
    other = work.tables.get(reference.table)
    if len(reference.columns) > 1:
        what = f"it refers to {reference.table} by several columns"
    elif other is None:
        what = f"it refers to {reference.table}, which is not adopted"
    else:
        what = f"it refers to {reference.table}.{reference.targets[0]}, which is not its key"
    work.note(table.name, columns, what, "the values stand as they are, without a relation")


# Conditions


def _conditions(work: Adoption, table: FoundTable, context: Context) -> list[tuple[Tree, str]]:
    """Reads a table's conditions: those of one column go to that, the others are given back."""
    known = {column.name.lower(): column.name for column in table.columns}
    rest: list[tuple[Tree, str]] = []
    for _, text in table.checks:
        try:
            tree = read_condition(text, lambda name: known.get(name.lower()))
        except (UnreadError, RecursionError):
            _unread(work, table, text)
            continue
        for part in conjuncts(tree):
            if not _of_one(context, part):
                rest.append((part, text))
    return rest


def _unread(work: Adoption, table: FoundTable, text: str) -> None:
    then = "the database alone holds it"
    work.note(table.name, "", f"the condition {whole(text, 120)} can't be said", then)


def _of_one(context: Context, tree: Tree) -> bool:
    """Whether a condition is a bound of one column, and was noted there."""
    if not tree.parts:
        return False
    first = tree.parts[0]
    name, of_length = first.text, False
    if first.word == "call" and first.text in ("length", "char_length", "character_length"):
        if len(first.parts) != 1 or first.parts[0].word != "column":
            return False
        name, of_length = first.parts[0].text, True
    elif first.word != "column":
        return False
    bounds = context.checks.setdefault(name, Bounds())
    values = tree.parts[1:]
    if not all(part.word in ("number", "string") and not part.parts for part in values):
        return False
    if of_length:
        return _of_length(bounds, tree.word, [part.text for part in values])
    column = context.table.column(name)
    only = tree.word == "=" and values[0].word == "string"
    if (tree.word == "in" or only) and column is not None and not bounds.among:
        bounds.among = tuple(dict.fromkeys(part.text for part in values))
        return True
    if tree.word == "<>" and values[0].text == "":
        return True
    if column is None or family(column.native) in ("text", "padded", "truth"):
        return False
    if not family(column.native) and not context.natural:
        return False
    if tree.word == "between":
        bounds.low, bounds.high = values[0].text, values[1].text
        return True
    if tree.word in (">=", "<="):
        setattr(bounds, "low" if tree.word == ">=" else "high", values[0].text)
        return True
    if tree.word in (">", "<") and family(column.native) == "whole":
        step = 1 if tree.word == ">" else -1
        end = str(int(float(values[0].text)) + step)
        setattr(bounds, "low" if step > 0 else "high", end)
        return True
    return False


def _of_length(bounds: Bounds, word: str, ends: Sequence[str]) -> bool:
    try:
        numbers = [int(end) for end in ends]
    except ValueError:
        return False
    if word == "between":
        bounds.shortest, bounds.longest = numbers
    elif word in (">=", ">"):
        bounds.shortest = numbers[0] + (word == ">")
    elif word in ("<=", "<"):
        bounds.longest = numbers[0] - (word == "<")
    elif word == "=":
        bounds.shortest = bounds.longest = numbers[0]
    else:
        return False
    return True


def _rules(
    work: Adoption, draft: Draft, table: FoundTable, trees: Sequence[tuple[Tree, str]]
) -> None:
    fields: dict[str, Field] = {}
    for line in draft.lines:
        word = line.type.split()[0]
        choices = choices_of(line.type) if word == "one" else {}
        fields[line.column] = Field(line.name, "row" if line.target else word, choices)
    for tree, text in trees:
        column, form = form_of(tree) or ("", "")
        held = next((one for one in draft.lines if one.column == column), None)
        exact = tree.word != "regexp" or _all_match(work, table, column, form)
        if form and held and held.type.split()[0] == "text" and exact:
            held.modifiers.insert(0, f"matches {quoted(form)}")
            continue
        try:
            if any(name not in fields for name in read_columns(tree)):
                raise UnreadError(text)
            clause = f"rule {written(tree, fields)}"
        except UnreadError:
            _unread(work, table, text)
            continue
        if clause not in draft.clauses:
            draft.clauses.insert(0, clause)


def _all_match(work: Adoption, table: FoundTable, column: str, form: str) -> bool:
    """Whether all that is stored matches a pattern as it is written: the database may not heed capitals."""
    name = quote(column)
    asked = f"SELECT count(*) FROM {quote(table.name)} WHERE NOT (BINARY {name} REGEXP {sql_text(f'^{form}$')})"
    try:
        with work.database.asking() as take_back:
            try:
                return work.database.run(asked) == [(0,)]
            except work.database.errors:
                take_back()
    except work.database.errors:
        pass
    return False


def choices_of(type_: str) -> dict[str, str]:
    """The words of choices by what is stored for them, read again from their declaration."""
    import re

    found = {}
    for part in re.split(r" \| (?=[a-z])", type_.removeprefix("one of ")):
        said = re.match(r'([a-z0-9_]+)(?: stored as "((?:[^"\\]|\\.)*)")?', part)
        if said:
            stored = (
                said[2].replace('\\"', '"').replace("\\\\", "\\")
                if said[2] is not None
                else said[1]
            )
            found[stored] = said[1]
    return found


# Relations to many


def pairs_of(work: Adoption, table: FoundTable) -> tuple[FoundReference, FoundReference] | None:
    """The two references that a table is made of, where it holds pairs and nothing else."""
    leading = [r for r in table.references if _can_lead(work, table, r)]
    columns = {name for r in leading for name in r.columns}
    if len(leading) != 2 or len(columns) != 2 or table.view:
        return None
    names_ = {column.name for column in table.columns}
    own = set(table.key) - columns
    if names_ - columns - (own if table.natural and own == {"id"} else set()):
        return None
    if not table.is_unique(tuple(columns)):
        return None
    first, second = sorted(
        leading, key=lambda r: [c.name for c in table.columns].index(r.columns[0])
    )
    return first, second


def many_lines(work: Adoption, table: FoundTable, pair: Sequence[FoundReference]) -> None:
    """A table of pairs as a relation to many, on both sides."""
    first, second = pair
    draft, other = work.drafts[first.table], work.drafts[second.table]
    target = work.names[second.table]
    natural = None
    if table.natural and table.name.startswith(f"{first.table}_"):
        natural = table.name[len(first.table) + 1 :]
    elif table.natural and table.name.startswith(f"{second.table}_"):
        natural = table.name[len(second.table) + 1 :]
        first, second, draft, other = second, first, other, draft
        target = work.names[second.table]
    name = natural or names.field_name(
        schema_names.plural("_".join(schema_names.words(target))), draft.taken
    )
    draft.taken.add(name)
    line = Line(name, f"<-> {target}")
    mine, theirs = first.columns[0], second.columns[0]
    if natural is None:
        said = f"stored as {quoted(table.name)} of {quoted(mine)} | {quoted(theirs)}"
        line.modifiers.append(said)
    draft.lines.append(line)
    source = work.names[first.table]
    back = names.field_name(schema_names.plural("_".join(schema_names.words(source))), other.taken)
    if draft is other and back == name:
        return
    other.taken.add(back)
    other.lines.append(Line(back, f"<-> {source}.{name}"))


def other_sides(work: Adoption) -> None:
    """Every relation as its parent sees it."""
    for draft in work.drafts.values():
        led = [line.target for line in draft.lines]
        for line in [line for line in draft.lines if line.target]:
            parent = work.drafts.get(line.target)
            if parent is None:
                continue
            snake = schema_names.snake(parent.name)
            many = schema_names.plural("_".join(schema_names.words(draft.name)))
            several = led.count(line.target) > 1
            if (many in parent.taken or several) and line.name != snake:
                many = f"{many}_as_{line.name}"
            name = names.field_name(many, parent.taken)
            parent.taken.add(name)
            parent.lines.append(Line(name, f"<- {draft.name}.{line.name}"))
