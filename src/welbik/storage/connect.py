"""From an address to an open database: the one list of the databases there are."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path

from ..problems import WelbikError, did_you_mean
from .address import Address, read_address
from .backend import Database

_KNOWN = {
    "sqlite": "sqlite.Sqlite",
    "postgresql": "postgresql.Postgresql",
    "mariadb": "mariadb.Mariadb",
}
"""The class of each database, by what it is called; loaded when it is asked for."""
_ALSO = {"mysql": "mariadb"}
WORDS = tuple(_KNOWN)


IN_MEMORY = "sqlite://"
"""The address of a new database that is gone with its connection."""


def backend(word: str) -> type[Database]:
    """The database of a name, as addresses begin with; raises WelbikError for any other."""
    word = _ALSO.get(word, word)
    if word not in _KNOWN:
        raise WelbikError(f"no database is called {word!r}", did_you_mean(word, [*_KNOWN, *_ALSO]))
    module, _, name = _KNOWN[word].partition(".")
    found: type[Database] = getattr(import_module(f"{__package__}.{module}"), name)
    return found


def known(url: str, inside: Path | None = None) -> tuple[type[Database], Address]:
    """The database that an address is of, and its parts; raises WelbikError for what is none.

    `inside` is the project whose file holds the address; None if a person gave it.
    """
    address = read_address(url, inside)
    return backend(address.scheme), address


def connect(
    url: str,
    root: Path,
    *,
    create: bool = False,
    inside: Path | None = None,
    loads: bool = False,
) -> Database:
    """The open database. With `create` a missing one is made; with `loads` rows come in bulk."""
    found, address = known(url, inside)
    return found.open(address, root, create=create, loads=loads)
