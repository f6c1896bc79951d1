"""Models from the tables of files, the relations between them, and their rows."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from dataclasses import dataclass, field

from ..rules.sql import quote
from ..schema import names as schema_names
from . import names
from .drafts import Draft, Line, quoted
from .guessing import Guess, guess
from .sheets import Sheet, Sheets

_MANY = 20


@dataclass
class Filed:
    """The models of some files: how each column is read, and which of them lead where.

    `keys` are the columns by which rows of a sheet are told where others lead to them.
    """

    sheets: Sheets
    drafts: dict[str, Draft] = field(default_factory=dict)
    of: dict[str, Sheet] = field(default_factory=dict)
    guesses: dict[str, dict[str, Guess]] = field(default_factory=dict)
    leads: dict[tuple[str, str], tuple[str, str]] = field(default_factory=dict)
    """By model and column: the model that it leads to, and the column that tells its rows."""

    @property
    def parents_first(self) -> list[str]:
        placed: list[str] = []
        todo = list(self.of)
        while todo:
            free = [
                one
                for one in todo
                if all(t in placed or t == one for (m, _), (t, _) in self.leads.items() if m == one)
            ]
            placed += free or todo[:1]
            todo = [one for one in todo if one not in placed]
        return placed


def filed(sheets: Sheets, taken: list[str]) -> Filed:
    """The models of all sheets."""
    found, known = Filed(sheets), set(taken)
    for sheet in sheets.sheets:
        name = names.model_name(sheet.name, "", known)
        known.add(name)
        found.of[name] = sheet
        found.drafts[name] = Draft(name, sheet.name)
        found.guesses[name] = {f: guess(sheets, sheet, at) for at, f in enumerate(sheet.fields)}
    for name, sheet in found.of.items():
        for column in sheet.fields:
            if column != "id":
                _lead(found, name, column)
    for name, draft in found.drafts.items():
        _describe(found, name, draft)
    _other_sides(found)
    return found


def _lead(found: Filed, model: str, column: str) -> None:
    """Whether a column holds what tells the rows of another sheet, or of its own."""
    words = column.split("_")
    for target, sheet in found.of.items():
        own = schema_names.words(target)
        named = words[: len(own)] == own or words[-len(own) :] == own or words[:-1] == own
        for key in sheet.fields:
            told = found.guesses[target][key]
            is_key = key == "id" or told.unique
            same = column == key and model != target and told.unique
            may = is_key and (named or same) and (model, column) != (target, key)
            if may and _holds(found, model, column, target, key):
                found.leads[model, column] = (target, key)
                return


def _holds(found: Filed, model: str, column: str, target: str, key: str) -> bool:
    """Whether every value of a column is one of a key's."""
    mine, theirs = found.of[model], found.of[target]
    asked = (
        f"SELECT count(*), sum({quote(column)} NOT IN (SELECT {quote(key)} FROM "
        f"{quote(theirs.table)} WHERE {quote(key)} IS NOT NULL)) FROM {quote(mine.table)} "
        f"WHERE {quote(column)} IS NOT NULL"
    )
    ((count, outside),) = found.sheets.ask(asked)
    return bool(count) and not outside


def _describe(found: Filed, model: str, draft: Draft) -> None:
    sheet = found.of[model]
    for column in sheet.fields:
        told = found.guesses[model][column]
        lead = found.leads.get((model, column))
        if column == "id":
            continue
        if lead is not None:
            name = names.reference_name(column, lead[0], draft.taken)
            line = Line(name, f"-> {lead[0]}", column=column, target=lead[0])
            line.modifiers += ["required"] if told.required else []
            # A few rows that differ by chance say nothing.
            line.modifiers += ["unique"] if told.unique and sheet.rows >= _MANY else []
        else:
            line = Line(column, told.type, column=column, comments=told.remarks)
            line.modifiers += ["required"] if told.required else []
            line.modifiers += ["unique"] if told.unique else []
            line.modifiers += [f"label {quoted(told.label)}"] if told.label else []
        draft.taken.add(line.name)
        draft.lines.append(line)


def _other_sides(found: Filed) -> None:
    for name, draft in found.drafts.items():
        for line in [line for line in draft.lines if line.target]:
            parent = found.drafts[line.target]
            many = "_".join(schema_names.plural(" ".join(schema_names.words(name))).split())
            back = names.field_name(many, parent.taken | {one.name for one in parent.lines})
            parent.taken.add(back)
            parent.lines.append(Line(back, f"<- {name}.{line.name}"))


def rows_of(found: Filed, model: str) -> Iterator[tuple[int, dict[str, str]]]:
    """The rows of a model as texts of its own fields, each with its line in the file.

    A relation stands as the text that tells its row; `id` is the number that the file gave.
    """
    sheet, told = found.of[model], found.guesses[model]
    listed = ", ".join(quote(column) for column in sheet.fields)
    for line, *cells in found.sheets.rows.execute(
        f"SELECT line, {listed} FROM {quote(sheet.table)} ORDER BY line"
    ):
        row = {}
        for column, cell in zip(sheet.fields, cells, strict=True):
            if cell is not None:
                leads = (model, column) in found.leads or column == "id"
                row[column] = str(cell) if leads else told[column].read(str(cell))
        yield line, row


def data_file(found: Filed, model: str, texts: dict[tuple[str, str, str], str]) -> str | None:
    """The rows of a model as a data file, where its fixed rows can be told by a text.

    `texts` has for each row that others lead to what it is told by; those of this model are added.
    """
    draft, sheet = found.drafts[model], found.of[model]
    guesses = found.guesses[model]
    telling = next(
        (
            f
            for f in sheet.fields
            if guesses[f].unique and guesses[f].required and _is_text(guesses[f])
        ),
        "",
    )
    led_to = [key for target, key in found.leads.values() if target == model]
    if not telling:
        return None
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    lines = [line for line in draft.lines if line.column]
    writer.writerow([line.name for line in lines])
    for _, row in rows_of(found, model):
        for key in led_to:
            if key in row:
                texts[model, key, row[key]] = row[telling]
        cells = []
        for line in lines:
            lead = found.leads.get((model, line.column))
            cell = row.get(line.column, "")
            if lead is not None and cell:
                cell = texts.get((*lead, cell), "")
                if not cell:
                    return None
            cells.append(cell)
        writer.writerow(cells)
    return out.getvalue()


def _is_text(told: Guess) -> bool:
    return told.type.startswith(("text", "email"))
