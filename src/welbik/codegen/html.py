"""Text inside templates of the generated pages."""

from __future__ import annotations

from html import escape


def text(value: str) -> str:
    """Plain text as HTML, in an element or an attribute, that Jinja leaves alone."""
    plain = escape(value).replace("{", "&#123;").replace("}", "&#125;")
    return "".join(c if c.isprintable() or c == "\n" else f"&#{ord(c)};" for c in plain)


def title(value: str) -> str:
    """A text with its first letter large, where that is one letter."""
    large = value[:1].title()
    return (large if len(large) == 1 else value[:1]) + value[1:]
