"""The database: one session a request, and a check that it is up to date."""

from __future__ import annotations

import datetime as dt
import os
from collections.abc import Callable, Iterator
from typing import Any, ClassVar
from uuid import UUID

from flask import Flask, abort, current_app, g, request
from sqlalchemy import (
    Engine,
    MetaData,
    Select,
    and_,
    column,
    event,
    make_url,
    select,
    table,
)
from sqlalchemy.exc import ArgumentError, DBAPIError
from sqlalchemy.orm import DeclarativeBase, Session

from .. import fingerprint
from . import columns, dialects, fragments, guard, tables
from .dialect import Dialect


class Base(DeclarativeBase):
    """What all models have in common."""

    metadata = MetaData(naming_convention=tables.NAMES)
    type_annotation_map: ClassVar[dict[Any, Any]] = {
        UUID: columns.Identifier(),
        dt.time: columns.Clock(),
    }

    # What begins the names of a model's pages; its table's name, unless said.
    ENDPOINT: ClassVar[str]
    # The reference to the row that a row is made under; empty where it stands alone.
    OWNER: ClassVar[str] = ""
    HISTORY: ClassVar[Any] = None  # What keeps its changes, where anything does.

    def __init_subclass__(cls, **options: Any) -> None:
        if "ENDPOINT" not in cls.__dict__ and "__tablename__" in cls.__dict__:
            cls.ENDPOINT = cls.__tablename__
        super().__init_subclass__(**options)
        made: Any = cls.__table__
        tables.hold_texts(made)
        tables.ready(made)

    @property
    def url_part(self) -> str:
        """What its address ends in."""
        key: Any = self.id  # type: ignore[attr-defined]
        return str(key)


def every_model() -> list[Any]:
    """All models, in the same order in every process."""
    return sorted((m.class_ for m in Base.registry.mappers), key=lambda m: m.__name__)


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
    app.extensions["dialect"], app.extensions["engine"] = _opened(address)
    app.extensions["address"] = address
    app.extensions["up_to_date"] = False

    @app.teardown_appcontext
    def end(error: BaseException | None) -> None:
        try:
            close()
        except Exception:
            # The answer is made by now, and must not be lost for it.
            app.logger.exception("The session could not be closed.")


def _opened(address: str) -> tuple[Dialect, Engine]:
    try:
        url = make_url(address)
        found = dialects.of(url.get_backend_name())
    except (ArgumentError, LookupError) as error:
        raise RuntimeError(f"{whence()} is no database address: {error}") from None
    try:
        engine = found.engine(url)
    except ModuleNotFoundError:
        needs = f'pip install "{found.requirement}"'
        raise RuntimeError(f"The database's driver is missing: {needs}") from None
    _set_in_quotes(engine.dialect)
    return found, engine


class _Every(frozenset[str]):
    def __contains__(self, word: object) -> bool:
        return True


def _set_in_quotes(dialect: Any) -> None:
    """Has all names set in quotes: no list of a database's own words is complete."""
    own = {"reserved_words": _Every()}
    dialect.preparer = type("Names", (dialect.preparer,), own)
    dialect.identifier_preparer = dialect.preparer(dialect)


def whence() -> str:
    """Which setting has the database's address."""
    return (
        "DATABASE_URL" if os.environ.get("DATABASE_URL") else "DATABASE in settings.py"
    )


class Unreachable(Exception):
    """The database can't be opened at all."""

    def __init__(self, why: str) -> None:
        url = make_url(current_app.extensions["address"])
        shown = url.render_as_string(hide_password=True)
        super().__init__(
            f"The database {shown} (from {whence()}) can't be opened: {why}"
        )


def dialect() -> Dialect:
    """What the site's database writes and does its own way."""
    found: Dialect = current_app.extensions["dialect"]
    return found


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
            turn = g.session.connection(execution_options={"writes": True})
            dialect().take_turn(turn, alone=g.get("tries", 1) > 1)
    opened: Session = g.session
    return opened


def fetch(model: Any, key: Any) -> Any:
    """The row of a model with a key; None where there is none."""
    if hasattr(model, "KEY"):
        return session().scalar(select(model).where(model.id == key))
    return session().get(model, key)


def _refuse(refused: Session) -> None:
    abort(403)


def close() -> None:
    """Ends the session of this request; what was not committed is gone."""
    opened: Session | None = g.pop("session", None)
    if opened is not None:
        opened.close()


def defer_references() -> None:
    """Lets references be broken until the transaction ends; they are checked then."""
    dialect().defer_references(session().connection())


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
    known = fingerprint.FINGERPRINT in found
    return "welbik build" if known else "welbik migrate"


def doubt() -> None:
    """Looks again before the next request: a table or a column was missing."""
    current_app.extensions["up_to_date"] = False


def _fingerprints() -> list[str]:
    query: Select[Any] = select(column("schema")).select_from(table("welbik_migration"))
    engine: Engine = current_app.extensions["engine"]
    try:
        connection = engine.connect()
    except DBAPIError as error:
        why = dialect().trouble(error)
        if why:
            raise Unreachable(why) from None
        return []
    except OSError as error:
        raise Unreachable(f"a file of its address can't be read: {error}") from None
    with connection:
        try:
            return list(connection.scalars(query.order_by(column("number"))))
        except DBAPIError:
            return []


def on_stored(app: Flask, work: Callable[[], None]) -> None:
    """Has something done each time that a change was stored."""
    app.extensions.setdefault("stored", []).append(work)


def stored() -> None:
    """Tells whoever waits for it that a change was stored."""
    for work in current_app.extensions.get("stored", ()):
        work()
