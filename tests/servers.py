"""Databases for tests: private servers, each in a temporary folder, started once for a whole run."""

from __future__ import annotations

import fcntl
import os
import pwd
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, suppress
from pathlib import Path
from secrets import token_hex

import pytest

from welbik.rules.sql import quote
from welbik.storage.address import read_address, renamed
from welbik.storage.backend import Database
from welbik.storage.connect import backend, connect

WORDS = ("sqlite", "postgresql", "mariadb")
_SHARED = "WELBIK_TEST_SERVERS"
MEMORY = "WELBIK_TEST_MEMORY"
"""The setting with what a server may keep in memory of its tables, where tests need less than large ones do."""
_PROGRAMS = {
    "postgresql": ("initdb", "pg_ctl"),
    "mariadb": ("mariadb-install-db", "mariadbd", "mariadb-admin"),
}
# Nothing of what these keep need outlive the machine.
_UNSAFE = (
    *("--innodb-doublewrite=0", "--sync-binlog=0", "--innodb-flush-method=nosync"),
    *("--sync-frm=0", "--innodb-file-per-table=0"),
)
_MEMORY = Path("/dev/shm")
"""A folder in memory, on machines that have one."""
_ENOUGH = 4 << 30
"""So much of it must be free: the whole suite's servers and projects take about half."""
_ACCOUNTS = {"postgresql": "postgres", "mariadb": "mysql"}


def quick_folder() -> str:
    """Where files are made and gone soonest: nothing of a test's need reach a disk."""
    if _MEMORY.is_dir() and shutil.disk_usage(_MEMORY).free > _ENOUGH:
        return str(_MEMORY)
    return tempfile.gettempdir()


def begin(within: str | None = None) -> None:
    """Says where the servers of this run are, for all who run tests of it."""
    if _SHARED not in os.environ:
        folder = tempfile.mkdtemp(prefix="servers", dir=within)
        Path(folder).chmod(0o755)
        os.environ[_SHARED] = folder


@contextmanager
def started() -> Iterator[None]:
    """Servers for as long as this lasts."""
    begin()
    try:
        yield
    finally:
        end()


def end() -> None:
    """Stops the servers of this run."""
    folder = Path(os.environ.pop(_SHARED))
    for kept in folder.glob("*.pid"):
        with suppress(ProcessLookupError, ValueError):
            os.kill(int(kept.read_text().split()[0]), 3 if "postgresql" in kept.name else 9)
    shutil.rmtree(folder, ignore_errors=True)


def _program(name: str) -> str | None:
    found = shutil.which(name) or max(
        Path("/usr/lib/postgresql").glob(f"*/bin/{name}"), default=None
    )
    return str(found) if found else None


def server(word: str) -> str:
    """The address of a running server, without a database; skips where there is none here."""
    programs = [_program(name) for name in _PROGRAMS[word]]
    if None in programs:
        if os.environ.get("CI"):
            raise RuntimeError(f"{word} must be there where CI runs")
        pytest.skip(f"no {word} here")
    folder = Path(os.environ[_SHARED])
    told = folder / f"{word}.address"
    with (folder / f"{word}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not told.exists():
            start = _postgresql if word == "postgresql" else _mariadb
            told.write_text(start(folder / word, *map(str, programs), folder / f"{word}.pid"))
    return told.read_text()


def _prepared(folder: Path, word: str) -> dict[str, object]:
    """A folder for a server, and who runs it: neither does as root."""
    folder.mkdir()
    account = pwd.getpwnam(_ACCOUNTS[word]) if os.getuid() == 0 else None
    if account is None:
        return {}
    os.chown(folder, account.pw_uid, account.pw_gid)
    return {"user": account.pw_uid, "group": account.pw_gid, "extra_groups": []}


def _free_port() -> int:
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        return int(one.getsockname()[1])


@contextmanager
def secured(word: str) -> Iterator[tuple[str, Path]]:
    """A server of its own that nobody reaches without TLS: its address, and who signed for it."""
    programs = [_program(name) for name in _PROGRAMS[word]]
    if None in programs:
        pytest.skip(f"no {word} here")
    with tempfile.TemporaryDirectory(prefix="safe", ignore_cleanup_errors=True) as told:
        # Servers run as somebody else.
        folder = Path(told)
        folder.chmod(0o755)
        start = _postgresql if word == "postgresql" else _mariadb
        pid = folder / "pid"
        yield start(folder / word, *map(str, programs), pid, tls=True), folder / word / "ca.pem"
        os.kill(int(pid.read_text().split()[0]), 3 if word == "postgresql" else 9)


def _certify(folder: Path, who: dict[str, object]) -> tuple[str, str]:
    """A certificate for this machine, its key, and beside them that of who signed it (RFC 5280)."""
    ca, key, cert = folder / "ca.pem", folder / "server.key", folder / "server.pem"

    def openssl(*words: str) -> None:
        subprocess.run(["openssl", *words], check=True, capture_output=True, cwd=folder)

    new = ("req", "-newkey", "rsa:2048", "-nodes", "-days", "30")
    openssl(*new, "-x509", "-subj", "/CN=signer", "-keyout", "ca.key", "-out", str(ca))
    openssl(*new[:-2], "-subj", "/CN=server", "-keyout", str(key), "-out", "server.csr")
    (folder / "names").write_text("subjectAltName=IP:127.0.0.1\n")
    signed = ("x509", "-req", "-in", "server.csr", "-CA", str(ca), "-CAkey", "ca.key")
    openssl(*signed, "-CAcreateserial", "-days", "30", "-extfile", "names", "-out", str(cert))
    key.chmod(0o600)
    if who:
        os.chown(key, int(str(who["user"])), int(str(who["group"])))
    return str(cert), str(key)


def _postgresql(folder: Path, initdb: str, pg_ctl: str, pid: Path, *, tls: bool = False) -> str:
    who, data, port = _prepared(folder, "postgresql"), str(folder / "data"), _free_port()

    def run(*arguments: str) -> None:
        subprocess.run(arguments, check=True, capture_output=True, cwd=folder, **who)  # type: ignore[call-overload]

    more = ("-A", "trust", "-E", "UTF8", "--locale", "C.UTF-8", "-N")
    run(initdb, "-D", data, "-U", "test", *more)
    options = f"-k {folder} -c listen_addresses=127.0.0.1 -c port={port} -c fsync=off"
    if tls:
        cert, key = _certify(folder, who)
        options += f" -c ssl=on -c ssl_cert_file={cert} -c ssl_key_file={key}"
        (folder / "data" / "pg_hba.conf").write_text("hostssl all all 127.0.0.1/32 trust\n")
    run(pg_ctl, "-D", data, "-w", "-l", str(folder / "log"), "-o", options, "start")
    pid.write_text((folder / "data" / "postmaster.pid").read_text().splitlines()[0])
    return f"postgresql://test@127.0.0.1:{port}/"


def _mariadb(
    folder: Path, install: str, mariadbd: str, admin: str, pid: Path, *, tls: bool = False
) -> str:
    who, data, port = _prepared(folder, "mariadb"), folder / "data", _free_port()
    common = ["--no-defaults", f"--datadir={data}"]
    subprocess.run(
        [install, *common, "--auth-root-authentication-method=normal", "--skip-test-db"],
        check=True,
        capture_output=True,
        cwd=folder,
        **who,  # type: ignore[call-overload]
    )
    more = [f"--socket={folder}/s.sock", "--bind-address=127.0.0.1", f"--port={port}"]
    if tls:
        cert, key = _certify(folder, who)
        more += [f"--ssl-cert={cert}", f"--ssl-key={key}", "--require-secure-transport=ON"]
    memory = os.environ.get(MEMORY, "64M")
    more += ["--innodb-flush-log-at-trx-commit=0", f"--innodb-buffer-pool-size={memory}"]
    started = subprocess.Popen(
        [mariadbd, *common, *more, *_UNSAFE],
        stdout=subprocess.DEVNULL,
        stderr=(folder / "log").open("w") if not who else subprocess.DEVNULL,
        start_new_session=True,
        **who,  # type: ignore[call-overload]
    )
    pid.write_text(str(started.pid))
    here = ["-h", "127.0.0.1", "-P", str(port), "-u", "root", *(["--ssl"] if tls else [])]
    subprocess.run(
        [admin, "--no-defaults", "--wait=60", "--silent", *here, "ping"],
        check=True,
        capture_output=True,
    )
    return f"mariadb://root@127.0.0.1:{port}/"


@contextmanager
def database(word: str, folder: Path) -> Iterator[str]:
    """The address of a new database, removed at the end; a file in `folder` where there is no server."""
    if word == "sqlite":
        yield f"sqlite:///{folder / f'{token_hex(4)}.db'}"
        return
    address = renamed(server(word), f"welbik_{token_hex(6)}")
    found = backend(word)
    found.make(read_address(address))
    try:
        yield address
    finally:
        found.remove(read_address(address))


def remove(address: str) -> None:
    """Takes a database away, if it is there."""
    backend(read_address(address).scheme).remove(read_address(address))


@contextmanager
def opened(word: str, folder: Path) -> Iterator[Database]:
    """An open database, new and empty."""
    with database(word, folder) as address:
        found = connect(address, folder, create=True)
        try:
            yield found
        finally:
            found.close()


@contextmanager
def one_by_one(word: str, folder: Path) -> Iterator[Callable[[], AbstractContextManager[Database]]]:
    """What opens an empty database, and again an empty one: on a server that is sooner than a new one."""
    if word == "sqlite":
        yield lambda: opened(word, folder)
        return
    with database(word, folder) as address:
        yield lambda: _emptied(address, folder)


@contextmanager
def _emptied(address: str, folder: Path) -> Iterator[Database]:
    found = connect(address, folder)
    try:
        if found.word == "postgresql":
            found.run("DROP SCHEMA public CASCADE")
            found.run("CREATE SCHEMA public")
        else:
            found.run("SET foreign_key_checks = 0")
            for table in found.table_names():
                found.run(f"DROP TABLE {quote(table)}")
            found.run("SET foreign_key_checks = 1")
        yield found
    finally:
        found.close()
