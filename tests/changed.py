"""Random pairs of declarations: some, and the same as somebody changed them later."""

from __future__ import annotations

import re

from declared import declarations, field_types
from hypothesis import strategies as st

_FIELD = re.compile(r"    (\w+) (?!->|<-|as|=|after)([a-z]+)\b(?!.*\bfrom\b)")
_CHOICE = re.compile(r'(one of )([a-z_]\w*)((?: "(?:[^"\\]|\\.)*")?)')
_READS = re.compile(r"    (rule|unique|index|address) | = |, where |, [<>]=? | from ")
_NOT_FIELDS = (
    "list ",
    "sort ",
    "keep ",
    "rule ",
    "unique ",
    "index ",
    "form ",
    "menu ",
    "address ",
)


def _fields(lines: list[str]) -> list[int]:
    """The lines that declare a typed field of a model, none of a part."""
    found, in_model = [], False
    for number, line in enumerate(lines):
        if not line.startswith(" "):
            in_model = line.startswith("model ")
        name = line.strip()
        if (
            in_model
            and _FIELD.match(line)
            and not name.startswith(_NOT_FIELDS)
            and " = " not in line
        ):
            found.append(number)
    return found


def _flag(line: str, flag: str) -> str:
    return line.replace(f", {flag}", "") if f", {flag}" in line else f"{line}, {flag}"


def _read_elsewhere(lines: list[str]) -> set[str]:
    """The names that other lines need as they are: of another type they would be no declarations."""
    said = "\n".join(line for line in lines if _READS.search(line))
    return set(re.findall(r"[a-z]\w*", said))


@st.composite
def _another(draw: st.DrawFn, line: str, read: set[str]) -> str:
    """A field as it is declared later, or nothing where it is gone."""
    name, rest = line.strip().split(" ", 1)
    ways = ["type", "type", "same", "flag", "called", "gone", "was"]
    if name in read and draw(st.integers(0, 9)):
        ways = ["same", "flag", "flag", "ends", "ends"]
    way = draw(st.sampled_from(ways))
    if way == "gone":
        return ""
    if way == "flag":
        flags = ["required"] if " list of " in line else ["required", "unique", "indexed"]
        return _flag(line, draw(st.sampled_from(flags)))
    if way == "ends":
        more = draw(st.integers(-4, 9))
        return re.sub(r"\.\.(\d+)", lambda found: f"..{int(found[1]) + more}", line, count=1)
    if way == "called":
        return f"    {name}_now {rest}, was {name}"
    if way == "was":
        # Only what its own value tells: whatever it is.
        return f"{line}, was coalesce({name}, {name})"
    if way == "same":
        return f"    {name} {rest.split(' ')[0].rstrip(',')}" if _plain(rest) else line
    return f"    {name} {draw(field_types())}{draw(st.sampled_from(['', f', was {name}']))}"


def _called_anew(line: str) -> str:
    """The first choice of a field, called otherwise."""
    found = _CHOICE.search(line)
    assert found is not None
    anew = _CHOICE.sub(r"\1\2_now\3 was \2", line, count=1)
    return re.sub(rf", default {found[2]}\b", f", default {found[2]}_now", anew)


def _plain(rest: str) -> bool:
    return rest.split(" ")[0].rstrip(",") in (
        "text",
        "integer",
        "number",
        "decimal",
        "date",
        "datetime",
    )


@st.composite
def changed(draw: st.DrawFn) -> tuple[str, str]:
    """Declarations, and the same after some changes."""
    text = draw(declarations())
    lines = [line for line in text.split("\n") if not re.match(r"    (list|sort|form) ", line)]
    before, fields = "\n".join(lines), _fields(lines)
    if not fields:
        return before, before
    read = _read_elsewhere(lines)
    for at in draw(st.lists(st.sampled_from(fields), min_size=1, max_size=4, unique=True)):
        lines[at] = draw(_another(lines[at], read))
    for at in fields:
        # With another name besides the column is read, and goes.
        if _CHOICE.search(lines[at]) and ", was " not in lines[at] and draw(st.booleans()):
            lines[at] = _called_anew(lines[at])
    models = [n for n, line in enumerate(lines) if line.startswith("model ")]
    if draw(st.booleans()):
        at = draw(st.sampled_from(models))
        lines[at] += f"\n    came {draw(field_types())}"
    if draw(st.integers(0, 3)) == 0 and "    keep " not in before:
        at = draw(st.sampled_from(models))
        lines[at] += draw(st.sampled_from(["\n    keep bin", "\n    keep times, history"]))
    return before, "\n".join(line for line in lines if line.strip() or not line)
