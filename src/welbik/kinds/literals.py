"""Values as Python source, laid out as the house's formatter leaves them."""

from __future__ import annotations

_NAMED = {"\n": "\\n", "\r": "\\r", "\t": "\\t", "\\": "\\\\"}


def quote(text: str) -> str:
    """A Python string literal: double quotes unless single ones need fewer escapes."""
    mark = "'" if text.count('"') > text.count("'") else '"'
    return mark + escaped(text, mark) + mark


def escaped(text: str, mark: str) -> str:
    """What stands for a text between two marks."""
    out = []
    for character in text:
        if character == mark:
            out.append("\\" + character)
        elif character in _NAMED:
            out.append(_NAMED[character])
        elif not character.isprintable():
            out.append(character.encode("unicode_escape").decode())
        else:
            out.append(character)
    return "".join(out)


def toml(value: object) -> str:
    """A text, a number, yes or no, or several texts as TOML: all that shows stands as it is."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return str(value)
    if isinstance(value, list | tuple):
        return f"[{', '.join(map(toml, value))}]"
    return '"' + "".join(map(_toml_character, str(value))) + '"'


def _toml_character(character: str) -> str:
    if character in '\\"':
        return f"\\{character}"
    if character.isprintable():
        return character
    return _NAMED.get(character) or f"\\U{ord(character):08x}"
