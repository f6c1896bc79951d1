"""Putting the site together: database, guard, pages for what goes wrong."""

from __future__ import annotations

from collections.abc import MutableMapping, Sequence
from itertools import islice
from pathlib import Path
from typing import Any

from flask import Flask, render_template, request
from flask.templating import Environment
from flask.typing import ResponseReturnValue
from jinja2 import FileSystemLoader
from sqlalchemy.exc import DataError, DBAPIError
from werkzeug.exceptions import Forbidden, HTTPException

from .. import settings
from . import (
    again,
    assets,
    chosen,
    controls,
    database,
    fragments,
    guard,
    links,
    logs,
    overview,
    places,
    shield,
)
from .rows import InBin
from .show import amount, show, upper, web_address

Menu = Sequence[tuple[str, str, str, str]]

_SHOWN_MOST = 200
_BUSY = "Nothing was stored. Wait a moment, then load the page again, or send the form again."
_SLOW = "That took too long, so it was broken off: ask for less, or filter by less."
_WORDS = {
    400: "That was not understood",
    403: "This is not allowed",
    404: "There is no such page",
    405: "That can't be done here",
    408: "That took too long to arrive",
    413: "That is too large",
    500: "Something went wrong",
    503: "The database is busy",
}


class _Templates(Environment):
    """Templates that share the site's globals: each import would look for what it has more."""

    def make_globals(self, d: MutableMapping[str, Any] | None) -> Any:
        return super().make_globals(d) if d else self.globals


def make(name: str, address: str, files: Path, menu: Menu) -> Flask:
    """A site without pages of its own yet.

    `menu` holds the group, the label and the endpoint of each list, and what it is about.
    """
    app = Flask(
        name, static_folder="look/static", static_url_path="/look", template_folder=None
    )
    app.jinja_environment = _Templates
    app.jinja_loader = FileSystemLoader(app.root_path)
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.jinja_env.filters.update(
        show=show,
        amount=amount,
        upper_first=upper,
        web_address=web_address,
        at=links.at,
    )
    app.jinja_env.globals.update(
        title=settings.TITLE,
        locale=settings.LOCALE,
        menu=menu,
        groups=list(dict.fromkeys(group for group, *_ in menu)),
        to_page=links.to_page,
        row_url=links.row_url,
        edit_url=links.edit_url,
        copy_url=links.copy_url,
        move_url=links.move_url,
        list_url=places.list_url,
        asked_return=links.asked_return,
        can_make=links.can_make,
        asked_fragment=fragments.asked,
        is_stale=guard.is_stale,
        request_number=logs.number,
        changes_of=lambda row: row.HISTORY.of(row),
        count_rows=overview.count_rows,
        begin_with=overview.begin_with,
        recent=overview.recent,
        find_rows=overview.find_rows,
        pages=lambda: app.view_functions,
        keys_of=chosen.told,
        controls=controls,
        most_at_once=chosen.MOST,
    )
    app.secret_key = guard.secret_key(files)
    app.config["FILES"] = files
    # Sites on other ports of the same host have cookies of their own.
    app.config["SESSION_COOKIE_NAME"] = f"{name}_session"
    database.connect(app, address)
    logs.keep(app)
    guard.protect(app)
    _answer_problems(app)
    again.keep_trying(app)
    assets.serve(app)
    shield.put_around(app)

    @app.get("/")
    def start_page() -> str:
        places.come_from("start_page")
        return render_template("look/start.html")

    return app


def _answer_problems(app: Flask) -> None:
    @app.before_request
    def check_database() -> ResponseReturnValue | None:
        command = None if request.endpoint == "static" else database.behind()
        if command is None:
            return None
        app.logger.error("The database does not match this code. Run: %s", command)
        return render_template("look/behind.html", command=command), 503

    @app.errorhandler(HTTPException)
    def refuse(error: HTTPException) -> ResponseReturnValue:
        code = error.code or 500
        if code < 400:
            return error
        heading = _WORDS.get(code, error.name)
        if error.description == guard.STALE:
            heading = "This form has grown too old"
        if isinstance(error, InBin):
            page = render_template("look/gone.html", row=error.row, typed=_typed())
            return page, code
        said = error.description if code in (400, 403) else ""
        if code == 403 and said == Forbidden.description:
            said = ""
        # What is too large is not read to be shown.
        page = _problem(heading, said or "", shown=code != 413)
        allowed = ", ".join(getattr(error, "valid_methods", None) or ())
        return page, code, {"Allow": allowed} if allowed else {}

    @app.errorhandler(database.Unreachable)
    def wait(error: database.Unreachable) -> ResponseReturnValue:
        app.logger.error(str(error))
        page = _problem("The database can't be reached", _BUSY)
        return page, 503, {"Retry-After": "5"}

    @app.errorhandler(DBAPIError)
    def fail(error: DBAPIError) -> ResponseReturnValue:
        database.close()
        app.logger.error("The database refused a query.", exc_info=error)
        if database.dialect().is_cancelled(error):
            return _problem(_WORDS[503], _SLOW), 503, {"Retry-After": "5"}
        if isinstance(error, DataError):
            # A value that no column takes: what asked for it is at fault.
            return _problem(_WORDS[400]), 400
        if again.is_passing(error):
            return _problem(_WORDS[503], _BUSY), 503, {"Retry-After": "5"}
        database.doubt()
        try:
            command = database.behind()
        except database.Unreachable as lost:
            return wait(lost)
        if command:
            return render_template("look/behind.html", command=command), 503
        return _problem(_WORDS[500]), 500

    @app.errorhandler(Exception)
    def break_off(error: Exception) -> ResponseReturnValue:
        if app.testing or app.debug or app.config["PROPAGATE_EXCEPTIONS"]:
            raise error
        database.close()
        app.logger.error("The site's own code failed.", exc_info=error)
        return _problem(_WORDS[500]), 500


def _problem(heading: str, said: str = "", *, shown: bool = True) -> str:
    typed = _typed() if shown else []
    return render_template("look/problem.html", heading=heading, said=said, typed=typed)


def _typed() -> list[tuple[str, str]]:
    """What a form sent that could not be taken: it is shown, so that nobody types it again."""
    try:
        sent = request.form.items(multi=True)
    except HTTPException:
        return []
    # A part without a name has None for one.
    typed = ((n, text) for n, text in sent if n and text and not n.startswith("_"))
    return list(islice(typed, _SHOWN_MOST))
