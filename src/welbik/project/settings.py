"""welbik.toml: flat keys, all with defaults."""

from __future__ import annotations

import keyword
import os
import re
import sys
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

from ..problems import WelbikError, did_you_mean
from ..project_files import SETTINGS_LIMIT, read_file, resolve_below
from .machine_state import is_trusted

FILE = "welbik.toml"
_TAKEN = {
    "welbik",
    "flask",
    "sqlalchemy",
    "jinja2",
    "werkzeug",
    "pytest",
    "tests",
    "models",
    "data",
    "migrations",
    "instance",
}
_TAKEN |= {"supply", "visit", "conftest"}


_WANTED: dict[type, tuple[str, str]] = {
    int: ("a whole number", "25"),
    bool: ("true or false", "false"),
    str: ("a text between quotes", '"…"'),
}


@dataclass(frozen=True)
class Settings:
    """A project's settings; `root` is its folder."""

    root: Path
    title: str = "My site"
    package: str = "site_app"
    database: str = "sqlite:///site.db"
    timezone: str = "UTC"
    locale: str = "en-GB"
    page: int = 25
    seed: int = 1
    production: bool = False
    """Whether people's rows are in the database: made-up ones are never added then."""

    @property
    def address(self) -> str:
        """Where the database is: DATABASE_URL, else as welbik.toml says."""
        return os.environ.get("DATABASE_URL") or self.database

    @property
    def address_inside(self) -> Path | None:
        """The project, if its own file says where the database is; None if this user did."""
        given = os.environ.get("DATABASE_URL") or is_trusted(self.root, self.database)
        return None if given else self.root

    @property
    def files(self) -> Path:
        """Where the site keeps what is not in the database: as SITE_FILES says, or here."""
        named = os.environ.get("SITE_FILES")
        return Path(named) if named else resolve_below(self.root, "instance")

    @property
    def address_from(self) -> str:
        """Which setting says where the database is, and where it stands."""
        if os.environ.get("DATABASE_URL"):
            return "DATABASE_URL in the environment"
        text = read_file(self.root, FILE, SETTINGS_LIMIT) or b""
        lines = text.decode("utf-8", "replace").splitlines()
        found = [n for n, line in enumerate(lines, 1) if re.match(r"database\s*=", line)]
        place = f"line {found[0]}" if found else "where it is not said: this is the default"
        return f"'database' in {FILE}, {place}"

    def for_build(self) -> dict[str, Any]:
        """What the generated code is told."""
        names = ("title", "package", "database", "timezone", "locale", "page")
        return {name: getattr(self, name) for name in names}


def find_root(start: Path) -> Path:
    """The nearest folder with a welbik.toml, from `start` upwards."""
    for folder in (start, *start.parents):
        if (folder / FILE).exists():
            return folder
    raise WelbikError(
        f"there is no project here: no {FILE} in {start} or above it",
        "make one with: welbik init",
        status=2,
    )


def read_settings(start: Path) -> Settings:
    """The settings of the project around a folder; raises WelbikError for what is wrong."""
    import tomllib

    if not start.is_dir():
        raise WelbikError(f"{start} is no folder", "check --project", status=2)
    root = find_root(start.resolve())
    path = root / FILE
    try:
        data = tomllib.loads((read_file(root, FILE, SETTINGS_LIMIT) or b"").decode())
    except OSError as error:
        raise WelbikError(
            f"{path} can't be read: {error.strerror}", "check its permissions"
        ) from None
    except UnicodeDecodeError:
        raise WelbikError(f"{path} is not UTF-8", "save it as UTF-8") from None
    except tomllib.TOMLDecodeError as error:
        raise WelbikError(
            f"{path} is no valid TOML: {error}", 'write keys as: title = "My site"'
        ) from None
    kinds = {f.name: type(f.default) for f in fields(Settings) if f.name != "root"}
    for name, value in data.items():
        if name not in kinds:
            raise WelbikError(
                f"{FILE} has an unknown key {name!r}", did_you_mean(name, list(kinds))
            )
        if type(value) is not kinds[name]:
            what, example = _WANTED[kinds[name]]
            raise WelbikError(f"{name!r} in {FILE} is not {what}", f"write: {name} = {example}")
    settings = Settings(root, **data)
    _check(settings)
    return settings


def _check(settings: Settings) -> None:
    from zoneinfo import ZoneInfo

    check_package(settings.package)
    for name in (f.name for f in fields(Settings) if f.type == "str"):
        if not getattr(settings, name).isprintable():
            raise WelbikError(
                f"{name!r} in {FILE} holds a character that does not show", "take it out"
            )
    if settings.page < 1 or settings.page > 1000:
        raise WelbikError(f"'page' in {FILE} is {settings.page}", "a page has 1 to 1000 rows")
    try:
        ZoneInfo(settings.timezone)
    except (KeyError, ValueError, OSError):
        raise WelbikError(
            f"{settings.timezone!r} in {FILE} is no time zone",
            'write one such as "Europe/Lisbon" or "UTC"',
        ) from None

    if not _is_locale(settings.locale):
        raise WelbikError(
            f"{settings.locale!r} in {FILE} is no locale",
            'write one such as "en-GB", "de" or "fr-CA"',
        )


def _is_locale(name: str) -> bool:
    # Only what a locale is made of: the name goes into code.
    if not re.fullmatch(r"[A-Za-z]{2,3}([-_][A-Za-z0-9]{2,8}){0,3}", name):
        return False
    # The usual one is known without loading all others.
    if name == Settings.locale:
        return True
    from babel import Locale, UnknownLocaleError

    try:
        Locale.parse(name, sep="-")
    except (UnknownLocaleError, ValueError):
        return False
    return True


def check_package(name: str) -> None:
    """Raises WelbikError for what can't be a package's name."""
    if (
        not name.isidentifier()
        or keyword.iskeyword(name)
        or not name.isascii()
        or name != name.lower()
    ):
        raise WelbikError(
            f"{name!r} can't be a package's name",
            "use small letters, digits and _, beginning with a letter",
        )
    if name in _TAKEN or name in sys.stdlib_module_names:
        raise WelbikError(
            f"the package name {name!r} is taken by another", f"call it {name}_site, for example"
        )
