"""Fixed rows: each cell as a value of its field."""

from __future__ import annotations

from collections.abc import Sequence

from ..language import syntax
from ..language.diagnostics import Report
from ..problems import did_you_mean, nearest
from ..rules.strings import Strings
from .model import Field, FixedRows, Model, Reference, Schema
from .relations import unknown_model


def resolve_rows(
    files: Sequence[syntax.File], schema: Schema, report: Report
) -> dict[str, FixedRows]:
    """The fixed rows of each model that has some."""
    found: dict[str, FixedRows] = {}
    for rows in (rows for file in files for rows in file.rows):
        name = rows.model.text
        if name not in schema.models:
            unknown_model(rows.model, schema.models, report)
        elif name in found:
            report.add(
                "said-twice",
                f"the rows of {name} are declared twice",
                rows.model.span,
                "put them under one 'rows'",
            )
        elif rows.header:
            found[name] = _Reader(schema.models[name], report).read(rows)
        elif rows.file is None:
            report.add(
                "empty-rows",
                f"there are no rows of {name} here",
                rows.model.span,
                "name the fields in the first line below: name | severity",
            )
    return found


class _Reader:
    def __init__(self, model: Model, report: Report) -> None:
        self.model = model
        self.report = report

    def read(self, rows: syntax.Rows) -> FixedRows:
        members = self._header(rows.header)
        lines: list[tuple[object, ...]] = []
        seen: dict[tuple[str, object], syntax.Cell] = {}
        for cells in rows.lines:
            values: list[object] = []
            for member, cell in zip(members, cells, strict=True):
                value = self._value(member, cell) if member is not None else None
                values.append(value)
                if member is not None and member.unique and value is not None:
                    self._check_unique(member, value, cell, seen)
            lines.append(tuple(v for v, m in zip(values, members, strict=True) if m is not None))
        self._check_required(rows, [m for m in members if m is not None])
        names = tuple(m.name for m in members if m is not None)
        return FixedRows(names, tuple(lines))

    def _header(self, words: Sequence[syntax.Word]) -> list[Field | Reference | None]:
        known = [member.name for member in self.model.members]
        found: list[Field | Reference | None] = []
        for word in words:
            if word.text not in known:
                self.report.add(
                    "unknown-field",
                    f"{self.model.name} has no field {word.text!r}",
                    word.span,
                    did_you_mean(word.text, known),
                    # In a CSV file the place is the whole line.
                    fix=nearest(word.text, known) if word.span.text == word.text else None,
                )
            elif any(m is not None and m.name == word.text for m in found):
                self.report.add(
                    "said-twice",
                    f"{word.text!r} is named twice",
                    word.span,
                    "keep one of the two",
                )
                found.append(None)
                continue
            found.append(self.model.stored(word.text) if word.text in known else None)
        return found

    def _check_required(self, rows: syntax.Rows, given: list[Field | Reference]) -> None:
        for member in self.model.members:
            default = isinstance(member, Field) and (
                member.default is not None or member.kind.self_made
            )
            if member.required and not default and member not in given and rows.lines:
                self.report.add(
                    "missing-field",
                    f"{member.name!r} is required, and these rows do not name it",
                    rows.model.span,
                    "add a column for it",
                    (("it is declared here", member.span),),
                )

    def _value(self, member: Field | Reference, cell: syntax.Cell) -> object:
        if cell.value is None:
            if member.required and not (isinstance(member, Field) and member.default is not None):
                self.report.add(
                    "missing-value",
                    f"{member.name!r} is required, and this cell is empty",
                    cell.span,
                    "give it a value",
                )
            return None
        if isinstance(member, Reference):
            return cell.value.text
        value = member.kind.default(_literal(cell.value, member), self.report)
        bounds = getattr(member.kind, "bounds", None)
        if value is not None and bounds is not None:
            from ..kinds.bounds import exceeds

            low, high = bounds
            outside = (low is not None and exceeds(low, value)) or (
                high is not None and exceeds(value, high)
            )
            if outside:
                self._outside(cell, f"{cell.value.span.text} is outside {bounds}")
        elif member.pattern is not None and value is not None:
            text = str(value)
            if not Strings(member.pattern, 1, max(1, len(text))).matches(text):
                self._outside(cell, f"this does not match {member.pattern.text}")
        return value

    def _outside(self, cell: syntax.Cell, message: str) -> None:
        self.report.add(
            "wrong-value", message, cell.span, "change the value or the field's declaration"
        )

    def _check_unique(
        self,
        member: Field | Reference,
        value: object,
        cell: syntax.Cell,
        seen: dict[tuple[str, object], syntax.Cell],
    ) -> None:
        key = (member.name, value)
        if key in seen:
            self.report.add(
                "duplicate-value",
                f"{member.name!r} is unique, and this value stands here twice",
                cell.span,
                "change one of the two",
                (("the first", seen[key].span),),
            )
        seen[key] = cell


def _literal(literal: syntax.Literal, field: Field) -> syntax.Literal:
    """A cell as the literal that its field is written with: texts need no quotes there."""
    kind = field.kind.written
    if literal.kind in ("word", "words"):
        return literal._replace(kind="string") if kind == "string" else literal
    if literal.kind != "csv":
        return literal
    text = literal.text.replace(" ", "T", 1) if kind == "datetime" else literal.text
    if kind == "number":
        try:
            float(text)
        except ValueError:
            kind = "string"
    if kind == "boolean" and text not in ("yes", "no"):
        kind = "string"
    return literal._replace(kind=kind, text=text)
