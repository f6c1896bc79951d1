"""welbik fill."""

from __future__ import annotations

import datetime as dt
import sys
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..data.fill import Filled
    from ..project.settings import Settings
    from ..schema.model import Schema


@click.command()
@click.option("--profile", default="", metavar="NAME", help="The counts of 'seed NAME'.")
@click.option(
    "--add",
    multiple=True,
    type=(click.IntRange(1), str),
    metavar="N MODEL",
    help="So many rows more of a model, and nothing else; may be said again.",
)
@click.option("--replace", is_flag=True, help="Make anew what was made up; people's rows stay.")
@click.option("--yes", is_flag=True, help="Don't ask before rows are replaced.")
@click.option(
    "--to",
    "folder",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="FOLDER",
    help="Write a file for each table instead; no database is needed.",
)
@click.option(
    "--format",
    "form",
    default="csv",
    show_default=True,
    type=click.Choice(["csv", "parquet", "sql"]),
    help="What --to writes.",
)
@click.option("--part", default="", metavar="N/ALL", help="A share of every table, such as 3/16.")
@click.option("--wait", is_flag=True, help="With --part: wait for rows that others store.")
@click.option(
    "--cluster",
    default="",
    metavar="ADDRESS",
    help="Let the workers of a Dask scheduler make the rows; 'local' starts some here.",
)
@click.option(
    "--day",
    type=click.DateTime(["%Y-%m-%d"]),
    metavar="DATE",
    help="Make rows as on that day; today unless said.",
)
@project_option
def command(settings: Settings, **asked: Any) -> None:
    """Fill the database up to the counts of 'seed'.

    Made-up rows obey every declaration; rows already there stay as they are and count.
    Running it again adds nothing; a fill that was stopped goes on.

    \b
    Example:
      welbik fill
      welbik fill --profile load
      welbik fill --add 50 Hive
      welbik fill --to rows --part 3/16
    """
    from ..problems import WelbikError

    day = asked["day"].date() if asked["day"] else None
    schema = _schema(settings, asked["profile"])
    alone = [name for name in ("add", "replace", "folder") if asked[name]]
    if len(alone) > 1 or asked["part"] and alone not in ([], ["folder"]):
        raise WelbikError(
            "--add, --replace and --to exclude each other, and --part goes with --to alone",
            "run them one after another",
            status=2,
        )
    if asked["wait"] and (not asked["part"] or asked["folder"]):
        raise WelbikError("--wait goes with --part into a database", "say which part", status=2)
    if asked["cluster"]:
        if asked["part"] or asked["add"] or asked["replace"]:
            raise WelbikError(
                "--cluster makes all rows, and shares them out itself",
                "leave the others out",
                status=2,
            )
        _cluster(settings, schema, asked, day)
    elif asked["folder"]:
        _export(settings, schema, asked["folder"], asked["form"], asked["part"], day)
    elif asked["part"]:
        _part(settings, schema, asked["part"], asked["wait"], day)
    else:
        add = _added(schema, asked["add"])
        if asked["replace"] and not _agreed(settings, schema, asked["yes"]):
            return
        _fill(settings, schema, add, asked["replace"], day)


def run(settings: Settings, profile: str = "") -> None:
    """Fills, with a progress bar on a terminal."""
    _fill(settings, _schema(settings, profile), {}, False, None)


def _schema(settings: Settings, profile: str) -> Schema:
    from ..project.declarations import schema_of
    from ..project.filling import with_profile

    schema = schema_of(settings.root)
    return with_profile(schema, profile)


def _added(schema: Schema, asked: tuple[tuple[int, str], ...]) -> dict[str, int]:
    from ..problems import no_model

    found: dict[str, int] = {}
    for rows, name in asked:
        if name not in schema.models:
            raise no_model(name, schema.models)
        found[name] = found.get(name, 0) + rows
    return found


def _agreed(settings: Settings, schema: Schema, yes: bool) -> bool:
    """Whether made-up rows may be replaced; they are told first."""
    from ..problems import WelbikError
    from ..project.filling import made_rows

    there = made_rows(settings, schema)
    if not there or yes:
        return True
    told = ", ".join(f"{rows:,} {name}" for name, rows in there.items())
    click.echo(f"Made up before: {told}.")
    if not sys.stdin.isatty():
        raise WelbikError("made-up rows are replaced only if you say so", "say it: --yes")
    return click.confirm("Take them away, and make them anew?")


def _fill(
    settings: Settings,
    schema: Schema,
    add: Mapping[str, int],
    replace_made: bool,
    day: dt.date | None,
) -> None:
    from ..problems import WelbikError
    from ..project.filling import fill_project, missing_rows

    if not schema.seed and not schema.rows and not add:
        raise WelbikError(
            "no rows are asked for", "add a block to the declarations:  seed / 12 Keeper"
        )
    lacking = add or (schema.seed if replace_made else missing_rows(settings, schema))
    try:
        with _progress(sum(lacking.values())) as tell_rows:
            done = fill_project(
                settings, schema, tell_rows, add=add, replace_made=replace_made, day=day
            )
    except KeyboardInterrupt:
        click.echo("What is stored stays: the same command goes on with it.", err=True)
        raise
    tell(done, more=bool(add))


def _export(
    settings: Settings, schema: Schema, folder: Path, form: str, part: str, day: dt.date | None
) -> None:
    from ..data.parts import Part, read_part
    from ..project.filling import export_project

    share = read_part(part) if part else Part(1, 1)
    total = sum(schema.seed.values()) // share.of
    with _progress(total) as tell_rows:
        made = export_project(settings, schema, folder, form, share, tell_rows, day)
    _table(made)
    click.echo(f"{count(sum(made.values()), 'row')} written to {paint('good', str(folder))}.")


def _cluster(
    settings: Settings, schema: Schema, asked: Mapping[str, Any], day: dt.date | None
) -> None:
    from ..project.cluster import fill_cluster

    given = {"folder": asked["folder"], "form": asked["form"], "day": day}
    with _progress(sum(schema.seed.values())) as tell_rows:
        made = fill_cluster(settings, schema, asked["cluster"], tell_rows, **given)
    _table(made)
    where = f"written to {asked['folder']}" if asked["folder"] else "added"
    click.echo(f"{count(sum(made.values()), 'row')} {where}.")


def _part(settings: Settings, schema: Schema, part: str, wait: bool, day: dt.date | None) -> None:
    from ..data.parts import read_part
    from ..project.filling import fill_part

    share = read_part(part)
    with _progress(sum(schema.seed.values()) // share.of) as tell_rows:
        made = fill_part(settings, schema, share, tell_rows, wait=wait, day=day)
    _table(made)
    if made:
        click.echo(f"{count(sum(made.values()), 'row')} added: part {share} is complete.")
    else:
        click.echo(f"Nothing to add: part {share} is complete.")


@contextmanager
def _progress(rows: int) -> Iterator[Callable[[str, int], None]]:
    """A bar with rate and time left on a terminal; gives what is told of each batch."""
    import time

    start, done = time.monotonic(), [0]

    def shown(model: str | None) -> str:
        # The library's own reckoning hangs on the first batches, which are slow.
        rate = done[0] / max(time.monotonic() - start, 0.001)
        left = round(max(rows - done[0], 0) / rate) if rate else 0
        return f"{model or ''}  {rate:,.0f} rows a second, {left // 60}:{left % 60:02} left"

    hidden = not rows or not sys.stderr.isatty()
    with click.progressbar(
        length=rows,
        label="Filling",
        file=sys.stderr,
        hidden=hidden,
        item_show_func=shown,
        show_eta=False,
    ) as bar:

        def tell_rows(model: str, some: int) -> None:
            done[0] += some
            bar.update(some, model)

        yield tell_rows


def _table(rows: Mapping[str, int]) -> None:
    for name, number in rows.items():
        click.echo(f"{number:>11,} {name}")


def tell_fixed(done: Filled, reason: str) -> None:
    """Says what was added where only fixed rows are, and why."""
    _table(done.added)
    for name, rows in done.changed.items():
        click.echo(f"{count(rows, 'fixed row')} of {name} changed as declared.")
    click.echo(f"No made-up rows were added: {reason}.")


def tell(done: Filled, *, more: bool = False) -> None:
    """Says what was added and changed."""
    if done.went_on:
        click.echo("Went on with the fill that was stopped.")
    if done.removed:
        click.echo(f"{count(sum(done.removed.values()), 'made-up row')} taken away.")
    for remark in done.remarks:
        click.echo(remark)
    _table(done.added)
    for name, rows in done.completed.items():
        click.echo(f"{count(rows, 'made-up row')} of {name} got what is new in the declarations.")
    for name, rows in done.changed.items():
        click.echo(f"{count(rows, 'fixed row')} of {name} changed as declared.")
    if not done.added:
        if not done.changed and not done.completed:
            click.echo("Nothing to add: every model has its declared count.")
        return
    said = "beside what was there." if more else "every model has its declared count."
    click.echo(f"{count(sum(done.added.values()), 'row')} added: {paint('good', said)}")
