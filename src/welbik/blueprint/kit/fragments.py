"""Requests for a part of a form: more choices, another entry, a check as one types, a look first.

A button of the form sends them, and the form comes back with all that was typed; where
there is script, only the field in question is put into the page. Nothing is stored.
"""

from __future__ import annotations

from flask import request

PARAMETER = "_part"
_KINDS = ("find", "more", "check", "new", "look")


def asked() -> tuple[str, str] | None:
    """What is asked for and for which field; None where the whole form is sent."""
    kind, _, name = request.form.get(PARAMETER, "").partition(":")
    return (kind, name) if kind in _KINDS and name else None
