"""Who may change what, and what an answer may do: tokens, limits, hosts."""

from __future__ import annotations

import hmac
import os
import secrets
import tempfile
from contextlib import suppress
from pathlib import Path
from typing import Any

from flask import Flask, Response, abort, g, request, session
from flask.sessions import SecureCookieSessionInterface

from .. import settings

STALE = "This form has grown too old. Go back, load the page anew, send it again."
_BODY = 1024 * 1024
_FIELDS = 2_000
_TOKEN_BYTES = 24
_largest_upload = 0


def allow_body(uploads: int) -> None:
    """Makes room in a request for what a form's uploads may hold together, in bytes."""
    global _largest_upload
    _largest_upload = max(_largest_upload, uploads)


def secret_key(folder: Path) -> str:
    """The key that signs sessions: SECRET_KEY, or one made once and kept in a file."""
    given = os.environ.get("SECRET_KEY")
    if given:
        return given
    path = folder / "session.key"
    if not path.exists():
        # It holds what people sent, and the key: nobody else on this machine reads it.
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        # Written beside its place first: whoever comes second finds a whole key.
        handle, draft = tempfile.mkstemp(dir=folder)
        with os.fdopen(handle, "w") as file:
            file.write(secrets.token_urlsafe(48))
        with suppress(FileExistsError):
            os.link(draft, path)
        os.unlink(draft)
    return path.read_text("ascii")


def token() -> str:
    """The secret of this visitor, which every form carries."""
    if "token" not in session:
        session["token"] = secrets.token_urlsafe(_TOKEN_BYTES)
    return str(session["token"])


def is_stale() -> bool:
    """Whether this request sent a form without the visitor's secret: it is shown, never stored."""
    return bool(g.get("stale"))


class _Cookies(SecureCookieSessionInterface):
    _made: Any = None

    def get_signing_serializer(self, app: Flask) -> Any:
        # Made for each request otherwise, of the same key.
        self._made = self._made or super().get_signing_serializer(app)
        return self._made

    def get_cookie_secure(self, app: Flask) -> bool:
        return request.is_secure


def protect(app: Flask) -> None:
    """Refuses changes without the visitor's token, other hosts, and what is too large."""
    app.config.update(
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Lax",
        MAX_CONTENT_LENGTH=_BODY + _largest_upload,
        MAX_FORM_MEMORY_SIZE=_BODY,
        MAX_FORM_PARTS=_FIELDS,
    )
    app.session_interface = _Cookies()
    app.jinja_env.globals["token"] = token

    @app.before_request
    def check_size() -> None:
        # Reading a name costs as much as a long value: both are bounded.
        names = request.query_string.count(b"&")
        if request.mimetype == "application/x-www-form-urlencoded":
            # It has no uploads, so the room for those is none of its.
            request.max_content_length = _BODY
            body = request.get_data()
            if request.content_length is None and len(body) >= _BODY:
                # One whose length is not said is read to the bound, and goes on behind it.
                abort(413)
            names = max(names, body.count(b"&"))
        if names > _FIELDS:
            abort(413)

    @app.before_request
    def check_host() -> None:
        host = (
            request.host.rpartition(":")[0]
            if ":" in request.host.rpartition("]")[2]
            else request.host
        )
        if settings.HOSTS != ["*"] and host.lower() not in settings.HOSTS:
            app.logger.error(
                "The host %r is not one of this site's. Set SITE_HOSTS to the names it is "
                "reached by, with commas between them.",
                request.host[:100],
            )
            abort(400, "This site is not reached by that name.")

    @app.before_request
    def check_token() -> None:
        if request.method in ("GET", "HEAD", "OPTIONS") or request.routing_exception:
            return
        if "token" not in session and request.mimetype == "multipart/form-data":
            # Whoever has no secret yet can't send it: uploads are not even read.
            abort(403, STALE)
        sent = request.form.get("_token", "")
        if not hmac.compare_digest(sent.encode(), token().encode()):
            if str(request.endpoint).endswith(".edit_page"):
                # A form can be shown again as it was filled in, with the secret of today.
                g.stale = True
                return
            abort(403, STALE)

    @app.after_request
    def add_headers(response: Response) -> Response:
        if request.endpoint != "static":
            # Pages hold what people entered: nobody else keeps them.
            response.headers.setdefault("Cache-Control", "private, no-cache")
        return response
