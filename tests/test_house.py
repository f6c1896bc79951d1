"""The house: what no import contract can say."""

from __future__ import annotations

import re
from importlib import resources
from pathlib import Path

SOURCE = Path(str(resources.files("welbik")))
_NAMED = re.compile("sqlite|postgres|maria|mysql|psycopg", re.IGNORECASE)
# Their own files, the two lists of them, and what is written for people.
_MAY = {
    *(f"storage/{name}.py" for name in ("sqlite", "postgresql", "mariadb", "connect", "address")),
    *(f"storage/{name}_catalog.py" for name in ("sqlite", "postgresql", "mariadb")),
    *("storage/mariadb_sql.py", "storage/mariadb_ddl.py", "storage/sqlite_sql.py"),
    *(f"blueprint/kit/{name}.py" for name in ("sqlite", "postgresql", "mariadb", "dialects")),
    *("project/layout.py", "project/settings.py", "cli/migrate.py", "cli/adopt.py"),
    # A file's rows are held in one while they are looked at.
    "adoption/sheets.py",
    # Tables that one keeps for itself.
    "schema/consistency.py",
}


def test_no_other_file_names_a_database() -> None:
    """A database is its own file in `storage`, and one in the kit."""
    found = {
        str(path.relative_to(SOURCE))
        for path in SOURCE.rglob("*")
        if path.suffix in (".py", ".jinja", ".html")
        and _NAMED.search(path.read_text("utf-8", "replace"))
    }
    assert found - _MAY == set()


def test_a_file_has_one_subject() -> None:
    """Under 640 lines, in the house and its tests."""
    files = [*SOURCE.rglob("*.py"), *Path(__file__).parent.rglob("*.py")]
    long = {p.name: n for p in files if (n := len(p.read_text("utf-8").splitlines())) >= 640}
    assert long == {}
