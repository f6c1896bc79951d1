"""welbik sample."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import click

from .common import project_option
from .tabular import FORMS, show

if TYPE_CHECKING:
    from ..project.settings import Settings

_MOST = 1_000_000


@click.command()
@click.argument("model")
@click.option(
    "--rows",
    default="10",
    show_default=True,
    metavar="N|A..B",
    help="How many, or which by number.",
)
@click.option(
    "--from",
    "start",
    default=0,
    show_default=True,
    type=click.IntRange(0, 10**12),
    help="The number of the first row.",
)
@click.option(
    "--seed", type=click.IntRange(0, 2**63), help="Another seed number than the project's."
)
@click.option("--columns", default="", metavar="NAMES", help="Some columns, as: code,apiary,frames")
@click.option("--where", default="", metavar="EXPR", help="Only rows that an expression holds for.")
@click.option(
    "--format",
    "form",
    default="table",
    show_default=True,
    type=click.Choice(FORMS),
    help="'lines' is a JSON object a line.",
)
@click.option("--profile", default="", metavar="NAME", help="The counts of 'seed NAME'.")
@click.option("--day", type=click.DateTime(["%Y-%m-%d"]), metavar="DATE", help="As on that day.")
@project_option
def command(settings: Settings, model: str, **asked: Any) -> None:
    """Show made-up rows of MODEL; no database is needed.

    They are the very rows that `welbik fill` would store. Rows are counted from 0.

    \b
    Example:
      welbik sample Hive --rows 3 --format json
      welbik sample Hive --rows 5000..5010 --where "frames > 12" --columns code,frames
    """
    from ..data.supply import Supply
    from ..problems import no_model
    from ..project.declarations import schema_of
    from ..project.filling import with_profile

    schema = schema_of(settings.root)
    if model not in schema.models:
        raise no_model(model, schema.models)
    schema = with_profile(schema, asked["profile"])
    first, last, exact = _numbers(asked["rows"], asked["start"])
    names = _columns(schema.models[model], asked["columns"])
    seed = settings.seed if asked["seed"] is None else asked["seed"]
    day = asked["day"].date() if asked["day"] else None
    supply = Supply(schema, seed, settings.timezone, day=day)
    rows: Iterator[dict[str, Any]]
    if asked["where"]:
        wanted = None if exact else last - first
        end = last if exact else first + _MOST
        rows = supply.matching(model, first, end, asked["where"], wanted)
    else:
        rows = supply.each(model, first, last)
    show(asked["form"], names, ([row[name] for name in names] for row in rows))


def _numbers(text: str, start: int) -> tuple[int, int, bool]:
    """The numbers of the first row and of the one after the last; whether they were said so."""
    from ..problems import WelbikError

    found = re.fullmatch(r"(\d+)\.\.(\d+)", text.replace("_", ""))
    if found and int(found[1]) <= int(found[2]) and not start:
        return int(found[1]), int(found[2]) + 1, True
    if text.isdigit() and 1 <= int(text) <= _MOST:
        return start, start + int(text), False
    raise WelbikError(
        f"{text!r} is no number of rows, nor rows from one to another",
        f"write --rows 20 (up to {_MOST:,}) or --rows 5000..5010",
        status=2,
    )


def _columns(model: Any, text: str) -> list[str]:
    from ..problems import WelbikError, did_you_mean

    names = [member.name for member in model.members]
    wanted = [name.strip() for name in text.split(",") if name.strip()]
    for name in wanted:
        if name not in names:
            raise WelbikError(
                f"{model.name} has no column {name!r}", did_you_mean(name, names), status=2
            )
    return wanted or names
