"""welbik adopt."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Callable, Mapping, Sequence
from itertools import count
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import paint

if TYPE_CHECKING:
    from ..adoption.adopt import Adopted


@click.command()
@click.argument("sources", nargs=-1, required=True, metavar="URL|FILE... [DIR]")
@click.option("--tables", multiple=True, metavar="PATTERN", help="Only these: 'shop_*'.")
@click.option("--without", multiple=True, metavar="PATTERN", help="All but these.")
@click.option("--prefix", default="", help="What names of tables begin with; models don't.")
@click.option("--schema", default="", help="The schema, where a database has several.")
@click.option("--preview", is_flag=True, help="Tell what would be declared, and write nothing.")
@click.option("--samples", is_flag=True, help="Describe what is stored, for made-up rows like it.")
@click.option("--load", is_flag=True, help="Store the rows of the files in the new database.")
@click.option("--title", default="", help="What the site is called; the folder's name unless said.")
@click.option("--package", default="", help="The Python package of the application.")
def command(sources: tuple[str, ...], preview: bool, load: bool, **asked: Any) -> None:
    """Declare the tables of a database that is there, or the columns of files.

    A project in DIR whose database is at URL, or more models in the one that is there. The
    database is only read; nothing in it changes. Of files (CSV, TSV, XLSX) each is a model.

    \b
    Example:
      welbik adopt mysql://clerk@localhost/shop shop --preview
      welbik adopt people.csv hives.csv register --load
    """
    from ..adoption.sheets import SUFFIXES
    from ..problems import WelbikError

    files = [one for one in sources if Path(one).suffix.lower() in SUFFIXES and "://" not in one]
    rest = [one for one in sources if one not in files]
    urls = [one for one in rest if "://" in one]
    folders = [one for one in rest if "://" not in one]
    if (len(urls) != 1) == (not files) or len(folders) > 1 or (urls and files):
        raise WelbikError(
            "adopt takes the address of one database, or files, and then a folder",
            "write: welbik adopt sqlite:///register.db register, or: welbik adopt people.csv register",
            status=2,
        )
    folder = Path(folders[0] if folders else ".")
    if files:
        _files([Path(one) for one in files], folder, preview, load, asked)
    else:
        _tables(urls[0], folder, preview, asked)


def _tables(url: str, folder: Path, preview: bool, asked: Mapping[str, Any]) -> None:
    from ..adoption.adopt import Wish
    from ..project import adopting

    wish = Wish(asked["tables"], asked["without"], asked["prefix"], asked["samples"])
    planned = adopting.plan(url, folder, wish, schema=asked["schema"], tell=_looked())
    if sys.stderr.isatty():
        click.echo("\r\033[K", nl=False, err=True)
    if preview:
        _show(planned.found)
        return
    made = adopting.write(planned, title=asked["title"], package=asked["package"])
    _done(planned.found, planned.where, folder, made)
    if planned.is_new and planned.tells_password:
        told = "the password stands in welbik.toml: take it out there where others read it, "
        click.echo(paint("warning", f"\n{told}and give the address as DATABASE_URL"))
    _next(folder, "welbik build && welbik migrate && welbik serve")


def _looked() -> Callable[[str], None]:
    """Says at a terminal how many tables were looked at: rows of long ones take a while."""
    if not sys.stderr.isatty():
        return lambda table: None
    seen = count(1)

    def tell(table: str) -> None:
        click.echo(f"\r\033[Klooked at {next(seen)} tables, {table} the last", nl=False, err=True)

    return tell


def _files(
    paths: list[Path], folder: Path, preview: bool, load: bool, asked: Mapping[str, Any]
) -> None:
    from ..adoption.sheets import Sheets
    from ..project import from_files

    sheets = Sheets(paths)
    try:
        planned = from_files.plan_files(folder, sheets)
        if preview:
            _show(planned.found)
            return
        made = from_files.write_files(
            planned, load=load, title=asked["title"], package=asked["package"]
        )
        _done(planned.found, ", ".join(path.name for path in paths), folder, made)
        if load:
            click.echo(f"stored {_loaded(planned, folder):,} rows")
    finally:
        sheets.close()
    _next(folder, "welbik build && welbik serve" if load else _FILL)


_FILL = "welbik build && welbik migrate && welbik fill && welbik serve"


def _loaded(planned: Any, folder: Path) -> int:
    """Makes the tables, and stores the rows of the files in them."""
    from ..project import from_files
    from ..project.migrating import Asking, migrate
    from ..project.settings import read_settings

    make = lambda what: True  # noqa: E731
    migrate(read_settings(folder), Asking(tell=lambda said: None, make=make), brief=True)
    with click.progressbar(length=planned.rows, label="rows") as bar:
        return from_files.load_rows(planned, lambda model, rows: bar.update(rows))


def _done(found: Adopted, whence: str, folder: Path, made: Sequence[str]) -> None:
    count = len(found.drafts)
    files = f", {len(made)} files" if len(made) > 1 else ""
    several = "s" * (count != 1)
    click.echo(f"declared {count} model{several} from {whence} in {folder / 'models'}{files}")
    _notes(found)


def _next(folder: Path, commands: str) -> None:
    go = f"cd {shlex.quote(str(folder))} && " if str(folder) != "." else ""
    click.echo(f"\nNext: {paint('command', go + commands)}")


def _show(found: Adopted) -> None:
    """What would be declared, table by table, and what can't be."""
    texts = found.texts()
    for draft in found.drafts.values():
        click.echo(f"{paint('command', draft.table)} → {draft.name}")
        for line in texts[draft.name].rstrip().split("\n"):
            click.echo(f"  {line}")
        click.echo()
    _notes(found)
    count = len(found.drafts)
    click.echo(f"\n{count} model{'s' * (count != 1)}; nothing was written.")


def _notes(found: Adopted) -> None:
    if found.pairs:
        click.echo(f"relations to many: {', '.join(found.pairs)}")
    if not found.notes:
        return
    click.echo(paint("command", "\nWhat the declarations can't say"))
    for note in found.notes:
        where = f"{note.table}.{note.column}" if note.column else note.table
        click.echo(f"  {paint('warning', where)}: {note.what}")
        click.echo(f"      {note.then}")
