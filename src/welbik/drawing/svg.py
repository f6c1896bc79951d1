"""A diagram as SVG 1.1, readable on light and dark paper."""

from __future__ import annotations

from html import escape

from .graph import HEAD, LINE, PAD
from .layout import Diagram, Line, Placed, Point

_STYLE = """\
  text { font: 12px "DejaVu Sans Mono", "Liberation Mono", Menlo, Consolas, monospace; fill: #23291f; }
  .name { font: 600 13px "DejaVu Sans", Ubuntu, Calibri, sans-serif; fill: #ffffff; }
  .type { fill: #5c6355; }
  .count { font-size: 13px; fill: #2f5d50; paint-order: stroke; stroke: #f6f4ee; stroke-width: 4px; }
  .paper { fill: #f6f4ee; }
  .box { fill: #fffdf8; stroke: #85897a; }
  .head { fill: #2f5d50; }
  .line { fill: none; stroke: #2f5d50; stroke-width: 1.3; stroke-linejoin: round; }
  .end { fill: #2f5d50; }
"""


def to_svg(diagram: Diagram, title: str) -> str:
    """The whole picture as one file."""
    width, height = round(diagram.width), round(diagram.height)
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{height}" '
        f'viewBox="0 0 {width} {height}" role="img">',
        f"<title>{escape(title)}</title>",
        f"<style>\n{_STYLE}</style>",
        f'<rect class="paper" width="{width}" height="{height}"/>',
        *(_line(line) for line in diagram.lines),
        *(_box(placed) for placed in diagram.boxes),
        *(_counts(line) for line in diagram.lines),
        "</svg>",
    ]
    return "\n".join(parts) + "\n"


def _line(line: Line) -> str:
    way = " ".join(f"{p.x:.1f},{p.y:.1f}" for p in line.points)
    end = line.points[-1]
    dot = f'<circle class="end" cx="{end.x:.1f}" cy="{end.y:.1f}" r="3.5"/>'
    relation = line.relation
    about = f"{relation.source}.{relation.name} → {relation.target}"
    return f'<g><title>{escape(about)}</title><polyline class="line" points="{way}"/>{dot}</g>'


def _box(placed: Placed) -> str:
    box, x, y = placed.box, placed.x, placed.y
    parts = [
        f'<rect class="box" x="{x:.1f}" y="{y:.1f}" width="{box.width:.1f}" height="{box.height:.1f}" rx="4"/>',
        f'<path class="head" d="M{x:.1f} {y + HEAD:.1f}v{4 - HEAD:.1f}q0 -4 4 -4h{box.width - 8:.1f}q4 0 4 4v{HEAD - 4:.1f}z"/>',
        f'<text class="name" x="{x + PAD:.1f}" y="{y + 17.5:.1f}">{escape(box.name)}</text>',
    ]
    for number, (name, kind) in enumerate(box.rows):
        at = y + HEAD + LINE * number + 15
        parts.append(f'<text x="{x + PAD:.1f}" y="{at:.1f}">{escape(name)}</text>')
        parts.append(
            f'<text class="type" x="{x + box.gutter:.1f}" y="{at:.1f}">{escape(kind)}</text>'
        )
    return "\n".join(parts)


def count_places(line: Line) -> tuple[tuple[Point, str], tuple[Point, str]]:
    """Where the numbers at both ends of a line stand, and what they are."""
    relation = line.relation
    return (
        (_beside(line.points[0], line.points[1]), relation.many),
        (_beside(line.points[-1], line.points[-2]), relation.one),
    )


def _beside(end: Point, towards: Point) -> Point:
    if end.x == towards.x:
        return Point(end.x + 5, end.y + (14 if towards.y > end.y else -6))
    return Point(end.x + 6, end.y - 4)


def _counts(line: Line) -> str:
    return "\n".join(
        f'<text class="count" x="{at.x:.1f}" y="{at.y:.1f}">{escape(text)}</text>'
        for at, text in count_places(line)
    )
