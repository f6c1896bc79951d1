"""welbik show."""

from __future__ import annotations

from shutil import get_terminal_size
from textwrap import wrap
from typing import TYPE_CHECKING, Any

import click

from .common import project_option

if TYPE_CHECKING:
    from ..project.settings import Settings

_MOST, _NARROWEST, _LEAST = 34, 20, 9


@click.command()
@click.argument("model", required=False)
@click.option(
    "--json", "as_json", is_flag=True, help="Everything, with a JSON Schema of each form."
)
@project_option
def command(settings: Settings, model: str | None, as_json: bool) -> None:
    """Show what is declared and what follows from it: of MODEL, or of all.

    \b
    Example:
      welbik show Hive
      welbik show --json
    """
    from ..problems import no_model
    from ..project.declarations import schema_of
    from ..project.showing import as_data, described

    schema = schema_of(settings.root)
    if model is not None and model not in schema.models:
        raise no_model(model, schema.models)
    if as_json:
        import json

        data = as_data(schema) if model is None else described(schema, schema.models[model])
        click.echo(json.dumps(data, ensure_ascii=False, indent=2))
        return
    for number, name in enumerate([model] if model else schema.models):
        click.echo("\n" if number else "", nl=False)
        _tell(described(schema, schema.models[name]))


def _tell(data: dict[str, Any]) -> None:
    click.secho(data["name"], bold=True, nl=False)
    click.echo(f"  {data['help']}" if data["help"] else "")
    facts = {
        "called": f"{data['one']}, {data['several']}",
        "table": f"{data['table']}, key {data['key']}",
        "shown as": data["shown_as"],
        "listed": ", ".join(data["list"]),
        "sorted": ", ".join(data["sort"]),
        "searched": ", ".join(data["search"]),
        "pages": ", ".join(data["pages"].values()) or "none",
        "kept": ", ".join(data["keeps"]),
        "rows": _rows(data),
    }
    for name, text in facts.items():
        if text:
            width = get_terminal_size((110, 24)).columns
            first, *more = wrap(text, max(20, width - 12), break_on_hyphens=False)
            click.echo(f"  {click.style(name.ljust(9), fg='bright_black')} {first}")
            for line in more:
                click.echo(f"{' ' * 12}{line}")
    click.echo()
    _table([_row(member) for member in data["members"]])
    for rule in data["rules"]:
        click.echo(f"  {click.style('rule', fg='bright_black')} {rule['rule']}")
        where = f" (at {rule['at']})" if rule["at"] else ""
        click.echo(f"       {rule['says']}{where}")
    for names in data["unique_together"]:
        click.echo(f"  {click.style('unique', fg='bright_black')} {', '.join(names)}")


def _rows(data: dict[str, Any]) -> str:
    texts = [f"{data['rows']:,} in the seed"] if data["rows"] else []
    texts += [f"{data['fixed_rows']} fixed"] if data["fixed_rows"] else []
    return ", ".join(texts)


def _row(member: dict[str, Any]) -> list[str]:
    """Name, type, column, control, and all else that holds."""
    what = member["what"]
    if what == "field":
        marks = [name for name in ("required", "unique", "fixed", "indexed") if member.get(name)]
        marks += [f"default {member['default']}"] if "default" in member else []
        marks += [f"in {member['unit']}"] if "unit" in member else []
        column = f"{member['column']} {member['sql']}"
        return [member["name"], member["type"], column, member["control"], ", ".join(marks)]
    if what == "reference":
        marks = [name for name in ("required", "unique", "owned") if member[name]]
        marks.append(f"on removal {member['on_removal']}")
        marks += [f"where {member['where']}"] if "where" in member else []
        if member["other_side"] != "none":
            marks.append(f"other side {member['other_side']}")
        return [
            member["name"],
            f"-> {member['target']}",
            member["column"],
            member["control"],
            ", ".join(marks),
        ]
    if what == "computed":
        unit = f"in {member['unit']}" if "unit" in member else ""
        return [
            member["name"],
            f"{member['type']} = {member['formula']}",
            "worked out",
            "none",
            unit,
        ]
    if what == "collection":
        sort = f"sorted by {', '.join(member['sort'])}" if member["sort"] else ""
        return [member["name"], f"<- {member['target']}.{member['via']}", "", "none", sort]
    return [member["name"], f"<-> {member['target']}", member["table"], "checklist", member["side"]]


def _table(rows: list[list[str]]) -> None:
    head = ["name", "type", "column", "entered with", "besides"]
    width = get_terminal_size((110, 24)).columns
    widths = [max(min(len(row[n]), _MOST) for row in [head, *rows]) for n in range(4)]
    while sum(widths) > width - _NARROWEST - 10 and max(widths) > _LEAST:
        widths[widths.index(max(widths))] -= 1
    room = max(_LEAST, width - sum(widths) - 10)
    for number, row in enumerate([head, *rows]):
        cells = [_cut(cell, most).ljust(most) for cell, most in zip(row[:4], widths, strict=True)]
        # What belongs together stays on a line.
        kept = row[4].replace(" ", "\N{NO-BREAK SPACE}").replace(",\N{NO-BREAK SPACE}", ", ")
        first, *more = [part.replace("\N{NO-BREAK SPACE}", " ") for part in wrap(kept, room)] or [
            ""
        ]
        line = f"  {'  '.join([*cells, first])}".rstrip()
        click.echo(click.style(line, fg="bright_black") if number == 0 else line)
        for rest in more:
            click.echo(" " * (sum(widths) + 10) + rest)


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else f"{text[: most - 1]}…"
