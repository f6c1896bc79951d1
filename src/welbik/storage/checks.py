"""Rules of a table as SQL: read again from their text, with the table's columns for names."""

from __future__ import annotations

from ..kinds.base import value_type
from ..language.cursor import Cursor, Skip
from ..language.diagnostics import Report
from ..language.expressions import expression
from ..language.lexer import lines
from ..language.source import Source
from ..problems import WelbikError
from ..rules.sql import Sql
from ..rules.text import as_text
from ..rules.tree import Held, Node
from ..schema.entries import Entry
from ..schema.expressions import condition
from .forms import how
from .tables import Table, spelled


class TableNames:
    """Columns as the rules of a table spell them."""

    def __init__(self, table: Table) -> None:
        self.table_ = table
        self.columns = {spelled(column.name): column.name for column in table.columns}

    def table(self, model: str) -> str:
        return model

    def key(self, model: str) -> str:
        return "id"

    def column(self, model: str, name: str) -> str:
        return self.columns.get(name, name)

    def how(self, model: str, name: str) -> Held | None:
        return how(self.table_.column(self.column(model, name)))

    def joined(self, owner: str, name: str) -> tuple[str, str, str]:
        raise KeyError(name)


def _entries(table: Table) -> dict[str, Entry]:
    return {
        spelled(column.name): Entry("value", value_type(column.type), column.required)
        for column in table.columns
    }


def read_rule(table: Table, rule: str) -> Node:
    """The expression of a rule's text; raises WelbikError where it is none."""
    report = Report()
    read = lines(Source("rule", rule), report)
    try:
        cursor = Cursor(read[0], report)
        written = expression(cursor)
        node = condition(written, table.name, {table.name: _entries(table)}, report)
    except (Skip, IndexError):
        node = None
    if node is None:
        raise WelbikError(
            f"the rule {rule!r} of the table {table.name} can't be read",
            "bring back the migrations as they were, from version control",
        )
    return node


def rule_renamed(table: Table, rule: str, old: str, new: str) -> str:
    """A rule in which a column of the table has another name."""
    return as_text(
        read_rule(table, rule),
        lambda value: spelled(new) if value.name == spelled(old) else value.name,
    )


def check_sql(table: Table, rule: str, sql: Sql) -> str:
    """A CHECK's condition; its columns stand without their table, as in its definition."""
    text = sql.write(read_rule(table, rule), "\x00")
    return text.replace('"\x00".', "")
