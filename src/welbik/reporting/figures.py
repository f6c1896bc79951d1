"""Plots of what was measured, with what was declared over it. Matplotlib draws them."""

from __future__ import annotations

import datetime as dt
import io
import re
from collections.abc import Sequence
from typing import Any

import numpy as np

from ..data.spreads import Bell, Calendar, Even
from .measures import Measured, Table

_INK, _FILL, _LINE = "#010203", "#040506", "#070809"
"""Stand for the colours of the page, which may be light or dark."""
_BARS = 24
_PAPER = {"ink": "#2b2a26", "fill": "#c58a2b", "line": "#24504a", "paper": "#fbf8f1"}


def figure_svg(member: Measured, own: str) -> str:
    """A plot of a field or relation as SVG for a page; empty where there is nothing to draw.

    `own` begins the names in it: those of one plot must not be those of another.
    """
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    if not _has_plot(member):
        return ""
    with mpl.rc_context({"font.size": 8, "svg.fonttype": "none", "font.family": "sans-serif"}):
        figure = Figure(figsize=(3.1, 1.5), layout="constrained")
        axes = figure.subplots()
        _draw(axes, member, _INK, _FILL, _LINE)
        out = io.StringIO()
        figure.savefig(out, format="svg", transparent=True, metadata={"Date": None})
    text = out.getvalue()
    # Who drew it, and by what terms, is no part of the plot.
    text = re.sub(r"<metadata>.*?</metadata>", "", text[text.index("<svg") :], flags=re.DOTALL)
    for colour, name in ((_INK, "currentColor"), (_FILL, "var(--fill)"), (_LINE, "var(--line)")):
        text = text.replace(colour, name)
    text = re.sub(r'(id="|xlink:href="#|url\(#)', lambda m: f"{m[1]}{own}-", text)
    # Sizes come from the page.
    begin, end = text.split(">", 1)
    begin = re.sub(r' (width|height)="[^"]*"', "", begin)
    return f"{begin}>{end}"


def overview(tables: Sequence[Table], title: str, path: Any) -> None:
    """A picture of the most telling plots of all models, about 1280 by 800."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    chosen = _chosen(tables)
    columns = 4
    lines = max(1, -(-len(chosen) // columns))
    with mpl.rc_context({"font.size": 9, "font.family": "sans-serif"}):
        figure = Figure(figsize=(12.8, 1.4 + 2.2 * lines), dpi=100, layout="constrained")
        figure.set_facecolor(_PAPER["paper"])
        told = "   ".join(f"{table.rows:,} {table.title}" for table in tables)
        figure.suptitle(f"{title}\n{told}", fontsize=12, color=_PAPER["ink"])
        if not chosen:
            figure.text(0.5, 0.4, "Nothing is stored yet.", ha="center")
        for at, (table, member) in enumerate(chosen):
            axes = figure.add_subplot(lines, columns, at + 1)
            axes.set_facecolor(_PAPER["paper"])
            _draw(axes, member, _PAPER["ink"], _PAPER["fill"], _PAPER["line"])
            axes.set_title(f"{table.model}: {member.name}", fontsize=9, loc="left")
        figure.savefig(path, format="png")


def _chosen(tables: Sequence[Table]) -> list[tuple[Table, Measured]]:
    """Up to twelve plots: of each model in turn, those first that something is declared of."""
    queues = []
    for table in tables:
        drawn = [member for member in table.members if _has_plot(member)]
        drawn.sort(key=lambda m: not (m.fan_out or m.declared_counts or m.depths))
        queues.append([(table, member) for member in drawn])
    found: list[tuple[Table, Measured]] = []
    while any(queues) and len(found) < 12:
        for queue in queues:
            if queue and len(found) < 12:
                found.append(queue.pop(0))
    return found


def _has_plot(member: Measured) -> bool:
    return bool(member.counts) or member.sample is not None and len(member.sample) > 0


def _draw(axes: Any, member: Measured, ink: str, fill: str, line: str) -> None:
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("bottom", "left"):
        axes.spines[side].set_color(ink)
    axes.tick_params(colors=ink, length=2)
    axes.yaxis.set_major_locator(_locator(3))
    axes.yaxis.set_major_formatter(lambda value, _: _short(value))
    if member.sample is not None:
        _histogram(axes, member, fill, line)
    elif member.kind.startswith("to "):
        _fan_out(axes, member, fill, line)
    else:
        _choices(axes, member, fill, line)


def _histogram(axes: Any, member: Measured, fill: str, line: str) -> None:
    sample = member.sample
    assert sample is not None
    scale = 10.0**member.places if member.kind.startswith("decimal") else 1.0
    low, high = float(sample.min()), float(sample.max())
    few = low >= -1e6 and high - low < _BARS and np.all(sample == np.rint(sample))
    edges = np.arange(low - 0.5, high + 1) if few else np.linspace(low, high or low + 1, _BARS + 1)
    if high == low:
        edges = np.array([low - 0.5, low + 0.5])
    counts, _ = np.histogram(sample, edges)
    axes.bar(edges[:-1] / scale, counts, np.diff(edges) / scale * 0.92, align="edge", color=fill)
    expected = _expected(member, edges, len(sample))
    if expected is not None:
        middles = (edges[:-1] + edges[1:]) / 2 / scale
        axes.plot(middles, expected, color=line, linewidth=1.4)
    _units(axes, member, low, high)


def _expected(member: Measured, edges: Any, size: int) -> Any:
    """How many values each bar would have as they are declared, where no rule cuts them."""
    spread = member.spread
    if not isinstance(spread, Bell | Calendar | Even):
        return None
    grid = (np.arange(20_000) + 0.5) / 20_000
    ends = np.full(len(grid), spread.reach.low), np.full(len(grid), spread.reach.high)
    values = spread.at(grid, *ends) / 10.0**spread.reach.places
    counts, _ = np.histogram(values, edges)
    return counts / len(grid) * size


def _units(axes: Any, member: Measured, low: float, high: float) -> None:
    """Days and times read as such."""
    word = member.kind.split()[0]
    axes.xaxis.set_major_locator(_locator(4))
    if word in ("date", "datetime"):
        day = 86_400 if word == "datetime" else 1
        # A few days are told by day, years by year.
        form = (
            "%Y" if (high - low) / day > 1500 else "%b %Y" if (high - low) / day > 90 else "%d %b"
        )

        def told(value: float, _: object) -> str:
            try:
                at = dt.date(1970, 1, 1) + dt.timedelta(days=value // day)
            except OverflowError:
                return ""
            return at.strftime(form)

        axes.xaxis.set_major_formatter(told)
    elif word in ("time", "duration"):
        axes.xaxis.set_major_formatter(
            lambda value, _: f"{int(value) // 3600}:{int(value) // 60 % 60:02}"
        )
    else:
        axes.xaxis.set_major_formatter(lambda value, _: _short(value))


def _fan_out(axes: Any, member: Measured, fill: str, line: str) -> None:
    """How many parents have so many rows; the declared range between two lines."""
    numbers = np.array([int(n) for n in member.counts])
    counts = np.array(list(member.counts.values()))
    if len(numbers) > 60:
        order = np.repeat(numbers, np.minimum(counts, 10_000))
        counts, edges = np.histogram(order, _BARS)
        axes.bar(edges[:-1], counts, np.diff(edges) * 0.92, align="edge", color=fill)
    else:
        axes.bar(numbers, counts, 0.85, color=fill)
    if member.fan_out is not None:
        for end in member.fan_out:
            if end is not None:
                axes.axvline(end, color=line, linewidth=1.2, linestyle=(0, (3, 2)))
    axes.xaxis.set_major_locator(_locator(5, whole=True))


def _choices(axes: Any, member: Measured, fill: str, line: str) -> None:
    labels = list(member.counts)[:10]
    counts = [member.counts[label] for label in labels]
    places = np.arange(len(labels))[::-1]
    axes.barh(places, counts, 0.7, color=fill)
    total = sum(member.counts.values())
    for place, label in zip(places, labels, strict=True):
        if label in member.declared_counts:
            at = member.declared_counts[label] * total
            axes.plot([at, at], [place - 0.42, place + 0.42], color=line, linewidth=1.6)
    axes.set_yticks(places, [label if len(label) < 18 else f"{label[:16]}…" for label in labels])
    axes.xaxis.set_major_locator(_locator(4, whole=True))
    axes.xaxis.set_major_formatter(lambda value, _: _short(value))


def _locator(most: int, *, whole: bool = False) -> Any:
    from matplotlib.ticker import MaxNLocator

    return MaxNLocator(most, integer=whole)


def _short(value: float) -> str:
    """A number on an axis: 1 200 000 as 1.2M."""
    for size, letter in ((1e9, "G"), (1e6, "M"), (1e3, "k")):
        if abs(value) >= size:
            return f"{value / size:.3g}{letter}"
    return f"{value:.4g}"
