"""Relations of rows that were loaded while nobody looked at what they lead to."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..problems import WelbikError
from ..rules.sql import quote
from .tables import Column, Table

if TYPE_CHECKING:
    from .backend import Database


def check_references(database: Database, table: Table) -> None:
    """Raises WelbikError where rows of a table lead to rows that are not there."""
    for column in table.columns:
        if column.references in database.tables:
            _check(database, table, column)


def _check(database: Database, table: Table, column: Column) -> None:
    name = quote(column.name)
    key = quote(database.tables[column.references].own)
    given = f"own.{name} IS NOT NULL"
    if column.empty is not None:
        given += f" AND own.{name} <> {database.ddl.literal(column.empty, column.type)}"
    lost = database.run(
        # Each of those that are led to once: all are side by side in the relation's index.
        f"SELECT 1 FROM (SELECT DISTINCT {name} FROM {quote(table.name)}) AS own "
        f"LEFT JOIN {quote(column.references)} AS other "
        f"ON other.{key} = own.{name} WHERE {given} AND other.{key} IS NULL LIMIT 1"
    )
    if lost:
        raise WelbikError(
            f"rows of {table.name} would refer to rows of {column.references} that are not there",
            "nothing was changed",
        )
