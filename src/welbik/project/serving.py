"""The generated application, imported and served on this machine."""

from __future__ import annotations

import errno
import importlib
import json
import os
import socket
import sys
import threading
import time
import traceback
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..problems import WelbikError
from .settings import Settings

_LOOK_SECONDS = 0.5
"""How often the files of the application are looked at, at most."""

if TYPE_CHECKING:
    from werkzeug.serving import BaseWSGIServer


def load_application(settings: Settings) -> Any:
    """The Flask application of a project."""
    if not (settings.root / settings.package / "__init__.py").is_file():
        raise WelbikError("the application is not built yet", "run: welbik build")
    if str(settings.root) not in sys.path:
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


class Fresh:
    """The application of a project, loaded anew once its files have changed.

    `tell` hears why new code could not be loaded; what was served before goes on then.
    """

    def __init__(self, settings: Settings, tell: Callable[[str], None]) -> None:
        self.settings, self.tell = settings, tell
        self.application = load_application(settings)
        self._seen = self._state()
        self._asked = time.monotonic()
        self._lock = threading.Lock()

    def __call__(self, environ: Any, start_response: Any) -> Any:
        with self._lock:
            if time.monotonic() - self._asked > _LOOK_SECONDS:
                self._look()
        return self.application(environ, start_response)

    def _look(self) -> None:
        self._asked = time.monotonic()
        state = self._state()
        if state == self._seen:
            return
        self._seen = state
        package = self.settings.package
        before = {n: m for n, m in sys.modules.items() if n.split(".")[0] == package}
        for name in before:
            del sys.modules[name]
        try:
            importlib.invalidate_caches()
            self.application = load_application(self.settings)
        except WelbikError as error:
            sys.modules.update(before)
            self.tell(f"{error.message}. What was there before is still served.")

    def _state(self) -> dict[str, int]:
        """When each file of the application was changed last."""
        found = {}
        for path in (self.settings.root / self.settings.package).rglob("*"):
            if path.parent.name != "__pycache__":
                with suppress(OSError):
                    found[str(path)] = path.stat().st_mtime_ns
        return found


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
        free = "choose another port: --port 8181"
        if isinstance(error, socket.gaierror) or getattr(error, "errno", 0) == errno.EADDRNOTAVAIL:
            free = (
                "--host names an address of this machine, such as 127.0.0.1; 0.0.0.0 is all of them"
            )
        raise WelbikError(f"can't serve on {host}:{port}: {reason}", free, status=2) from None
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
    from werkzeug.serving import WSGIRequestHandler, make_server

    class Handler(WSGIRequestHandler):
        """Writes a line for each request: for reading on a terminal, else as JSON."""

        # Who says nothing for so many seconds holds a thread no longer.
        timeout = 60

        def log(self, type: str, message: str, *args: Any) -> None:
            log_line(type, (message % args if args else message).strip(), self.address_string())

        def log_request(self, code: int | str = "-", size: int | str = "-") -> None:
            self.log("info", f"{self.command or '-'} {getattr(self, 'path', '-')} {int(code)}")

    host, port = listener.getsockname()[:2]
    return make_server(
        host,
        port,
        application,
        threaded=True,
        fd=listener.fileno(),
        request_handler=Handler,
    )


def log_line(level: str, message: str, address: str = "") -> None:
    """One line for the log: plain on a terminal, a JSON object elsewhere."""
    now = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S%z")
    if sys.stderr.isatty():
        # What a request holds stays on its line, and does nothing to the terminal.
        plain = "".join(c if c.isprintable() else ascii(c)[1:-1] for c in message)
        text = f"{now[11:19]} {plain}"
    else:
        line = {"time": now, "level": level, "message": message}
        text = json.dumps(line | ({"address": address} if address else {}))
    print(text, file=sys.stderr, flush=True)
