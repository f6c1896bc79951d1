"""Database servers for tests, each in a temporary folder of its own."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

_SOCKET = ".s.PGSQL.5432"


def _program(name: str) -> str | None:
    found = shutil.which(name) or max(
        Path("/usr/lib/postgresql").glob(f"*/bin/{name}"), default=None
    )
    return str(found) if found else None


@contextmanager
def postgresql() -> Iterator[Callable[[], Any]]:
    """A server that listens on a socket in its folder; gives what connects to it."""
    initdb, postgres = _program("initdb"), _program("pg_ctl")
    if initdb is None or postgres is None:
        if os.environ.get("CI"):
            raise RuntimeError("PostgreSQL must be there where CI runs")
        pytest.skip("no PostgreSQL here")
    import psycopg

    # The server refuses to run as root.
    account = pwd.getpwnam("postgres") if os.getuid() == 0 else None
    folder = Path(tempfile.mkdtemp(prefix="pg", dir="/tmp"))
    if account:
        os.chown(folder, account.pw_uid, account.pw_gid)

    def run(*arguments: str) -> None:
        user = {"user": account.pw_uid, "group": account.pw_gid} if account else {}
        subprocess.run(arguments, check=True, capture_output=True, cwd=folder, **user)  # type: ignore[call-overload]

    data = str(folder / "data")
    try:
        run(
            initdb,
            "-D",
            data,
            "-U",
            "test",
            "-A",
            "trust",
            "-E",
            "UTF8",
            "--locale",
            "C.UTF-8",
            "-N",
        )
        options = f"-k {folder} -c listen_addresses='' -c fsync=off"
        run(postgres, "-D", data, "-w", "-l", str(folder / "log"), "-o", options, "start")
        yield lambda: psycopg.connect(f"host={folder} user=test dbname=postgres", autocommit=True)
        run(postgres, "-D", data, "-m", "immediate", "stop")
    finally:
        shutil.rmtree(folder, ignore_errors=True)
