"""Style sheet and scripts: compressed once, and kept by browsers until they change."""

from __future__ import annotations

import gzip
from pathlib import Path

from flask import Flask, Response, request

_KEPT_SECONDS = 365 * 24 * 3600
_PACKED = (".css", ".js", ".svg", ".txt")


def serve(app: Flask) -> None:
    """Answers for the static files small; their addresses change when they do."""
    packed: dict[str, bytes] = {}

    @app.after_request
    def pack(response: Response) -> Response:
        if request.endpoint != "static" or response.status_code != 200:
            return response
        if "v" in request.args:
            response.headers["Cache-Control"] = (
                f"public, max-age={_KEPT_SECONDS}, immutable"
            )
        name = (request.view_args or {}).get("filename", "")
        response.headers["Vary"] = "Accept-Encoding"
        if not name.endswith(_PACKED) or not request.accept_encodings["gzip"]:
            return response
        if name not in packed:
            path = Path(str(app.static_folder)) / name
            packed[name] = gzip.compress(path.read_bytes(), 9, mtime=0)
        response.direct_passthrough = False
        response.set_data(packed[name])
        response.headers["Content-Encoding"] = "gzip"
        return response
