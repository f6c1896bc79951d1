"""Columns as SQLAlchemy source, from the same description that migrations and fills read."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import replace

from ..kinds.literals import quote
from ..rules.brought import use
from ..schema.model import Field, Reference, Schema
from ..storage.connect import WORDS, backend
from ..storage.ddl import Ddl, indexes_of
from ..storage.forms import form_of
from ..storage.tables import Column, Index, Table, ends, identifier, table_column, tables_of
from .made_from import Watched
from .python import Call, keywords

_ON_DELETE = {"remove": "CASCADE", "clear": "SET NULL"}
_TOLD = {
    **{
        "bigint": f"{use.sa}.BigInteger()",
        "double": f"{use.sa}.Double()",
        "timestamp": f"{use.columns}.Moment()",
    },
    **{"seconds": f"{use.columns}.Duration()", "json": f"{use.sa}.JSON(none_as_null=True)"},
}
_FROM_ANNOTATION = {
    **{
        "integer": f"{use.sa}.Integer()",
        "boolean": f"{use.sa}.Boolean()",
        "date": f"{use.sa}.Date()",
    },
    **{"time": f"{use.columns}.Clock()"},
}


def column_type(field: Field, *, alone: bool = False) -> str:
    """The type of a field's column; empty where its annotation tells it, unless it stands `alone`."""
    if field.native or field.yes_no or field.empty is not None:
        return _as_others(field)
    given = field.kind.column()
    if given:
        return given
    word, *numbers = field.kind.stored().type.split()
    if word == "text":
        return f"{use.sa}.String({numbers[0]})" if numbers else f"{use.sa}.Text()"
    if word == "decimal":
        return f"{use.columns}.Exact({', '.join(numbers)})"
    return _TOLD.get(word) or (_FROM_ANNOTATION.get(word, "") if alone else "")


_FORMS = {
    **{
        "zoned": f"{use.adopted}.Zoned()",
        "flag": f"{use.adopted}.Flag()",
        "bits": f"{use.adopted}.Bits()",
    },
    "dashed": f"{use.adopted}.Dashed()",
}


def is_wide(native: str) -> bool:
    """Whether a type holds whole numbers beyond 32 bits."""
    said = native.lower()
    return said.startswith(("bigint", "int8", "bigserial")) or (
        said.startswith("int") and "unsigned" in said
    )


_SINGLE = r"(real|float4|float)(\(|$| unsigned)"


def _as_others(field: Field) -> str:
    """The type of a column that others made."""
    word, *numbers = field.kind.stored().type.split()
    form = form_of(table_column(field))
    day = word == "date"
    if form == "words":
        found = f"{use.adopted}.Words({', '.join(map(quote, field.yes_no))})"
    elif form == "seconds":
        found = f"{use.adopted}.DaySeconds()" if day else f"{use.adopted}.Seconds()"
    elif form == "iso":
        found = f"{use.adopted}.IsoDay()" if day else f"{use.adopted}.Iso()"
    elif form == "plain":
        found = f"{use.adopted}.Number({', '.join(numbers)})"
    elif form == "size":
        found = f"{use.adopted}.Size()"
    elif form in ("told", "padded", "digits"):
        found = f"{use.adopted}.{form.capitalize()}({', '.join(numbers)})"
    elif form:
        found = _FORMS[form]
    elif word == "double" and re.match(_SINGLE, field.native.lower()):
        found = f"{use.adopted}.Single()"
    elif word == "integer" and not form and is_wide(field.native):
        found = f"{use.sa}.BigInteger()"
    elif word == "text" and not form and field.native:
        told = re.search(r"\((\d+)\)", field.native)
        found = f"{use.sa}.String({told[1]})" if told else f"{use.sa}.Text()"
    else:
        plain = replace(field, native="", empty=None)
        found = column_type(plain, alone=field.empty is not None) or (
            f"{use.columns}.Identifier()" if word == "uuid" and field.empty is not None else ""
        )
    if field.empty is None:
        return found
    return f"{use.adopted}.Never({found}, {_stands(field, word)})"


def _stands(field: Field, word: str) -> str:
    """What stands for an empty value in a column, as source."""
    given = field.empty or ""
    if form_of(table_column(field)) == "seconds":
        return given
    if word in ("integer", "bigint", "double", "seconds", "reference"):
        return given
    if word == "decimal":
        return f"{use.Decimal}({quote(given)})"
    return quote(given)


def tables_once(schema: Schema) -> Mapping[str, Table]:
    """The tables of a schema, or of one that notes what is looked at."""
    return schema.tables if isinstance(schema, Watched) else tables_of(schema)


class TableCode:
    """The columns of a model's class, as the tables of the schema have them."""

    def __init__(self, schema: Schema, table: str) -> None:
        self.schema = schema
        self.tables = tables_once(schema)
        self.table = self.tables[table]

    def of(self, table: str) -> TableCode:
        """The columns of another table."""
        return TableCode(self.schema, table)

    def column(self, member: Field | Reference) -> Column:
        found = self.table.column(member.column)
        assert found is not None
        return found

    def optional(self, column: Column) -> str:
        """What an annotation ends in where the column may be empty."""
        if column.empty is not None:
            return " | None"
        told = column.name in (self.table.key, *self.table.keys)
        return "" if column.required or (told and not self.table.keyless) else " | None"

    def arguments(self, column: Column, attribute: str) -> list[str]:
        """What stands first in `mapped_column`: the column's name, and what it refers to."""
        named = [quote(column.name)] if column.name != attribute else []
        return [*named, self.foreign_key(column)] if column.references else named

    def found_by(self, column: Column) -> list[str]:
        """What a column says of an index over itself alone."""
        found = [i for i in indexes_of(self.table) if i.columns == (column.name,) and not i.live]
        if not found:
            return []
        return ["unique=True", "index=True"] if any(i.unique for i in found) else ["index=True"]

    def more(self) -> list[Call]:
        """What the table has besides its columns, as source: indexes over several, and checks."""
        found = [
            Call(f"{use.tables}.{'live' if index.live else 'index'}", _index_arguments(index))
            for index in indexes_of(self.table)
            if len(index.columns) > 1 or index.live
        ]
        for column in self.table.columns:
            if not form_of(column) and column.empty is None:
                found += _held(column)
        return found + _rules(self.table)

    def foreign_key(self, column: Column) -> str:
        key = self.tables[column.references].own
        action = _ON_DELETE.get(column.removal)
        told = [f'ondelete="{action}"'] if action else []
        held = column in self.table.bound and not self.table.as_it_is
        word = f"{use.sa}.ForeignKey" if held else f"{use.loose}.Loose"
        return f"{word}({', '.join([quote(f'{column.references}.{key}'), *told])})"


def _index_arguments(index: Index) -> list[str]:
    told = ["unique=True"] if index.unique and not index.live else []
    told += [f"ordered={index.ordered}"] if index.ordered else []
    return [*map(quote, index.columns), *told]


def _held(column: Column) -> Iterator[Call]:
    """What the values of a column are held to."""
    if column.range:
        told = [_end(end, column.type) for end in ends(column.range)]
        yield Call(f"{use.tables}.between", [quote(column.name), *told])
    # That a text has a character at least, and no more than its type says, the kit knows.
    if column.length and column.type != f"text {column.length.removeprefix('1..')}":
        told = [end or "None" for end in ends(column.length)]
        yield Call(f"{use.tables}.length", [quote(column.name), *told])
    if column.among:
        values = f"[{', '.join(map(quote, column.among))}]"
        yield Call(f"{use.tables}.among", [quote(column.name), values])


def _end(end: str, type_: str) -> str:
    if not end:
        return "None"
    plain = type_.split()[0] in ("integer", "bigint", "double", "seconds")
    return end if plain else quote(Ddl().literal(end, type_).strip("'"))


def _rules(table: Table) -> list[Call]:
    """The rules of a table in the words of most databases, and of those that have others, or none."""
    written = {word: dict(backend(word).ddl.rules(table)) for word in WORDS}
    found = []
    for check in table.checks:
        name = identifier(table.name, check.name, "rule")
        texts = {word: rules.get(name, "") for word, rules in written.items()}
        most = max(texts.values(), key=[*texts.values()].count)
        others = {word: quote(text) for word, text in texts.items() if text != most}
        found.append(
            Call(f"{use.tables}.rule", [quote(check.name), quote(most), *keywords(others)])
        )
    return found
