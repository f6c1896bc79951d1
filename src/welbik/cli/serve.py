"""welbik serve."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import paint, project_option

if TYPE_CHECKING:
    from ..project.settings import Settings

PORT = 8180


@click.command()
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen on.")
@click.option(
    "--port",
    default=PORT,
    show_default=True,
    type=click.IntRange(0, 65535),
    help="0 takes a free one.",
)
@project_option
def command(settings: Settings, host: str, port: int) -> None:
    """Serve the application on this machine, until Ctrl-C.

    \b
    Example:
      welbik serve --port 8181
    """
    run(settings, host, port)


def run(settings: Settings, host: str, port: int) -> None:
    """Serves until Ctrl-C."""
    from ..project.serving import Fresh, answer_to_any_name, bind, log_line, server
    from ..project.status import status

    listener = bind(host, port)
    if answer_to_any_name(host):
        log_line("warning", "It answers to any name: set SITE_HOSTS to those it should have.")
    application = Fresh(settings, lambda text: log_line("error", text))
    for finding in status(settings):
        if finding.command and finding.subject != "rows":
            said = f"{finding.subject}: {finding.state}   → {finding.command}"
            log_line("warning", said)
    shown = f"[{host}]" if ":" in host else host
    click.echo(
        f"{settings.title} is at {paint('command', f'http://{shown}:{listener.getsockname()[1]}/')}   (Ctrl-C stops it)"
    )
    try:
        server(application, listener).serve_forever()
    finally:
        log_line("info", "Stopped.")
