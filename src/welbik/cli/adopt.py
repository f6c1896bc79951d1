"""welbik adopt."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import paint

if TYPE_CHECKING:
    from ..project.adopting import Plan


@click.command()
@click.argument("source", metavar="URL")
@click.argument("folder", default="", metavar="[DIR]")
@click.option("--tables", multiple=True, metavar="PATTERN", help="Only these: 'shop_*'.")
@click.option("--without", multiple=True, metavar="PATTERN", help="All but these.")
@click.option("--prefix", default="", help="What names of tables begin with; models don't.")
@click.option("--schema", default="", help="The schema, where a database has several.")
@click.option("--preview", is_flag=True, help="Tell what would be declared, and write nothing.")
@click.option("--title", default="", help="What the site is called; the folder's name unless said.")
@click.option("--package", default="", help="The Python package of the application.")
def command(
    source: str,
    folder: str,
    tables: tuple[str, ...],
    without: tuple[str, ...],
    prefix: str,
    schema: str,
    preview: bool,
    title: str,
    package: str,
) -> None:
    """Declare the tables of a database that is there.

    A project in DIR whose database is at URL, or more models in the one that is there. The
    database is only read; nothing in it changes.

    \b
    Examples:
      welbik adopt postgresql://clerk@localhost/shop shop --preview
      welbik adopt sqlite:///register.db register
    """
    from ..adoption.adopt import Wish
    from ..project import adopting

    path = Path(folder or ".")
    wish = Wish(tables, without, prefix)
    planned = adopting.plan(source, path, wish, schema=schema)
    if preview:
        _show(planned)
        return
    made = adopting.write(planned, title=title, package=package)
    count = len(planned.found.drafts)
    click.echo(
        f"declared {count} model{'s' * (count != 1)} from {planned.where} in {path / 'models'}"
        + (f", {len(made)} files" if len(made) > 1 else "")
    )
    _notes(planned)
    go = f"cd {shlex.quote(str(path))} && " if folder not in ("", ".") else ""
    click.echo(f"\nNext: {paint('command', go + 'welbik build && welbik migrate && welbik serve')}")


def _show(planned: Plan) -> None:
    """What would be declared, table by table, and what can't be."""
    for draft in planned.found.drafts.values():
        click.echo(paint("command", f"{draft.table}") + f" → {draft.name}")
        for line in planned.found.texts()[draft.name].rstrip().split("\n"):
            click.echo(f"  {line}")
        click.echo()
    _notes(planned)
    count = len(planned.found.drafts)
    click.echo(f"{count} model{'s' * (count != 1)}; nothing was written.")


def _notes(planned: Plan) -> None:
    if planned.found.pairs:
        click.echo(f"relations to many: {', '.join(planned.found.pairs)}")
    if not planned.found.notes:
        return
    click.echo(paint("command", "\nWhat the declarations can't say"))
    for note in planned.found.notes:
        where = f"{note.table}.{note.column}" if note.column else note.table
        click.echo(f"  {paint('warning', where)}: {note.what}")
        click.echo(f"      {note.then}")
