"""The `welbik` command. Each subcommand is imported only when it is called."""

from __future__ import annotations

import io
import os
import re
import sys
from importlib import import_module
from typing import Any

import click

from .. import __version__
from ..problems import WelbikError

COMMANDS = {
    "init": "Begin a project, with one commented example declaration.",
    "adopt": "Declare the tables of a database that is there.",
    "add": "Declare a model or more of its fields.",
    "check": "Find every problem in the declarations, and mend some.",
    "tidy": "Lay out the declarations in the standard way.",
    "show": "Show what is declared and what follows from it.",
    "diagram": "Draw the models and their relations.",
    "build": "Write the application's code.",
    "migrate": "Bring the database to the declarations.",
    "sample": "Show made-up rows of a model; no database is needed.",
    "fill": "Fill the database up to the declared counts.",
    "peek": "Show stored rows of a model, related rows by their names.",
    "report": "See what is stored beside what is declared.",
    "status": "See what is out of step, and what to run.",
    "sync": "Do all that 'status' names, in its order.",
    "serve": "Serve the application on this machine.",
    "demo": "Make, build, fill and serve the example project.",
}


class _ReaderGone(Exception):
    """Who read what is printed has gone (`welbik check | head`): nothing is wrong."""


class _Commands(click.Group):
    """Lists the commands in the order of work, without importing them."""

    def invoke(self, ctx: click.Context) -> Any:
        try:
            return super().invoke(ctx)
        except BrokenPipeError:
            # Click would take it for a failure.
            raise _ReaderGone from None

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        command: click.Command = import_module(f"{__package__}.{name}").command
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            from ..problems import did_you_mean

            raise WelbikError(
                f"there is no command {args[0]!r}", did_you_mean(args[0], list(COMMANDS)), status=2
            )
        return super().resolve_command(ctx, args)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands, in the order of work"):
            formatter.write_dl(list(COMMANDS.items()))


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, message="welbik %(version)s")
def cli() -> None:
    """One declaration, and every artefact agrees with it.

    Declare models in models/*.welbik. Welbik writes the application, its tables and its
    tests, and fills the database with rows that obey every declaration.

    \b
    Example:
      welbik init bees && cd bees
      welbik build && welbik migrate && welbik fill && welbik serve
    """


class Plain:
    """A terminal's stream, without what turns lines round, hides or rings in texts of others."""

    _ODD = re.compile(
        "[\x00-\x07\x0b\x0c\x0e-\x1a\x1c-\x1f\x7f-\x9f\u2028\u2029\u202a-\u202e\u2066-\u2069]"
    )

    def __init__(self, stream: Any) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        return int(self._stream.write(self._ODD.sub("\N{REPLACEMENT CHARACTER}", text)))

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def main() -> None:
    """Runs the command line. Exits 0 done, 1 the project has problems, 2 wrong usage."""
    color = False if os.environ.get("NO_COLOR") else None
    for stream in (sys.stdout, sys.stderr):
        # A sign that the terminal does not know is no reason to stop.
        if isinstance(stream, io.TextIOWrapper) and stream.errors == "strict":
            stream.reconfigure(errors="replace")
    for name in ("stdout", "stderr"):
        if getattr(sys, name).isatty():
            setattr(sys, name, Plain(getattr(sys, name)))
    try:
        sys.exit(cli.main(standalone_mode=False, color=color) or 0)
    except WelbikError as error:
        first, *more = error.message.split("\n")
        click.secho(f"welbik: {first}", fg="bright_red", err=True, color=color)
        for line in more:
            click.echo(line, err=True)
        if error.remedy:
            click.echo(f"        {error.remedy}", err=True)
        sys.exit(error.status)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except (click.Abort, KeyboardInterrupt):
        click.echo("Stopped.", err=True)
        sys.exit(130)
    except (_ReaderGone, BrokenPipeError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(0)
    except OSError as error:
        # A full disk, a folder that can't be read: whatever the command was at.
        where = f"{error.filename}: " if error.filename else ""
        click.secho(f"welbik: {where}{error.strerror or error}", fg="bright_red", err=True)
        click.echo("        check the path, its permissions and the room on the disk", err=True)
        sys.exit(1)
