"""From a database URL to an open database."""

from __future__ import annotations

import re
from pathlib import Path

from ..problems import WelbikError, did_you_mean
from .sqlite import Database, path_of

_LATER = ("postgresql", "mariadb", "mysql")


def database_path(url: str, root: Path) -> Path:
    """The file behind a URL; raises WelbikError for what is no URL or not supported yet."""
    scheme = re.match(r"([a-z]+)(\+\w+)?:", url)
    if scheme is None:
        raise WelbikError(f"{url!r} is no database address", "write it as sqlite:///name.db")
    if scheme.group(1) in _LATER:
        raise WelbikError(
            f"{scheme.group(1)} databases are not supported yet", "use sqlite:///name.db for now"
        )
    if scheme.group(1) != "sqlite":
        raise WelbikError(
            f"no database is called {scheme.group(1)!r}",
            did_you_mean(scheme.group(1), ["sqlite", *_LATER]),
        )
    return path_of(url, root)


def connect(url: str, root: Path, *, create: bool = False) -> Database:
    """The open database. With `create` a missing file is made."""
    return Database(database_path(url, root), create=create)
