"""A new project."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping
from pathlib import Path

from ..kinds.literals import toml
from ..problems import WelbikError
from ..schema.names import label
from .settings import FILE, check_package
from .writing import write_all

_EXAMPLE = """\
# Declarations: one model a block, one field a line. Everything else is made from them.
# Check them with `welbik check`; docs/language.md of Welbik has the whole language.

model Keeper "A member who looks after hives"
    name        text 2..80, required    # at least 2 and at most 80 characters
    email       email, required, unique
    joined      date ..today, required, default today
    hives       <- Hive.keeper, sorted by code    # the other side of Hive.keeper
    shown as "{name}"    # what stands for a keeper elsewhere

model Hive "A colony and the box it lives in"
    code        text 7..7, required, unique, matches "[A-Z]{2}-[0-9]{4}", hint "Such as AB-1234"
    keeper      -> Keeper, required    # many hives to one keeper
    kind        one of national | top_bar "Top-bar" | long, default national
    frames      integer 4..24, required, default 11
    list code, keeper, kind, frames    # the columns of the list page
    sort code

seed    # how many rows `welbik fill` makes
    12 Keeper
    60 Hive
"""

_IGNORED = """\
__pycache__/
*.db
*.db.before-*
*.db-shm
*.db-wal
/instance/
/.venv/
/.welbik/staging-*/
"""


def settings_text(title: str, package: str, database: str = "") -> str:
    """A welbik.toml with every key."""
    place = "DATABASE_URL goes before it"
    place = place if database else f"a file beside this one; {place}"
    return (
        f"title = {toml(title)}\n"
        f'package = "{package}"\n'
        f"database = {toml(database or f'sqlite:///{package}.db')}    # {place}\n"
        'timezone = "UTC"                # where dates and times are typed and shown\n'
        'locale = "en-GB"                # how dates and numbers are written\n'
        "page = 25                       # rows a page\n"
        "seed = 1                        # another number makes other rows\n"
        "production = false              # true: made-up rows are never added\n"
    )


_LETTERS = str.maketrans({"ß": "ss", "æ": "ae", "œ": "oe", "ø": "o", "đ": "d", "ł": "l", "þ": "th"})
"""Letters that are no plain letter with a mark."""


def package_name(folder: str) -> str:
    """A package's name made of a folder's."""
    plain = folder.lower().translate(_LETTERS)
    plain = unicodedata.normalize("NFKD", plain).encode("ascii", "ignore").decode()
    name = re.sub(r"[^a-z0-9]+", "_", plain).strip("_")
    name = name if name[:1].isalpha() else f"site_{name}".strip("_")
    try:
        check_package(name)
    except WelbikError:
        name = f"{name}_site"
    return name


def make_project(
    folder: Path,
    *,
    title: str = "",
    package: str = "",
    declarations: str = _EXAMPLE,
    file: str = "",
    files: Mapping[str, str] | None = None,
    database: str = "",
) -> list[str]:
    """Writes a new project into a folder, which may exist; returns the files' names.

    `files` are declarations by file name, in place of one with `declarations`.

    Raises WelbikError where a project or one of the files is there already.
    """
    if folder.exists() and not folder.is_dir():
        raise WelbikError(f"{folder} is a file", "name a folder", status=2)
    if (folder / FILE).exists():
        raise WelbikError(
            f"there is a project in {folder} already",
            "go on there, or name another folder",
            status=2,
        )
    package = package or package_name(folder.resolve().name)
    check_package(package)
    title = title or label(re.sub(r"[-_\s]+", "_", folder.resolve().name))
    wanted = {
        FILE: settings_text(title, package, database),
        **(files if files is not None else {f"models/{file or package}.welbik": declarations}),
        ".gitignore": _IGNORED,
    }
    made = {
        name: text
        for name, text in wanted.items()
        if name != ".gitignore" or not (folder / name).exists()
    }
    for name in made:
        if (folder / name).exists():
            raise WelbikError(
                f"{folder / name} is there already",
                "move it away, or name another folder",
                status=2,
            )
    folder_was_there = folder.exists()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        write_all(folder, made)
    except OSError as error:
        raise WelbikError(
            f"{folder} can't be made: {error.strerror}", "check the path and its permissions"
        ) from None
    except WelbikError:
        if not folder_was_there:
            folder.rmdir()
        raise
    return list(made)
