"""welbik demo."""

from __future__ import annotations

from pathlib import Path

import click

from .common import count, paint
from .serve import PORT


@click.command()
@click.argument("folder", default="beekeepers", metavar="[DIR]")
@click.option(
    "--once", is_flag=True, help="Do everything but serving, run the project's tests, and end."
)
@click.option(
    "--port",
    default=PORT,
    show_default=True,
    type=click.IntRange(0, 65535),
    help="0 takes a free one.",
)
def command(folder: str, once: bool, port: int) -> None:
    """Make the beekeepers' register in DIR: built, migrated, filled and served.

    \b
    Example:
      welbik demo --once
    """
    from ..project.building import build
    from ..project.declarations import schema_of
    from ..project.demo import make_demo
    from ..project.settings import read_settings
    from . import fill, migrate, serve
    from .build import agreed, say_plan

    path = Path(folder)
    made = make_demo(path)
    click.echo(f"{'Made' if made else 'Found'} the project {path}")
    settings = read_settings(path)
    schema = schema_of(settings.root)
    click.echo(f"\n{paint('command', 'welbik build')}")
    todo = build(settings, schema, agreed=agreed)
    if made:
        written = count(len(todo.writes), "file")
        click.echo(f"{written} written for {count(len(schema.models), 'model')}")
    else:
        say_plan(todo)
    click.echo(f"\n{paint('command', 'welbik migrate')}")
    migrate.run(settings, brief=made)
    click.echo(f"\n{paint('command', 'welbik fill')}")
    fill.run(settings)
    if once:
        _run_tests(path)
        _summary(path)
        return
    click.echo(f"\n{paint('command', 'welbik serve')}")
    serve.run(settings, "127.0.0.1", port)


def _run_tests(path: Path) -> None:
    import subprocess
    import sys

    from ..problems import WelbikError

    click.echo(f"\n{paint('command', 'pytest')}   (the project's own tests)")
    result = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "--no-header", "-p", "no:cacheprovider"],
        cwd=path,
        check=False,
    )
    if result.returncode:
        raise WelbikError(
            "the project's own tests failed", f"run them again with: cd {path} && pytest"
        )


def _summary(path: Path) -> None:
    from ..project.demo import summary

    click.echo(f"\n{click.style('What there is now', bold=True)}")
    for what, many in summary(path).items():
        click.echo(f"{many:>9,} {what}")
    click.echo(f"\nSee it with: {paint('command', f'welbik serve --project {path}')}")
