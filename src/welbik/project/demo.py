"""The example project: the register of a made-up beekeepers' association."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from ..problems import WelbikError
from ..project_files import SETTINGS_LIMIT, read_file
from .database import ready_database
from .declarations import schema_of
from .layout import make_project
from .settings import FILE, read_settings

TITLE = "Beekeepers' register"
PACKAGE = "beekeepers"


def declarations() -> str:
    return (files("welbik.demo") / "hives.welbik").read_text("utf-8")


def make_demo(folder: Path) -> bool:
    """Makes the example project unless it is there; whether it was made just now."""
    if (folder / FILE).is_file():
        text = read_file(folder, FILE, SETTINGS_LIMIT) or b""
        if f'package = "{PACKAGE}"' in text.decode("utf-8", "replace"):
            return False
        raise WelbikError(
            f"there is another project in {folder}",
            "name another folder: welbik demo DIR",
            status=2,
        )
    if folder.is_dir() and any(folder.iterdir()):
        raise WelbikError(
            f"the folder {folder} is not empty", "name another folder: welbik demo DIR", status=2
        )
    make_project(folder, title=TITLE, package=PACKAGE, declarations=declarations(), file="hives")
    return True


def summary(folder: Path) -> dict[str, int]:
    """What the project holds, counted on disk and in the database."""
    settings = read_settings(folder)
    schema = schema_of(settings.root)
    package = settings.root / settings.package
    code = [p for p in package.rglob("*.py") if "kit" not in p.parts]
    pages = [p for p in package.rglob("*.html") if "look" not in p.parts]
    database = ready_database(settings, schema)
    try:
        rows = sum(database.count(model.table) for model in schema)
    finally:
        database.close()
    return {
        "models": len(schema.models),
        "lines of declarations": sum(
            len(p.read_text("utf-8").splitlines()) for p in (settings.root / "models").glob("*")
        ),
        "lines of Python for them": sum(len(p.read_text("utf-8").splitlines()) for p in code),
        "pages": len(pages),
        "rows": rows,
    }
