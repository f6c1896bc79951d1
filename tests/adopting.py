"""Databases that others made, for tests: loaded from `schemas`, and adopted."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from conftest import Project
from servers import database

from welbik.storage.backend import Database
from welbik.storage.connect import connect

SCHEMAS = Path(__file__).parent / "schemas"


def statements(text: str) -> list[str]:
    """The statements of a file: each ends at the end of a line."""
    return [one for one in text.split(";\n") if one.strip()]


@contextmanager
def loaded(word: str, folder: Path, text: str) -> Iterator[str]:
    """The address of a database in which some SQL was run."""
    with database(word, folder) as address:
        with connect(address, folder, create=True) as opened:
            if word == "mariadb":
                # As servers have it that nobody asked for more.
                opened.run("SET sql_mode = 'NO_BACKSLASH_ESCAPES'")
            for statement in statements(text):
                opened.run(statement)
        yield address


def catalog_of(address: str, folder: Path) -> dict[str, object]:
    """All that the catalogue tells of the tables that are not for our own use."""
    with connect(address, folder) as opened:
        found = opened.catalog()
        return {
            n: t for n, t in found.tables.items() if not opened.is_ours(n) and n != "welbik_sent"
        }


def rows_of(opened: Database, table: str, order: str) -> list[tuple[object, ...]]:
    return opened.run(f'SELECT * FROM "{table}" ORDER BY {order}')


def adopted(address: str, folder: Path, *arguments: str) -> Project:
    """A project that a database was adopted into, built and migrated."""
    found = Project(folder / "site")
    found.root.mkdir(exist_ok=True)
    found.run("adopt", address, ".", *arguments)
    found.run("build")
    found.run("migrate")
    return found
