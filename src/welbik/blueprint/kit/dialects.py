"""The databases that the site can stand on, each with its file."""

from __future__ import annotations

from .dialect import Dialect
from .mariadb import Mariadb
from .postgresql import Postgresql
from .sqlite import Sqlite

KNOWN: dict[str, Dialect] = {
    "sqlite": Sqlite(),
    "postgresql": Postgresql(),
    "mariadb": Mariadb(),
}
_ALSO = {"mysql": "mariadb"}


def of(name: str) -> Dialect:
    """A database by the name that addresses and SQLAlchemy have for it."""
    name = _ALSO.get(name, name)
    if name not in KNOWN:
        raise LookupError(
            f"No database is called {name!r}: known are {', '.join(KNOWN)}."
        )
    return KNOWN[name]
