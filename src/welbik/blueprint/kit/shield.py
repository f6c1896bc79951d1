"""What stands around the whole site: headers on every answer, time for a body, and a last page.

Nothing in here asks the database, a template or a session: it holds when all of those fail.
"""

from __future__ import annotations

import sys
import time
import traceback
from collections.abc import Callable, Iterable
from typing import Any

from flask import Flask
from werkzeug.exceptions import RequestTimeout

_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob:; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
_HEADERS = {
    "Content-Security-Policy": _POLICY,
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
    "Permissions-Policy": "camera=(), geolocation=(), microphone=()",
}
_BODY_SECONDS = 60
_CHUNK = 1 << 16
_LAST = (
    b"<!doctype html><html lang=en><meta charset=utf-8><title>Something went wrong</title>"
    b"<h1>Something went wrong</h1><p>Nothing was stored. Go back, and try again.</p>"
)

Start = Callable[..., Any]
Application = Callable[[dict[str, Any], Start], Iterable[bytes]]


class Body:
    """The body of a request, which has to be there in time: who sends it slowly is cut off."""

    def __init__(self, stream: Any) -> None:
        self._stream = stream
        self._end = time.monotonic() + _BODY_SECONDS
        # Returns with what there is, so that the time is looked at between two pieces.
        self._some = getattr(stream, "read1", None) or stream.read

    def read(self, size: int = -1) -> bytes:
        found = bytearray()
        while size < 0 or len(found) < size:
            piece = self._some(_CHUNK if size < 0 else min(_CHUNK, size - len(found)))
            if time.monotonic() > self._end:
                raise RequestTimeout
            if not piece:
                break
            found += piece
        return bytes(found)

    def readline(self, size: int = -1) -> bytes:
        line: bytes = self._stream.readline(size)
        return line

    def __iter__(self) -> Any:
        return iter(self.readline, b"")


def put_around(app: Flask) -> None:
    """Lets every answer of a site go through here."""
    site: Any = app
    inner: Application = site.wsgi_app

    def answer(environ: dict[str, Any], start: Start) -> Iterable[bytes]:
        begun = False

        def begin(status: str, headers: list[tuple[str, str]], *error: Any) -> Any:
            nonlocal begun
            begun = True
            there = {name.lower() for name, _ in headers}
            more = [(k, v) for k, v in _HEADERS.items() if k.lower() not in there]
            return start(status, [*headers, *more], *error)

        environ["wsgi.input"] = Body(environ["wsgi.input"])
        try:
            return inner(environ, begin)
        except Exception:
            if app.testing or app.debug:
                raise
            # The log may be what failed: this goes past it, with nothing of a visitor raw.
            told = traceback.format_exc().encode("ascii", "backslashreplace").decode()
            print(repr(told), file=sys.stderr)
            kind = ("Content-Type", "text/html; charset=utf-8")
            error = (sys.exc_info(),) if begun else ()
            begin("500 INTERNAL SERVER ERROR", [kind], *error)
            return [_LAST]

    site.wsgi_app = answer
