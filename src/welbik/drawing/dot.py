"""A diagram as a graph in the DOT language, for those who lay it out themselves."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from .graph import Box, Relation


def to_dot(boxes: Mapping[str, Box], relations: Sequence[Relation], title: str) -> str:
    """A digraph: a record for each model, an edge for each relation."""
    lines = [
        f"digraph {_quoted(title)} {{",
        "  rankdir=BT;",
        '  node [shape=record, fontname="monospace", fontsize=10];',
        '  edge [fontname="monospace", fontsize=9, arrowhead=dot, arrowsize=0.6];',
    ]
    for box in boxes.values():
        rows = "".join(rf"{_record(name)}  {_record(kind)}\l" for name, kind in box.rows)
        lines.append(f'  {_quoted(box.name)} [label="{{{_record(box.name)}|{rows}}}"];')
    for relation in relations:
        ends = f'taillabel="{relation.many}", headlabel="{relation.one}"'
        way = f"{_quoted(relation.source)} -> {_quoted(relation.target)}"
        lines.append(f"  {way} [label={_quoted(relation.name)}, {ends}];")
    return "\n".join([*lines, "}"]) + "\n"


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _record(text: str) -> str:
    """A text inside a record's label, where some marks mean something."""
    return "".join(f"\\{c}" if c in '\\"{}|<> ' else c for c in text)
