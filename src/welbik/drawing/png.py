"""A diagram as PNG, drawn with Matplotlib where SVG can't be shown."""

from __future__ import annotations

from io import BytesIO
from typing import Any

from .graph import HEAD, LINE, PAD
from .layout import Diagram
from .svg import count_places

_INK, _QUIET, _MARK, _PAPER, _SHEET, _EDGE = (
    *("#23291f", "#5c6355", "#2f5d50", "#f6f4ee", "#fffdf8", "#85897a"),
)
_POINT = 72 / 96
"""Points in a pixel."""


def to_png(diagram: Diagram, scale: float = 2.0) -> bytes:
    """The picture at `scale` pixels of the file for one of the diagram."""
    from matplotlib.figure import Figure

    figure = Figure(figsize=(diagram.width / 96, diagram.height / 96), dpi=96 * scale)
    figure.patch.set_facecolor(_PAPER)
    axes = figure.add_axes((0, 0, 1, 1))
    axes.set_xlim(0, diagram.width)
    axes.set_ylim(diagram.height, 0)
    axes.axis("off")
    _draw(diagram, axes)
    out = BytesIO()
    figure.savefig(out, format="png", facecolor=_PAPER)
    return out.getvalue()


def _draw(diagram: Diagram, axes: Any) -> None:
    from matplotlib.patches import Rectangle

    for line in diagram.lines:
        axes.plot([p.x for p in line.points], [p.y for p in line.points], color=_MARK, linewidth=1)
        axes.plot([line.points[-1].x], [line.points[-1].y], "o", color=_MARK, markersize=4)
    for placed in diagram.boxes:
        box, x, y = placed.box, placed.x, placed.y
        for height, face in ((box.height, _SHEET), (HEAD, _MARK)):
            edge = _EDGE if face == _SHEET else _MARK
            shape = Rectangle((x, y), box.width, height, facecolor=face, edgecolor=edge, zorder=2)
            axes.add_patch(shape)
        _write(axes, x + PAD, y + 17.5, box.name, "#ffffff", 13, "DejaVu Sans", "bold")
        for number, (name, kind) in enumerate(box.rows):
            at = y + HEAD + LINE * number + 15
            _write(axes, x + PAD, at, name, _INK)
            _write(axes, x + box.gutter, at, kind, _QUIET)
    for line in diagram.lines:
        for place, text in count_places(line):
            _write(axes, place.x, place.y, text, _MARK, 13)


def _write(
    axes: Any,
    x: float,
    y: float,
    text: str,
    colour: str,
    size: float = 12,
    family: str = "DejaVu Sans Mono",
    weight: str = "normal",
) -> None:
    plain = text.replace("$", r"\$")
    axes.text(
        x, y, plain, color=colour, fontsize=size * _POINT, family=family, weight=weight, zorder=3
    )
