"""Trying again what failed by no fault of the request: a lost connection, a lock, a race."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import Flask, g, request
from sqlalchemy.exc import DBAPIError

from . import database

_TRIES = 3


def is_passing(error: DBAPIError) -> bool:
    """Whether the same request may well go through when it is tried again."""
    if error.connection_invalidated:
        return True
    return database.dialect().is_passing(error)


def keep_trying(app: Flask) -> None:
    """Answers each request anew, a few times, when the database failed in passing.

    Nothing of a failed try was stored: what is stored ends with its commit.
    """
    once: Callable[[], Any] = app.dispatch_request

    def dispatch() -> Any:
        for tries in range(1, _TRIES + 1):
            # One that failed has the database's changes to itself the next time.
            g.tries = tries
            try:
                return once()
            except DBAPIError as error:
                if tries == _TRIES or not is_passing(error):
                    raise
                app.logger.warning(
                    "The database failed in passing: trying again. %s", error.orig
                )
                database.close()
                for upload in request.files.values():
                    upload.seek(0)
        raise AssertionError("the last try ends the loop")

    app.dispatch_request = dispatch  # type: ignore[method-assign]
