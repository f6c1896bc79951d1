"""Tables in files: comma, semicolon and tab separated, and spreadsheets.

Every file is read once into a database beside it, which then answers whatever is asked of all rows:
memory does not grow with them.
"""

from __future__ import annotations

import csv
import importlib
import sqlite3
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import chain
from pathlib import Path
from typing import Any
from zipfile import BadZipFile, ZipFile

from ..problems import WelbikError
from ..rules.sql import quote
from .names import field_name

SUFFIXES = (".csv", ".tsv", ".tab", ".txt", ".xlsx")
_LOOKED_AT = 64 * 1024
_MARKS = ",;\t|"
_MOST_COLUMNS, _MOST_BLANK = 500, 100_000
"""Columns of a table, and empty rows between two others."""
_MB = 1024 * 1024
_PACKED, _TEXTS, _RATIO = 200 * _MB, 100 * _MB, 100
"""Bytes of a spreadsheet's file and of its shared texts, and how many times smaller a part of it
may be packed."""


@dataclass(frozen=True)
class Sheet:
    """A table of a file: its name, its headings, what fields are called for them, and how many rows
    there are."""

    name: str
    table: str
    headings: tuple[str, ...]
    fields: tuple[str, ...]
    rows: int


class Sheets:
    """The tables of some files, each with its rows as texts; an empty one is NULL."""

    def __init__(self, paths: list[Path]) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="welbik-sheets-")
        self.rows = sqlite3.connect(Path(self._folder.name) / "rows.db", isolation_level=None)
        self.rows.execute("PRAGMA journal_mode = OFF")
        self.rows.execute("PRAGMA synchronous = OFF")
        self.sheets: list[Sheet] = []
        for path in paths:
            for name, lines in _tables_of(path):
                self._add(name, lines, path)
        if not self.sheets:
            named = ", ".join(map(str, paths))
            raise WelbikError(f"there is no table in {named}", "name the columns in its first line")

    def close(self) -> None:
        self.rows.close()
        self._folder.cleanup()

    def ask(self, query: str) -> list[tuple[object, ...]]:
        return self.rows.execute(query).fetchall()

    def _add(self, name: str, lines: Iterator[list[str]], path: Path) -> None:
        head = next(lines, None)
        if head is None or not any(cell.strip() for cell in head):
            raise WelbikError(f"{path} has no headings", "name the columns in its first line")
        headings = tuple(cell.strip() for cell in head)
        while headings and not headings[-1]:
            headings = headings[:-1]
        if len(headings) > _MOST_COLUMNS:
            raise WelbikError(
                f"{path} has {len(headings):,} columns", f"a table has at most {_MOST_COLUMNS}"
            )
        taken: set[str] = set()
        fields: list[str] = []
        for heading in headings:
            fields.append("id" if heading.lower() == "id" else field_name(heading, taken))
            taken.add(fields[-1])
        table = f"sheet_{len(self.sheets)}"
        columns = ", ".join(f"{quote(field)} TEXT" for field in fields)
        self.rows.execute(f"CREATE TABLE {quote(table)} (line INTEGER PRIMARY KEY, {columns})")
        count = self._fill(table, lines, len(fields), path)
        self.sheets.append(Sheet(name, table, headings, tuple(fields), count))

    def _fill(self, table: str, lines: Iterator[list[str]], width: int, path: Path) -> int:
        marks = ", ".join("?" for _ in range(width + 1))
        statement = f"INSERT INTO {quote(table)} VALUES ({marks})"
        count = 0
        self.rows.execute("BEGIN")
        for number, cells in enumerate(lines, 2):
            if not any(cell.strip() for cell in cells):
                continue
            if len(cells) > width and any(cell.strip() for cell in cells[width:]):
                raise WelbikError(
                    f"{path}, row {number}: it has {len(cells)} cells, and there are {width} headings",
                    "give every column a heading, or put texts with a separator between quotes",
                )
            held = [cell.strip() or None for cell in cells[:width]]
            self.rows.execute(statement, [number, *held, *[None] * (width - len(held))])
            count += 1
        self.rows.execute("COMMIT")
        return count


def _tables_of(path: Path) -> Iterator[tuple[str, Iterator[list[str]]]]:
    if not path.is_file():
        raise WelbikError(f"there is no file {path}", "check its name", status=2)
    if path.suffix.lower() == ".xlsx":
        yield from _of_spreadsheet(path)
        return
    yield path.stem, _lines(path)


def _lines(path: Path) -> Iterator[list[str]]:
    """The rows of a text file; its separator is the one that its first line has most of."""
    encoding = _encoding(path)
    with path.open(encoding=encoding, newline="") as file:
        try:
            first = file.readline()
            mark = max(_MARKS, key=lambda one: _outside(first).count(one))
            file.seek(0)
            yield from csv.reader(file, delimiter=mark)
        except (csv.Error, UnicodeDecodeError) as error:
            raise WelbikError(f"{path} can't be read: {error}", "save it as UTF-8 CSV") from None


def _outside(line: str) -> str:
    """A line without what stands between quotes."""
    return "".join(part for at, part in enumerate(line.split('"')) if at % 2 == 0)


def _encoding(path: Path) -> str:
    with path.open("rb") as file:
        begin = file.read(4)
        if begin.startswith((b"\xff\xfe", b"\xfe\xff")):
            return "utf-16"
        file.seek(0)
        try:
            while True:
                some = file.read(_LOOKED_AT)
                if not some:
                    return "utf-8-sig"
                # A letter may go on in what is read next.
                some += file.readline()
                some.decode("utf-8-sig")
        except UnicodeDecodeError:
            return "cp1252"


def _of_spreadsheet(path: Path) -> Iterator[tuple[str, Iterator[list[str]]]]:
    try:
        openpyxl: Any = importlib.import_module("openpyxl")
    except ImportError:
        raise WelbikError(
            "spreadsheets need a library that is not installed",
            "install it: pip install 'welbik[spreadsheets]'",
        ) from None
    try:
        _check_size(path)
        book = openpyxl.load_workbook(path, read_only=True, data_only=True)
    except WelbikError:
        raise
    except Exception as error:
        raise WelbikError(f"{path} is no spreadsheet: {error}", "save it as .xlsx") from None
    tables = [(sheet.title, _rows_of(sheet, path)) for sheet in book.worksheets]
    tables = [(title, rows) for title, found in tables if (rows := _begun(found)) is not None]
    for title, rows in tables:
        yield path.stem if len(tables) == 1 else title, rows


def _begun(rows: Iterator[list[str]]) -> Iterator[list[str]] | None:
    """The same rows; None if there are none."""
    first = next(rows, None)
    return chain([first], rows) if first is not None else None


def _rows_of(sheet: Any, path: Path) -> Iterator[list[str]]:
    """The rows of a sheet from the first that is not empty on."""
    # How large a sheet is said to be is often wrong, and sometimes not said.
    sheet.reset_dimensions()
    blank, begun = 0, False
    try:
        for number, row in enumerate(sheet.iter_rows(values_only=True), 1):
            if not row or not any(value is not None for value in row):
                blank += 1
                if begun:
                    yield []
                continue
            if blank > _MOST_BLANK:
                raise WelbikError(
                    f"{path}, row {number}: {blank:,} empty rows stand above it",
                    "remove them, or what stands below them",
                )
            blank, begun = 0, True
            yield _without_end([_cell(value) for value in row])
    except (BadZipFile, ValueError, KeyError, SyntaxError, TypeError) as error:
        raise WelbikError(f"{path} can't be read: {error}", "save it again as .xlsx") from None


def _without_end(cells: list[str]) -> list[str]:
    while cells and not cells[-1]:
        cells.pop()
    return cells


def _check_size(path: Path) -> None:
    """Raises WelbikError for a file that unpacks to far more than a spreadsheet would."""
    with ZipFile(path) as archive:
        for part in archive.infolist():
            packed = max(part.compress_size, 1)
            is_bomb = part.file_size > 10 * _MB and part.file_size > _RATIO * packed
            is_large = part.filename.endswith("sharedStrings.xml") and part.file_size > _TEXTS
            if is_bomb or is_large or path.stat().st_size > _PACKED:
                raise WelbikError(
                    f"{path} unpacks to {part.file_size // _MB:,} MB in {part.filename}",
                    "save its tables as CSV",
                )


def _cell(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    told = str(value)
    return told.removesuffix(" 00:00:00")
