"""The database: one session a request, and a check that it is up to date."""

from __future__ import annotations

import datetime as dt
import re
import sqlite3
from collections.abc import Iterator
from typing import Any, ClassVar

from flask import Flask, abort, current_app, g, request
from sqlalchemy import (
    Connection,
    Engine,
    Select,
    and_,
    create_engine,
    event,
    make_url,
    text,
)
from sqlalchemy.exc import DBAPIError, OperationalError
from sqlalchemy.orm import DeclarativeBase, Session

from .. import fingerprint, settings
from . import clock, fragments, guard

_BUSY_SECONDS = 4


class Base(DeclarativeBase):
    """What all models have in common."""

    # What begins the names of a model's pages; its table's name, unless said.
    ENDPOINT: ClassVar[str]
    # The reference to the row that a row is made under; empty where it stands alone.
    OWNER: ClassVar[str] = ""

    def __init_subclass__(cls, **options: Any) -> None:
        if "ENDPOINT" not in cls.__dict__ and "__tablename__" in cls.__dict__:
            cls.ENDPOINT = cls.__tablename__
        super().__init_subclass__(**options)

    @property
    def url_part(self) -> str:
        """What its address ends in."""
        key: Any = self.id  # type: ignore[attr-defined]
        return str(key)


def live(rows: Select[Any], model: Any) -> Select[Any]:
    """The same rows less those in the bin, and less what is part of a row there."""
    return rows.where(*is_live(model))


def is_live(model: Any) -> Iterator[Any]:
    """The conditions that a row of a model, or of an alias of it, is out of the bin."""
    removed = getattr(model, "removed_at", None)
    if removed is not None:
        yield removed.is_(None)
    if model.OWNER:
        owner = getattr(model, model.OWNER)
        above = list(is_live(owner.property.mapper.class_))
        if above:
            yield owner.has(and_(*above))


def connect(app: Flask, address: str) -> None:
    """Gives the site its database. Nothing is opened before the first request."""
    app.extensions["engine"] = _engine(address)
    app.extensions["up_to_date"] = False

    @app.teardown_appcontext
    def end(error: BaseException | None) -> None:
        try:
            close()
        except Exception:
            # The answer is made by now, and must not be lost for it.
            app.logger.exception("The session could not be closed.")


def _engine(address: str) -> Engine:
    url = make_url(address)
    if url.get_backend_name() != "sqlite":
        # Two changes that are each fine alone must be fine together, in whatever order.
        return create_engine(url, isolation_level="SERIALIZABLE", pool_pre_ping=True)
    path = (settings.ROOT / (url.database or "")).resolve().as_uri()
    # mode=rw: a wrong path is an error, not a new and empty database.
    engine = create_engine(
        f"sqlite:///{path}?mode=rw&uri=true", connect_args={"timeout": _BUSY_SECONDS}
    )

    @event.listens_for(engine, "connect")
    def prepare(connection: sqlite3.Connection, record: Any) -> None:
        connection.isolation_level = None
        connection.execute("PRAGMA foreign_keys = ON")
        connection.create_function("regexp", 2, _matches, deterministic=True)
        connection.create_function("local_date", 1, _local_date, deterministic=True)

    @event.listens_for(engine, "begin")
    def begin(connection: Connection) -> None:
        # A change takes the write lock at once, so that what it checks stays true.
        writes = connection.get_execution_options().get("writes")
        driver: Any = connection.connection.driver_connection
        statement = "BEGIN IMMEDIATE" if writes else "BEGIN"
        try:
            driver.execute(statement)
        except sqlite3.Error as error:
            # Told as any other failure of the database, so that it is tried again.
            raise OperationalError(statement, {}, error) from error

    return engine


def _matches(pattern: str, value: str | None) -> bool | None:
    return None if value is None else re.fullmatch(pattern, value) is not None


def _local_date(moment: str | None) -> str | None:
    """The day of a stored moment where the site is."""
    if moment is None:
        return None
    return clock.day(
        dt.datetime.fromisoformat(moment).replace(tzinfo=dt.UTC)
    ).isoformat()


def session() -> Session:
    """The session of this request, closed when the request ends."""
    if "session" not in g:
        g.session = Session(current_app.extensions["engine"])
        if guard.is_stale():
            # Whatever the page's own code does: without the secret nothing is stored.
            event.listen(g.session, "before_commit", _refuse)
        if (
            request
            and request.method == "POST"
            and not fragments.asked()
            and not guard.is_stale()
        ):
            g.session.connection(execution_options={"writes": True})
    opened: Session = g.session
    return opened


def _refuse(refused: Session) -> None:
    abort(403)


def close() -> None:
    """Ends the session of this request; what was not committed is gone."""
    opened: Session | None = g.pop("session", None)
    if opened is not None:
        opened.close()


def defer_references() -> None:
    """Lets references be broken until the transaction ends; they are checked then."""
    session().execute(text("PRAGMA defer_foreign_keys = ON"))


def behind() -> str | None:
    """What to run when the database does not match this code; None when it does.

    Asked before each request until the answer is None once.
    """
    if current_app.extensions["up_to_date"]:
        return None
    found = _fingerprints()
    if found and found[-1] == fingerprint.FINGERPRINT:
        current_app.extensions["up_to_date"] = True
        return None
    return (
        "welbik build"
        if found and fingerprint.FINGERPRINT in found
        else "welbik migrate"
    )


def doubt() -> None:
    """Looks again before the next request: a table or a column was missing."""
    current_app.extensions["up_to_date"] = False


def _fingerprints() -> list[str]:
    query = text("SELECT schema FROM welbik_migration ORDER BY number")
    engine: Engine = current_app.extensions["engine"]
    try:
        with engine.connect() as connection:
            return list(connection.scalars(query))
    except DBAPIError:
        return []
