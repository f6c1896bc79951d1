"""The log: one JSON object a line, with the number of the request it belongs to.

Visitors are told that number and nothing else of what went wrong. On a terminal the same
is written for reading.
"""

from __future__ import annotations

import json
import logging
import sys
import uuid
from typing import Any

from flask import Flask, Response, g, has_request_context, request

HEADER = "X-Request-Id"


def number() -> str:
    """The number of this request, for its visitor to tell."""
    if "request_number" not in g:
        g.request_number = uuid.uuid4().hex[:12]
    return str(g.request_number)


class Lines(logging.Formatter):
    """Records as JSON, or as text where a person reads along."""

    def __init__(self, reading: bool) -> None:
        super().__init__("%(levelname)s %(message)s")
        self.reading = reading

    def format(self, record: logging.LogRecord) -> str:
        found: dict[str, Any] = {
            "level": record.levelname.lower(),
            "message": record.getMessage(),
        }
        if has_request_context():
            # A path may hold anything: JSON and repr keep it on its line.
            found |= {
                "request": number(),
                "method": request.method,
                "path": request.path,
            }
        if self.reading:
            told = "  ".join(
                f"{key}={value!r}" for key, value in found.items() if key != "level"
            )
            trace = (
                "\n" + self.formatException(record.exc_info) if record.exc_info else ""
            )
            return f"{record.levelname} {told}{_visible(trace)}"
        found = {"time": self.formatTime(record, "%Y-%m-%dT%H:%M:%S%z"), **found}
        if record.exc_info:
            found["trace"] = self.formatException(record.exc_info)
        # All but ASCII is escaped: nothing of a visitor reaches a terminal raw.
        return json.dumps(found)


def _visible(text: str) -> str:
    """A text of several lines with nothing in it that a terminal obeys."""
    return "".join(c if c.isprintable() or c == "\n" else repr(c)[1:-1] for c in text)


def keep(app: Flask) -> None:
    """Writes the site's log to the error stream, and the number on every answer."""
    handler = logging.StreamHandler()
    handler.setFormatter(Lines(reading=sys.stderr.isatty()))
    app.logger.handlers = [handler]
    app.logger.propagate = True

    @app.after_request
    def add_number(response: Response) -> Response:
        response.headers[HEADER] = number()
        return response
