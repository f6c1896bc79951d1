"""The served site, and a visitor without a browser."""

from __future__ import annotations

import html
import os
import re
import subprocess
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from http.cookiejar import CookieJar
from urllib.error import HTTPError
from urllib.parse import urlencode
from urllib.request import HTTPCookieProcessor, HTTPRedirectHandler, Request, build_opener

from conftest import WELBIK, Project


@dataclass(frozen=True)
class Answer:
    status: int
    text: str
    headers: Mapping[str, str]


class _Stay(HTTPRedirectHandler):
    def redirect_request(self, *arguments: object) -> None:
        return None


class Visitor:
    """Asks for pages, fills in forms, keeps cookies, follows no redirect by itself."""

    def __init__(self, address: str) -> None:
        self.address = address
        self.opener = build_opener(HTTPCookieProcessor(CookieJar()), _Stay())

    def ask(
        self, path: str, data: Mapping[str, str] | None = None, method: str | None = None
    ) -> Answer:
        body = None if data is None else urlencode(data).encode()
        request = Request(self.address + path, body, method=method)
        try:
            with self.opener.open(request, timeout=20) as response:
                return Answer(response.status, response.read().decode(), dict(response.headers))
        except HTTPError as error:
            return Answer(error.code, error.read().decode(), dict(error.headers))

    def send(self, path: str, data: Mapping[str, str]) -> Answer:
        """Opens a form, then sends it with its hidden fields and what is given."""
        page = self.ask(path).text
        hidden = dict(re.findall(r'type="hidden" name="(\w+)" value="([^"]*)"', page))
        return self.ask(path, {n: html.unescape(v) for n, v in hidden.items()} | dict(data))


@contextmanager
def served(project: Project, **environment: str) -> Iterator[str]:
    """Serves a project on a free port; gives the address."""
    process = subprocess.Popen(
        [WELBIK, "serve", "--port", "0"], cwd=project.root, text=True,
        stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, env={**os.environ, "PYTHONUNBUFFERED": "1", **environment},
    )  # fmt: skip
    try:
        assert process.stdout
        found = re.search(r"http://[\d.:]+", process.stdout.readline())
        assert found, "the site did not start"
        yield found.group()
    finally:
        process.terminate()
        process.wait(timeout=20)
