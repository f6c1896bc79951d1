"""welbik check."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..language.diagnostics import Problem
    from ..project.settings import Settings


def _explain(context: click.Context, parameter: click.Parameter, code: str | None) -> None:
    """Explains a code and stops: no project is needed."""
    if code is None:
        return
    from ..language.catalogue import CATALOGUE
    from ..language.reports import explained
    from ..problems import WelbikError, did_you_mean

    if code not in CATALOGUE:
        raise WelbikError(
            f"no problem has the code {code!r}", did_you_mean(code, list(CATALOGUE)), status=2
        )
    click.echo(explained(code), nl=False)
    context.exit()


@click.command()
@click.option("--fix", is_flag=True, help="Mend what can be mended exactly.")
@click.option(
    "--format",
    "form",
    default="text",
    show_default=True,
    type=click.Choice(["text", "json", "sarif"]),
)
@click.option(
    "--explain",
    metavar="CODE",
    callback=_explain,
    expose_value=False,
    is_eager=True,
    help="Show what a problem means, the wrong and the right way.",
)
@project_option
def command(settings: Settings, fix: bool, form: str) -> None:
    """Find every problem in the declarations, each with its place and a remedy.

    \b
    Example:
      welbik check --fix
      welbik check --explain unknown-type
    """
    from ..project.declarations import read_declarations

    mended: list[Problem] = []
    if fix:
        from ..project.mending import mend

        mended = mend(settings.root)
    found = read_declarations(settings.root)
    if form == "text":
        for problem in mended:
            _tell_mended(problem)
        _tell(found.problems, count(found.files, "file"), len(found.schema.models))
    else:
        _write(found.problems, form)
    if found.problems:
        raise click.exceptions.Exit(1)


def _tell_mended(problem: Problem) -> None:
    from ..language.diagnostics import where

    click.echo(
        f"{paint('place', where(problem.span) + ':')} {paint('good', 'mended:')} {problem.message}"
    )


def _tell(problems: list[Problem], files: str, models: int) -> None:
    from ..language.diagnostics import as_text

    for problem in problems:
        click.echo(as_text(problem, paint) + "\n")
    if not problems and not models:
        example = paint("command", 'welbik add Hive "name text 80"')
        click.echo(f"No model is declared yet in {files}. Begin with: {example}")
        return
    if not problems:
        click.echo(f"{count(models, 'model')} in {files}: {paint('good', 'no problems.')}")
        return
    click.echo(paint("problem", f"{count(len(problems), 'problem')} in {files}."))
    exact = sum(bool(problem.edits) for problem in problems)
    if exact:
        click.echo(f"{count(exact, 'problem')} can be mended with: welbik check --fix")


def _write(problems: list[Problem], form: str) -> None:
    import json

    from .. import __version__
    from ..language.reports import as_json, as_sarif

    data = as_json(problems) if form == "json" else as_sarif(problems, __version__)
    click.echo(json.dumps(data, ensure_ascii=False, indent=2))
