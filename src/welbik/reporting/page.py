"""The report as one HTML page: nothing is loaded from elsewhere."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from html import escape

from .figures import figure_svg
from .measures import Measured, Table

_STYLE = """
:root { color-scheme: light dark; --paper: #fbf8f1; --ink: #2b2a26; --soft: #6d685c; --rule: #ded5c0;
  --fill: #c58a2b; --line: #24504a; --note: #8c3b1f; }
@media (prefers-color-scheme: dark) { :root { --paper: #1d1e1b; --ink: #ece6d8; --soft: #a49d8d;
  --rule: #3b3a33; --fill: #d9a34a; --line: #8fc7b8; --note: #e89a78; } }
@media print { :root { --paper: #fff; --ink: #000; --soft: #444; --rule: #bbb; --fill: #a9752a;
  --line: #1d423c; --note: #6d2c15; } nav { display: none } section { break-inside: auto }
  figure { break-inside: avoid } }
body { margin: 0 auto; padding: 1.5rem; max-width: 76rem; background: var(--paper); color: var(--ink);
  font: 15px/1.5 Ubuntu, "DejaVu Sans", Calibri, sans-serif; }
h1 { font-size: 1.5rem; margin: 0 0 .2rem } h2 { font-size: 1.15rem; margin: 2.2rem 0 .3rem;
  border-top: 2px solid var(--rule); padding-top: 1rem } p { margin: .2rem 0 }
.soft { color: var(--soft) } nav a { color: inherit; margin-right: 1rem }
table { border-collapse: collapse; margin: .8rem 0 } th, td { text-align: left; padding: .2rem 1rem .2rem 0;
  border-bottom: 1px solid var(--rule); vertical-align: top } td.n, th.n { text-align: right;
  font-variant-numeric: tabular-nums } ul { margin: .4rem 0; padding-left: 1.2rem }
li { color: var(--note) } .plots { display: grid; gap: 1rem;
  grid-template-columns: repeat(auto-fill, minmax(16.5rem, 1fr)); margin-top: .8rem }
figure { margin: 0; border: 1px solid var(--rule); border-radius: 4px; padding: .5rem .6rem }
figcaption { font-size: .85rem } figcaption b { font-weight: 600 } figure svg { width: 100%; height: auto;
  display: block }
"""


def page(tables: Sequence[Table], title: str, now: dt.datetime) -> str:
    """The report on some tables, as HTML."""
    links = "".join(f'<a href="#{t.model}">{escape(t.title)}</a>' for t in tables)
    body = "\n".join(map(_section, tables))
    return (
        f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8">'
        f'<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{escape(title)}: stored rows</title><style>{_STYLE}</style></head><body>\n"
        f"<h1>{escape(title)}: stored rows beside what is declared</h1>\n"
        f'<p class="soft">{now:%Y-%m-%d %H:%M}. Bars are what is stored, lines what is declared.</p>\n'
        f"<nav>{links}</nav>\n{_summary(tables)}\n{body}\n</body></html>\n"
    )


def _summary(tables: Sequence[Table]) -> str:
    rows = "".join(
        f'<tr><td><a href="#{t.model}" style="color:inherit">{escape(t.title)}</a></td>'
        f'<td class="n">{t.rows:,}</td><td class="n">{_number(t.declared)}</td>'
        f'<td class="n">{t.made_up:,}</td><td class="n">{t.in_bin or ""}</td>'
        f'<td class="n">{len(t.remarks) or ""}</td></tr>'
        for t in tables
    )
    return (
        '<table><thead><tr><th>Model</th><th class="n">Rows</th><th class="n">Declared</th>'
        '<th class="n">Made up</th><th class="n">In the bin</th><th class="n">Remarks</th></tr></thead>'
        f"<tbody>{rows}</tbody></table>"
    )


def _section(table: Table) -> str:
    remarks = "".join(f"<li>{escape(remark)}</li>" for remark in table.remarks)
    listed = f"<ul>{remarks}</ul>" if remarks else ""
    tight = "".join(
        f'<tr><td>{escape(rule.rule)}</td><td class="n">{rule.at_edge:,}</td>'
        f'<td class="n">{rule.of:,}</td></tr>'
        for rule in sorted(table.rules, key=lambda rule: -rule.at_edge / max(rule.of, 1))
    )
    rules = (
        '<table><thead><tr><th>Rule</th><th class="n">Only just kept</th><th class="n">Of</th></tr>'
        f"</thead><tbody>{tight}</tbody></table>"
        if tight
        else ""
    )
    drawn = [
        (member, figure_svg(member, f"{table.model}-{member.name}")) for member in table.members
    ]
    plots = "".join(_figure(member, table.rows, svg) for member, svg in drawn if svg)
    plain = "".join(_line(member, table.rows) for member, svg in drawn if not svg)
    shown = f'<div class="plots">{plots}</div>' if plots else ""
    shown += f"<table><tbody>{plain}</tbody></table>" if plain else ""
    shown = shown or '<p class="soft">No rows.</p>'
    return (
        f'<section id="{table.model}"><h2>{escape(table.title)}</h2>'
        f'<p class="soft">{table.rows:,} rows</p>{listed}{rules}{shown}</section>'
    )


def _line(member: Measured, rows: int) -> str:
    """What has no plot: texts above all."""
    texts = "".join(f"<br>{count:,} × {escape(text[:60])}" for text, count in member.texts)
    return (
        f"<tr><td><b>{escape(member.name)}</b></td><td class='soft'>{escape(member.kind)}</td>"
        f"<td>{escape(_told(member, rows))}{texts}</td></tr>"
    )


def _figure(member: Measured, rows: int, svg: str) -> str:
    told = _told(member, rows)
    texts = "".join(f"<br>{count:,} × {escape(text[:60])}" for text, count in member.texts)
    return (
        f"<figure><figcaption><b>{escape(member.name)}</b> <span class='soft'>{escape(member.kind)}"
        f"</span><br>{escape(told)}{texts}</figcaption>{svg}</figure>"
    )


def _told(member: Measured, rows: int) -> str:
    """The facts of a field or relation, on a line."""
    parts = []
    if member.low is not None and member.high is not None:
        parts.append(f"{value(member, member.low)} to {value(member, member.high)}")
        if member.mean is not None and member.kind.split()[0] not in ("date", "datetime", "time"):
            parts.append(f"mean {value(member, member.mean)}")
    if member.lengths is not None:
        low, high = member.lengths
        parts.append(f"{low} characters" if low == high else f"{low} to {high} characters")
    if member.kind.startswith("to ") and member.counts:
        numbers = [int(n) for n in member.counts]
        parts.append(f"{min(numbers)} to {max(numbers)} each")
    if len(member.depths) > 1:
        parts.append(
            f"{len(member.depths)} generations: {', '.join(f'{n:,}' for n in member.depths[:9])}"
        )
    if member.empty:
        declared = (
            "" if not member.declared_empty else f" of {100 * member.declared_empty:.0f}% declared"
        )
        parts.append(f"{100 * member.empty / rows:.1f}% empty{declared}")
    return "; ".join(parts)


def value(member: Measured, number: float) -> str:
    """A number in the units of a column as people read it."""
    word = member.kind.split()[0]
    try:
        if word == "date":
            return str(dt.date(1970, 1, 1) + dt.timedelta(days=int(number)))
        if word == "datetime":
            at = dt.datetime(1970, 1, 1) + dt.timedelta(seconds=int(number))
            return f"{at:%Y-%m-%d %H:%M}"
    except OverflowError:
        return str(number)
    if word in ("time", "duration"):
        return f"{int(number) // 3600}:{int(number) // 60 % 60:02}"
    if word == "decimal":
        return f"{number / 10**member.places:,.{member.places}f}"
    return f"{number:,.4g}" if number != int(number) or abs(number) >= 1e15 else f"{int(number):,}"


def _number(count: int | None) -> str:
    return "" if count is None else f"{count:,}"
