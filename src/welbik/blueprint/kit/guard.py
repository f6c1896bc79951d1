"""Who may change what: session key, tokens on every change, headers on every answer."""

from __future__ import annotations

import hmac
import os
import secrets
import tempfile
from contextlib import suppress
from pathlib import Path

from flask import Flask, Response, abort, request, session


def secret_key(folder: Path) -> str:
    """The key that signs sessions: SECRET_KEY, or one made once and kept in a file."""
    given = os.environ.get("SECRET_KEY")
    if given:
        return given
    path = folder / "session.key"
    if not path.exists():
        folder.mkdir(parents=True, exist_ok=True)
        # Written beside its place first: whoever comes second finds a whole key.
        handle, draft = tempfile.mkstemp(dir=folder)
        with os.fdopen(handle, "w") as file:
            file.write(secrets.token_urlsafe(48))
        with suppress(FileExistsError):
            os.link(draft, path)
        os.unlink(draft)
    return path.read_text("ascii")


def token() -> str:
    """The secret that every form of this visitor carries."""
    if "token" not in session:
        session["token"] = secrets.token_urlsafe(24)
    return str(session["token"])


def protect(app: Flask) -> None:
    """Refuses changes without the visitor's token, and limits what pages may load."""
    app.config.update(
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Lax",
        MAX_CONTENT_LENGTH=16 * 1024 * 1024,
    )
    app.jinja_env.globals["token"] = token

    @app.before_request
    def check_token() -> None:
        if request.method in ("GET", "HEAD", "OPTIONS") or request.routing_exception:
            return
        sent = request.form.get("_token", "")
        if not hmac.compare_digest(sent.encode(), token().encode()):
            abort(
                403,
                "This form has grown too old. Go back, load the page anew, send it again.",
            )

    @app.after_request
    def add_headers(response: Response) -> Response:
        headers = response.headers
        headers.setdefault(
            "Content-Security-Policy",
            "default-src 'self'; base-uri 'none'; object-src 'none'; "
            "form-action 'self'; frame-ancestors 'none'",
        )
        headers.setdefault("X-Content-Type-Options", "nosniff")
        headers.setdefault("Referrer-Policy", "same-origin")
        return response
