"""Trying again what failed by no fault of the request: a lost connection, a lock, a race."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import Flask, request
from sqlalchemy.exc import DBAPIError

from . import database

_TRIES = 3
# Serialization failures and deadlocks, as SQL's standard and PostgreSQL number them.
_STATES = {"40001", "40P01", "55P03"}


def is_passing(error: DBAPIError) -> bool:
    """Whether the same request may well go through when it is tried again."""
    if error.connection_invalidated:
        return True
    state = getattr(error.orig, "sqlstate", None)
    return state in _STATES or "database is locked" in str(error.orig)


def keep_trying(app: Flask) -> None:
    """Answers each request anew, a few times, when the database failed in passing.

    Nothing of a failed try was stored: what is stored ends with its commit.
    """
    once: Callable[[], Any] = app.dispatch_request

    def dispatch() -> Any:
        for tries in range(1, _TRIES + 1):
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
