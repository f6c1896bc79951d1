"""The generated application, imported and served on this machine."""

from __future__ import annotations

import importlib
import os
import socket
import sys
import traceback
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..problems import WelbikError
from .settings import Settings

if TYPE_CHECKING:
    from werkzeug.serving import BaseWSGIServer


def load_application(settings: Settings) -> Any:
    """The Flask application of a project."""
    if not (settings.root / settings.package / "__init__.py").is_file():
        raise WelbikError("the application is not built yet", "run: welbik build")
    sys.path.insert(0, str(settings.root))
    try:
        return importlib.import_module(settings.package).create_app(settings.address)
    except Exception as error:
        # The developer's own code: where it failed is what helps, not our way there.
        frames = traceback.extract_tb(error.__traceback__)
        own = [f for f in frames if Path(f.filename).is_relative_to(settings.root)]
        if isinstance(error, SyntaxError):
            place = f"{error.filename}:{error.lineno}"
        else:
            place = f"{own[-1].filename}:{own[-1].lineno}" if own else settings.package
        raise WelbikError(
            f"the application can't start: {place}: {type(error).__name__}: {error}",
            "mend that place, or see `welbik status`",
        ) from error


def bind(host: str, port: int) -> socket.socket:
    """A listening socket; raises WelbikError where the port is taken or not allowed."""
    listener = socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((host, port))
        listener.listen()
    except (OSError, OverflowError) as error:
        listener.close()
        reason = getattr(error, "strerror", None) or str(error)
        raise WelbikError(
            f"can't serve on {host}:{port}: {reason}", "choose another port: --port 8181", status=2
        ) from None
    return listener


def answer_to_any_name(host: str) -> bool:
    """Lets the application answer under other names than this machine's own; whether it does so.

    Only where it listens to other machines and SITE_HOSTS does not say which names it has.
    """
    if host in ("127.0.0.1", "localhost", "::1") or os.environ.get("SITE_HOSTS"):
        return False
    os.environ["SITE_HOSTS"] = "*"
    return True


def server(application: Any, listener: socket.socket) -> BaseWSGIServer:
    """A server for a bound socket; call serve_forever on it."""
    from werkzeug.serving import make_server

    host, port = listener.getsockname()[:2]
    return make_server(host, port, application, threaded=True, fd=listener.fileno())
