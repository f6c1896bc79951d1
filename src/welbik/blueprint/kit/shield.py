"""What stands around the whole site: headers on every answer, time for a body, and a last page.

Nothing in here asks the database, a template or a session: it holds when all of those fail.
"""

from __future__ import annotations

import socket
import sys
import threading
import time
import traceback
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
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
_FIRST_SECONDS = 30
_SLOWEST = 20_000
"""Bytes a second: a slow telephone is faster."""
_PIECE = 1 << 13
_LAST = (
    b"<!doctype html><html lang=en><meta charset=utf-8><title>Something went wrong</title>"
    b"<h1>Something went wrong</h1><p>Nothing was stored. Go back, and try again.</p>"
)

Start = Callable[..., Any]
Application = Callable[[dict[str, Any], Start], Iterable[bytes]]


class Body:
    """The body of a request, which has to come in time: who sends it too slowly is cut off.

    There are some seconds at first, and more with each piece that has come.
    """

    def __init__(self, stream: Any, connection: socket.socket | None) -> None:
        self._stream = stream
        self._connection = connection
        self._begun, self._come, self._done = time.monotonic(), 0, False
        self._timer: threading.Timer | None = None
        # Returns with what there is, so that the time is looked at between two pieces.
        self._some = getattr(stream, "read1", None) or stream.read

    @property
    def left(self) -> float:
        """The seconds until what has come is too little."""
        return self._begun + _FIRST_SECONDS + self._come / _SLOWEST - time.monotonic()

    def read(self, size: int = -1) -> bytes:
        found = bytearray()
        while size < 0 or len(found) < size:
            piece = self._some(_PIECE if size < 0 else min(_PIECE, size - len(found)))
            if self.left < 0:
                raise RequestTimeout
            if not piece:
                break
            found += piece
            self._come += len(piece)
        return bytes(found)

    @contextmanager
    def watched(self) -> Iterator[None]:
        """Some servers look up only when a piece is whole: meanwhile somebody else does."""
        if self._connection is not None:
            self._watch()
        try:
            yield
        finally:
            self._done = True
            if self._timer is not None:
                self._timer.cancel()

    def _watch(self) -> None:
        if self._done:
            return
        if self.left > 0:
            self._timer = threading.Timer(self.left + 0.01, self._watch)
            self._timer.daemon = True
            self._timer.start()
        elif self._connection is not None:
            with suppress(OSError):
                # What waits for more of it sees its end.
                self._connection.shutdown(socket.SHUT_RD)

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

        awaited = environ["REQUEST_METHOD"] == "POST"
        names = ("gunicorn.socket", "werkzeug.socket") if awaited else ()
        connection = next((environ[name] for name in names if name in environ), None)
        body = environ["wsgi.input"] = Body(environ["wsgi.input"], connection)
        try:
            with body.watched():
                return inner(environ, begin)
        except Exception:
            if app.testing or app.debug or app.config["PROPAGATE_EXCEPTIONS"]:
                raise
            # The log may be what failed: this goes past it, with nothing of a visitor raw.
            told = traceback.format_exc().encode("ascii", "backslashreplace").decode()
            print(repr(told), file=sys.stderr)
            kind = ("Content-Type", "text/html; charset=utf-8")
            error = (sys.exc_info(),) if begun else ()
            begin("500 INTERNAL SERVER ERROR", [kind], *error)
            return [_LAST]

    site.wsgi_app = answer
