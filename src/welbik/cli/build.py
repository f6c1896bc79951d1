"""welbik build."""

from __future__ import annotations

import gc
import sys
from contextlib import ExitStack, suppress
from typing import TYPE_CHECKING, Any

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..project.planning import Change, Plan
    from ..project.settings import Settings
    from ..schema.model import Schema

_MANY = 50
"""Models that take long enough for a progress bar."""

_SHOWN = 8
_WORDS = {"left": "yours", "out": "yours"}
_SAYS = {
    "new": "written",
    "updated": "brought up to the declarations",
    "merged": "brought up to the declarations, your edits kept",
    "clash": "written with marks where your lines and the declarations clash",
    "gone": "taken away",
}


@click.command()
@click.argument("models", nargs=-1, metavar="[MODEL]...")
@click.option("--only", metavar="PARTS", help="Of each model only these, as 'list,form'.")
@click.option("--preview", is_flag=True, help="List what would become of each file; write nothing.")
@click.option("--diff", is_flag=True, help="Show the lines that would change; write nothing.")
@click.option("--mine", multiple=True, metavar="FILE", help="Where lines clash in it, keep yours.")
@click.option(
    "--theirs",
    multiple=True,
    metavar="FILE",
    help="Where lines clash in it, take the declared ones.",
)
@click.option("--mark", is_flag=True, help="Write both versions between marks where lines clash.")
@click.option(
    "--explain", metavar="FILE", help="Say which declarations the parts of a file are of."
)
@click.option("--allow-loss", is_flag=True, help="Take away the code of models that went, unasked.")
@project_option
def command(
    settings: Settings,
    models: tuple[str, ...],
    only: str | None,
    preview: bool,
    diff: bool,
    mine: tuple[str, ...],
    theirs: tuple[str, ...],
    mark: bool,
    explain: str | None,
    allow_loss: bool,
) -> None:
    """Write the application's code: what the declarations ask for, and what you wrote in it.

    A file that you have edited gets what is declared otherwise since; your lines stay. Where
    both changed the same thing nothing is written until you say whose version stands.

    \b
    Example:
      welbik build --preview
      welbik build Hive --only list,form
      welbik build --mine beekeepers/hive/form.py
    """
    from ..project.building import Asked, build, planned

    # All that a build makes lives until its end: looking for garbage in it finds none.
    gc.set_threshold(200_000)
    asked = Asked(mine, theirs, mark, models, _parts(only))
    if explain is not None:
        _explain(settings, explain)
        return
    if diff:
        _show_differences(settings, asked)
        return
    with _Bar() as bar:
        if preview:
            todo = planned(settings, tell=bar, asked=asked)
        else:
            allowed = agreed if not allow_loss else lambda todo: True
            todo = build(settings, tell=bar, agreed=allowed, asked=asked)
    if preview:
        _preview(todo)
    else:
        say_plan(todo)
        if todo:
            _say_ahead(settings, todo.schema)
    if todo.clashes:
        raise SystemExit(1)


class _Bar:
    """Shows how far a build is, once it is known to take a while."""

    def __init__(self) -> None:
        self._stack = ExitStack()
        self._bar: Any = None

    def __enter__(self) -> _Bar:
        return self

    def __exit__(self, *error: object) -> None:
        self._stack.close()

    def __call__(self, models: int) -> None:
        if self._bar is None and models >= _MANY and sys.stderr.isatty():
            bar = click.progressbar(length=models, label="Building", file=sys.stderr)
            self._bar = self._stack.enter_context(bar)
        if self._bar is not None:
            self._bar.update(1)


def _parts(only: str | None) -> tuple[str, ...]:
    from ..codegen.files import PARTS
    from ..problems import WelbikError, did_you_mean

    parts = tuple(part.strip() for part in (only or "").split(",") if part.strip())
    for part in parts:
        if part not in PARTS:
            remedy = did_you_mean(part, list(PARTS)) or f"there are {', '.join(PARTS)}"
            raise WelbikError(f"no part of a model is called {part!r}", remedy, status=2)
    return parts


def _show_differences(settings: Settings, asked: object) -> None:
    from ..project.building import differences

    texts = (f"{_coloured(text)}\n" for text in differences(settings, asked))  # type: ignore[arg-type]
    if sys.stdout.isatty():
        click.echo_via_pager(texts)
    else:
        for text in texts:
            click.echo(text, nl=False)


def _explain(settings: Settings, name: str) -> None:
    from ..project.explaining import explained

    for part in explained(settings, name):
        click.echo(f"{paint('place', part.lines):<12}  {part.what}")
        for said in part.declared:
            click.echo(f"{'':<12}  {said}")


def _say_ahead(settings: Settings, schema: Schema | None) -> None:
    """Says where the code is ahead of what the database can't have: the pages fail until then."""
    from ..migrations import FOLDER

    if not (settings.root / FOLDER).is_dir():
        # Of tables that are all new none can be in the way.
        return
    from ..problems import WelbikError
    from ..project.database import change_risks
    from ..project.migrating import possible_change

    against: list[str] = []
    try:
        change = possible_change(settings, schema)
    except WelbikError as error:
        against = error.message.splitlines()
    else:
        # Where there is no database, or none that answers, others say so.
        with suppress(WelbikError):
            found = change_risks(settings, change)
            against = [line for risk in found if risk.kind == "refused" for line in risk.lines()]
    if against:
        said = "The code is ahead: the database can't be migrated to it as it stands:"
        click.echo(paint("warning", said))
        click.echo("\n".join(f"  {line}" for line in against))
        click.echo(
            "Mend these rows or the declaration; to go back, put it as it was and build again."
        )


def agreed(todo: Plan) -> bool:
    """Whether code may go with its model: asked on a terminal, refused elsewhere."""
    if not sys.stdin.isatty():
        return False
    names = ", ".join(todo.losses)
    return click.confirm(f"No model asks for {names} any more. Take that code away?")


def say_plan(todo: Plan) -> None:
    """Names the files of a plan, long lists cut short."""
    for state, says in _SAYS.items():
        changes = [one for one in todo.changes if one.state == state]
        if state == "merged":
            changes = [one for one in changes if one.writes]
        if changes:
            click.echo(f"{count(len(changes), 'file')} {says}:")
            for one in changes[:_SHOWN]:
                click.echo(f"  {one.name}{_places(one)}")
            if len(changes) > _SHOWN:
                click.echo(f"  and {len(changes) - _SHOWN} more")
    for one in todo.of("left"):
        click.echo(f"No model asks for {one.name} any more; you edited it, so it stays.")
    for one in todo.of("out"):
        if one.told:
            click.echo(f"You took {one.name} out: it stays out (back with --theirs {one.name}).")
    _say_names(todo)
    if todo.news:
        click.echo("New in the code that all projects share:")
        for line in todo.news:
            click.echo(f"  {line}")
    if not todo:
        edited = len(todo.of("yours"))
        more = f"; {count(edited, 'file')} with edits of yours" if edited else ""
        click.echo(f"Nothing to write: the code is as declared{more}.")


def _places(one: Change) -> str:
    lines = ", ".join(str(clash.line) for clash in one.clashes)
    if one.old:
        return f"   (was {one.old})"
    return f":{lines}" if lines else ""


def _say_names(todo: Plan) -> None:
    for name, lines in todo.renamed.items():
        said = f"In {name} an old name may still be meant; look at:"
        click.echo(paint("warning", said))
        for line in lines[:_SHOWN]:
            click.echo(f"  {line}")
        if len(lines) > _SHOWN:
            click.echo(f"  and {len(lines) - _SHOWN} more")


def _preview(todo: Plan) -> None:
    """A line for each file that is not simply as it is: state, lines that come and go, name."""
    shown = [
        one
        for one in todo.changes
        if one.state != "same" and not (one.state == "out" and not one.told)
    ]
    shown.sort(key=lambda one: (one.state == "yours", one.name))
    for one in shown:
        more, less = one.counts() if one.text is not None or one.state == "gone" else (0, 0)
        state = paint(_ROLES.get(one.state, "muted"), f"{_WORDS.get(one.state, one.state):<8}")
        come, go = f"+{more}" if more else "", f"-{less}" if less else ""
        remark = _remark(one)
        click.echo(f"{state} {come:>6} {go:>6}  {one.name}{f'   ({remark})' if remark else ''}")
    same = count(len(todo.of("same")), "file")
    if not shown:
        click.echo("Nothing to write: the code is as declared.")
    else:
        click.echo(f"{same} as declared. Nothing was written.")
    _say_names(todo)


_ROLES = {"new": "good", "updated": "good", "merged": "good", "clash": "problem", "gone": "warning"}


def _remark(one: Change) -> str:
    if one.state == "clash":
        return f"{count(len(one.clashes), 'clash', 'clashes')}: line {one.clashes[0].line}"
    if one.state == "left":
        return "nothing asks for it any more"
    if one.state == "out":
        return "you took it out"
    return f"was {one.old}" if one.old else ""


def _coloured(text: str) -> str:
    roles = {"+": "good", "-": "problem", "@": "place"}
    return "\n".join(
        paint(roles[line[0]], line) if line[:1] in roles else line for line in text.splitlines()
    )
