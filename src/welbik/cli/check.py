"""welbik check."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..language.diagnostics import Problem
    from ..project.settings import Settings
    from ..schema.model import Schema


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
@click.option("--rows", is_flag=True, help="Ask every stored row whether it is as declared.")
@click.option(
    "--explain",
    metavar="CODE",
    callback=_explain,
    expose_value=False,
    is_eager=True,
    help="Show what a problem means, the wrong and the right way.",
)
@project_option
def command(settings: Settings, fix: bool, form: str, rows: bool) -> None:
    """Find every problem in the declarations, each with its place and a remedy.

    \b
    Example:
      welbik check --fix
      welbik check --rows
      welbik check --explain unknown-type
    """
    from ..project.declarations import read_declarations

    mended: list[Problem] = []
    if fix:
        from ..project.mending import mend

        mended = mend(settings.root)
    found = read_declarations(settings.root)
    if form == "text" and not found.problems:
        _remark(settings, found.schema, fix)
    if form == "text":
        for problem in mended:
            _tell_mended(problem)
        _tell(found.problems, count(found.files, "file"), len(found.schema.models))
    elif found.problems or not rows:
        _write(found.problems, form)
    if found.problems:
        raise click.exceptions.Exit(1)
    if rows and _rows(settings, form):
        raise click.exceptions.Exit(1)


def _remark(settings: Settings, schema: Schema, fix: bool) -> None:
    """What is no problem, and can be taken out."""
    from ..language.diagnostics import where
    from ..project.remarks import remarks, take_out

    found = remarks(settings.root, schema)
    for one in found:
        said = f"taken out: {one.message}" if fix else f"remark: {one.message}"
        place = paint("place", where(one.span) + ":")
        click.echo(f"{place} {said}" + ("" if fix else f"\n        {one.remedy}"))
    if fix:
        take_out(settings.root, found)
    _seldom(settings, schema)


def _seldom(settings: Settings, schema: Schema) -> None:
    """Rules that made-up rows keep by being drawn again and again."""
    from ..data.narrowing import Plan
    from ..language.diagnostics import where

    if not any(Plan(schema).loose.values()):
        return
    from ..data.acceptance import seldom_kept

    for one in seldom_kept(schema, settings.seed, settings.timezone):
        place = paint("place", where(one.rule.span) + ":")
        share = f"{100 * one.share:.1f}%" if one.share else "none"
        click.echo(
            f"{place} remark: {share} of the rows that are made up keep {one.rule.text!r} at first; the "
            f"others are drawn again\n        in their way: {one.standing or 'what it reads'}; narrow that, "
            "or say more of it with 'sample'"
        )


def _rows(settings: Settings, form: str) -> bool:
    """Tells what stored rows break; whether any do."""
    import json
    import sys

    from ..project.auditing import audit
    from ..project.declarations import schema_of

    schema = schema_of(settings.root)
    hidden = not sys.stderr.isatty()
    with click.progressbar(
        length=len(schema.models), label="Asking rows", file=sys.stderr, hidden=hidden
    ) as bar:
        found = list(audit(settings, schema, lambda model: bar.update(1)))
    if form != "text":
        click.echo(json.dumps([one.as_json() for one in found], ensure_ascii=False, indent=2))
        return bool(found)
    for one in found:
        at = f"{one.model}.{one.at}" if one.at else one.model
        click.echo(paint("problem", f"{at}: {count(one.count, 'row')} {one.what}"))
        for name, value in one.rows:
            click.echo(f"  {name}: {value}" if value else f"  {name}")
        more = one.count - len(one.rows)
        if more:
            click.echo(f"  and {more:,} more")
        click.echo(f"  {paint('place', one.sql)}\n")
    if not found:
        click.echo(f"Stored rows: {paint('good', 'all are as declared.')}")
    return bool(found)


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
