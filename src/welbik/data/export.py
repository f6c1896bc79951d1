"""Made-up rows written to files, without a database: CSV, Parquet or SQL, a file for each table."""

from __future__ import annotations

import csv
import datetime as dt
from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from decimal import Decimal
from pathlib import Path
from typing import IO, Any

from ..problems import WelbikError
from ..rules.sql import quote
from ..schema.model import Many, Model
from ..storage.ddl import Ddl
from ..storage.packing import Packing
from ..storage.tables import tables_of
from .making import BATCH, Making
from .parts import Part, Tables

FORMS = ("csv", "parquet", "sql")
_AT_ONCE = 500


def export(
    making: Making,
    folder: Path,
    form: str,
    part: Part,
    ddl: Ddl,
    tell: Callable[[str, int], None],
) -> dict[str, int]:
    """Writes a part of every table to a folder; returns the rows of each.

    A file takes its name when it is complete; one that is there is made anew.
    """
    tables = Tables(making)
    folder.mkdir(parents=True, exist_ok=True)
    return {
        of.table: export_table(tables, of, number, folder, form, part, ddl, tell)
        for number, of in enumerate(tables.each(), 1)
    }


def export_table(
    tables: Tables,
    of: Model | Many,
    number: int,
    folder: Path,
    form: str,
    part: Part,
    ddl: Ddl,
    tell: Callable[[str, int], None],
) -> int:
    """Writes a part of one table, the `number`-th; returns how many rows it has."""
    first, last = part.range(tables.rows(of))
    # Files of SQL are run in the order of their names.
    begin = f"{number:02}-" if form == "sql" else ""
    end = "" if part.whole else f"-{part.number:0{len(str(part.of))}}-of-{part.of}"
    path = folder / f"{begin}{of.table}{end}.{form}"
    rows, packing = 0, _packing(tables, of, ddl)
    _, types = packing.held([()] * len(packing.names))
    with _WRITERS[form](path, of.table, packing.names, types, ddl) as writer:
        for start in range(first, last, BATCH):
            stop = min(last, start + BATCH)
            columns = tables.batch(of, start, stop)
            rows += len(columns[0]) if columns else stop - start
            writer.write(packing.held(columns)[0] if columns else columns)
            tell(of.table, stop - start)
    return rows


def _packing(tables: Tables, of: Model | Many, ddl: Ddl) -> Packing:
    """How a table holds its columns, those that others made their own way too."""
    names, known = tuple(tables.columns(of)), tables_of(tables.schema)[of.table]
    columns = tuple(known.column(name) for name in names)
    return Packing(of.table, names, columns, tuple(tables.types(of)), ddl.exact, by_lines=False)


class _Writer(ABC):
    """A file that is written row by row, and whole or not at all."""

    def __init__(
        self, path: Path, table: str, names: Sequence[str], types: Sequence[str], ddl: Ddl
    ) -> None:
        self.path, self.table, self.names, self.types, self.ddl = path, table, names, types, ddl
        self.draft = path.with_name(f".{path.name}.draft")
        self.begin()

    @abstractmethod
    def begin(self) -> None: ...

    @abstractmethod
    def write(self, columns: Sequence[Sequence[Any]]) -> None: ...

    @abstractmethod
    def close(self) -> None: ...

    def __enter__(self) -> _Writer:
        return self

    def __exit__(self, kind: type[BaseException] | None, *error: object) -> None:
        self.close()
        if kind is None:
            self.draft.replace(self.path)
        else:
            self.draft.unlink(missing_ok=True)


class _Csv(_Writer):
    """RFC 4180; empty values are nothing between two commas, a text without a letter is two marks."""

    file: IO[str]

    def begin(self) -> None:
        self.file = self.draft.open("w", encoding="utf-8", newline="")
        self.writer = csv.writer(self.file, lineterminator="\r\n")
        self.writer.writerow(self.names)

    def write(self, columns: Sequence[Sequence[Any]]) -> None:
        told = [_told(column, type_) for column, type_ in zip(columns, self.types, strict=True)]
        if any("" in column for column in told):
            # The library writes a text without a letter as it writes nothing.
            lines = (",".join(map(_marked, row)) for row in zip(*told, strict=True))
            self.file.write("".join(f"{line}\r\n" for line in lines))
        else:
            self.writer.writerows(zip(*told, strict=True))

    def close(self) -> None:
        self.file.close()


def _marked(value: Any) -> str:
    text = "" if value is None else str(value)
    marked = value == "" or any(sign in text for sign in ',"\r\n')
    return '"{}"'.format(text.replace('"', '""')) if marked else text


class _Sql(_Writer):
    """INSERT statements as the project's database takes them."""

    file: IO[str]

    def begin(self) -> None:
        self.file = self.draft.open("w", encoding="utf-8")
        listed = ", ".join(map(quote, self.names))
        self.head = f"INSERT INTO {quote(self.table)} ({listed}) VALUES\n"

    def write(self, columns: Sequence[Sequence[Any]]) -> None:
        texts = [
            ["NULL" if v is None else self.ddl.literal(_text(v, type_), type_) for v in column]
            for column, type_ in zip(columns, self.types, strict=True)
        ]
        rows = [f"({', '.join(row)})" for row in zip(*texts, strict=True)]
        for start in range(0, len(rows), _AT_ONCE):
            self.file.write(self.head + ",\n".join(rows[start : start + _AT_ONCE]) + ";\n")

    def close(self) -> None:
        self.file.close()


class _Parquet(_Writer):
    """Columns with their types: decimals exact, moments in UTC."""

    writer: Any

    def begin(self) -> None:
        try:
            import pyarrow
            import pyarrow.parquet
        except ImportError:
            raise WelbikError(
                "Parquet files need a library that is not installed",
                'install it: pip install "welbik[parquet]"',
            ) from None
        self.arrow = pyarrow
        fields = [
            pyarrow.field(name, _arrow_type(pyarrow, type_))
            for name, type_ in zip(self.names, self.types, strict=True)
        ]
        self.schema = pyarrow.schema(fields)
        self.writer = pyarrow.parquet.ParquetWriter(self.draft, self.schema)

    def write(self, columns: Sequence[Sequence[Any]]) -> None:
        arrays = [
            self.arrow.array([_typed(v, type_) for v in column], field.type)
            for column, type_, field in zip(columns, self.types, self.schema, strict=True)
        ]
        self.writer.write_table(self.arrow.Table.from_arrays(arrays, schema=self.schema))

    def close(self) -> None:
        self.writer.close()


def _arrow_type(arrow: Any, type_: str) -> Any:
    word, *numbers = type_.split()
    if word == "decimal":
        return arrow.decimal128(int(numbers[0]), int(numbers[1]))
    found = {
        **{"integer": arrow.int64(), "bigint": arrow.int64(), "reference": arrow.int64()},
        **{"seconds": arrow.int64(), "double": arrow.float64(), "boolean": arrow.bool_()},
        **{"date": arrow.date32(), "timestamp": arrow.timestamp("us", "UTC")},
        **{"time": arrow.time64("us")},
    }
    return found.get(word, arrow.string())


def _value(value: Any, type_: str) -> Any:
    """A neutral value as files hold it: decimals with their places."""
    word, *numbers = type_.split()
    if value is not None and word == "decimal":
        return Decimal(value).scaleb(-int(numbers[1]))
    return value


def _typed(value: Any, type_: str) -> Any:
    """A neutral value as Python has it."""
    word = type_.split()[0]
    if value is None:
        return None
    if word == "date":
        return dt.date.fromisoformat(value)
    if word == "timestamp":
        return dt.datetime.fromisoformat(value).replace(tzinfo=dt.UTC)
    return dt.time.fromisoformat(value) if word == "time" else _value(value, type_)


def _text(value: Any, type_: str) -> str:
    """A neutral value as a text that databases write as a literal."""
    word = type_.split()[0]
    if word == "boolean":
        return "yes" if value else "no"
    return f"{_value(value, type_):f}" if word == "decimal" else str(value)


def _told(column: Sequence[Any], type_: str) -> Sequence[Any]:
    word = type_.split()[0]
    if word == "decimal":
        return [None if v is None else f"{_value(v, type_):f}" for v in column]
    if word == "boolean":
        return [None if v is None else "true" if v else "false" for v in column]
    if word in ("timestamp", "time"):
        # Whole seconds: what is made up has no parts of one.
        return [None if v is None else str(v).removesuffix(".000000") for v in column]
    return column


_WRITERS: dict[str, type[_Writer]] = {"csv": _Csv, "parquet": _Parquet, "sql": _Sql}
