"""Values as Python source, laid out as the house's formatter leaves them."""

from __future__ import annotations

_NAMED = {"\n": "\\n", "\r": "\\r", "\t": "\\t", "\\": "\\\\"}


def quote(text: str) -> str:
    """A Python string literal: double quotes unless single ones need fewer escapes."""
    mark = "'" if text.count('"') > text.count("'") else '"'
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
    return mark + "".join(out) + mark
