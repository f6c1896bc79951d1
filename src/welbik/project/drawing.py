"""Writing a diagram of a project's models."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ..drawing.dot import to_dot
from ..drawing.graph import boxes, relations
from ..drawing.layout import arranged
from ..drawing.svg import to_svg
from ..problems import WelbikError
from ..schema.model import Schema
from .writing import write_bytes


def draw(schema: Schema, path: Path, title: str, only: Sequence[str] = ()) -> None:
    """Writes the diagram as the file's ending says: .svg, .png or .dot."""
    shown = boxes(schema, only)
    related = relations(schema, list(shown))
    kind = path.suffix.lower()
    if kind == ".dot":
        data = to_dot(shown, related, title).encode()
    else:
        diagram = arranged(shown, related)
        if kind == ".png":
            from ..drawing.png import to_png

            data = to_png(diagram)
        else:
            data = to_svg(diagram, title).encode()
    if not path.absolute().parent.is_dir():
        raise WelbikError(f"there is no folder {path.parent}", "make it, or name another file")
    write_bytes(path, data)
