"""welbik status."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import paint, project_option

if TYPE_CHECKING:
    from ..project.settings import Settings


@click.command()
@project_option
def command(settings: Settings) -> None:
    """See what is out of step, and which command mends it.

    Exits 1 while something is out of step.

    \b
    Example:
      welbik status
    """
    from ..project.status import status

    findings = status(settings)
    click.echo(f"{click.style(settings.title, bold=True)} · {settings.root}\n")
    for finding in findings:
        dressed = paint("problem", finding.state) if finding.wrong else finding.state
        command = f"   → {paint('command', finding.command)}" if finding.command else ""
        if command and not finding.command.startswith("welbik "):
            # No command mends it: what does is a line of its own.
            command = f"\n{'':<15} {command.lstrip()}"
        click.echo(f"  {finding.subject:<13} {dressed}{command}")
        for line in finding.lines:
            click.echo(f"{'':<16}{line}")
    todo = [finding.command for finding in findings if finding.command]
    click.echo("")
    if todo:
        click.echo(f"Next: {paint('command', todo[0])}")
        if any(one in todo[1:] for one in ("welbik build", "welbik migrate", "welbik fill")):
            click.echo(f"All of it: {paint('command', 'welbik sync')}")
    if any(finding.wrong for finding in findings):
        raise click.exceptions.Exit(1)
    click.echo(
        f"{paint('good', 'All in step.')} See the pages with: {paint('command', 'welbik serve')}"
    )
