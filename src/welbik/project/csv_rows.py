"""Fixed rows out of CSV files (RFC 4180) in data/."""

from __future__ import annotations

import csv
from pathlib import Path, PurePosixPath

from ..language import syntax
from ..language.diagnostics import Report
from ..language.source import Source, Span
from ..problems import WelbikError
from ..project_files import ROWS_LIMIT, read_file

FOLDER = "data"


def with_csv(rows: syntax.Rows, root: Path, report: Report) -> syntax.Rows:
    """The rows with what their file holds; a file that can't be read is reported."""
    if rows.file is None:
        return rows
    name = f"{FOLDER}/{rows.file.text}"
    if not _is_inside(rows.file.text):
        report.add(
            "no-such-file",
            f"{rows.file.span.text} lies outside {FOLDER}/",
            rows.file.span,
            f"put the file into {FOLDER}/",
        )
        return rows
    try:
        data = read_file(root, name, ROWS_LIMIT)
        text = data.decode("utf-8-sig") if data is not None else ""
    except (OSError, UnicodeDecodeError, WelbikError) as error:
        data, text = None, ""
        reason = error.message if isinstance(error, WelbikError) else f"{name} is not UTF-8 text"
        reason = f"{name} can't be read" if isinstance(error, OSError) else reason
    else:
        reason = f"{name} can't be read: there is no such file"
    if data is None:
        remedy = f"put the file into {FOLDER}/, saved as UTF-8"
        report.add("no-such-file", reason, rows.file.span, remedy)
        return rows
    return _read(rows, Source(name, text), report)


def _is_inside(name: str) -> bool:
    return ".." not in PurePosixPath(name).parts and not PurePosixPath(name).is_absolute()


def _read(rows: syntax.Rows, source: Source, report: Report) -> syntax.Rows:
    reader = csv.reader(source.text.splitlines(keepends=True), strict=True)
    lines: list[list[syntax.Cell]] = []
    header: list[syntax.Word] = []
    before = 0
    try:
        for cells in reader:
            span = _line(source, before + 1)
            before = reader.line_num
            if not cells:
                continue
            if not header:
                header = [syntax.Word(cell.strip(), span) for cell in cells]
            elif len(cells) != len(header):
                report.add(
                    "wrong-cells",
                    f"this row has {len(cells)} cells, the header {len(header)}",
                    span,
                    "an empty cell keeps its comma",
                )
            else:
                lines.append([_cell(cell, span) for cell in cells])
    except csv.Error as error:
        report.add(
            "wrong-cells", f"this is no CSV: {error}", _line(source, before + 1), "see RFC 4180"
        )
    return rows._replace(header=header, lines=lines)


def _line(source: Source, number: int) -> Span:
    """A whole line; a cell's own place is lost where it is quoted."""
    source.place(0)
    starts = source._starts
    start = starts[min(number, len(starts)) - 1]
    return Span(source, start, start + len(source.line(min(number, len(starts)))))


def _cell(text: str, span: Span) -> syntax.Cell:
    value = syntax.Literal("csv", text, span) if text else None
    return syntax.Cell(value, span)
