"""Commands run in copies of a process that has imported what they need.

Half of a short command's time goes to imports, and the suite runs thousands of them. A copy (fork) is as
fresh as a new process in all but what was imported; tests of imports and of the surroundings start a real one.
"""

from __future__ import annotations

import gc
import importlib
import json
import os
import pkgutil
import runpy
import signal
import socket
import subprocess
import sys
import tempfile
import time
from contextlib import suppress
from pathlib import Path
from typing import Any

# Read when Python or a library starts: a copy can't heed them.
_EARLY = ("PYTHON", "LC_", "LANG", "HOME", "TZ", "OPENBLAS", "OMP")


class Warm:
    """The process that is copied, and one command at a time in a copy of it."""

    def __init__(self) -> None:
        ours, theirs = socket.socketpair()
        self.socket = ours
        self.early = _early(dict(os.environ))
        self.process = subprocess.Popen(
            [sys.executable, __file__, str(theirs.fileno())],
            pass_fds=[theirs.fileno()],
            stdin=subprocess.DEVNULL,
            env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
        )
        theirs.close()

    def serves(self, environment: dict[str, str]) -> bool:
        return _early(environment) == self.early

    def run(
        self, words: list[str], cwd: Any, environment: dict[str, str], typed: str
    ) -> subprocess.CompletedProcess[str]:
        """Runs `welbik …` or `python …`, as `subprocess.run` would with its output captured."""
        with (
            tempfile.TemporaryFile() as read,
            tempfile.TemporaryFile() as out,
            tempfile.TemporaryFile() as err,
        ):
            read.write(typed.encode())
            read.seek(0)
            asked = json.dumps([words, str(cwd), environment]).encode()
            files = [read.fileno(), out.fileno(), err.fileno()]
            socket.send_fds(self.socket, [len(asked).to_bytes(4, "big")], files)
            self.socket.sendall(asked)
            told = self.socket.recv(4)
            assert told, "the process that is copied has died"
            texts = []
            for file in (out, err):
                file.seek(0)
                texts.append(file.read().decode().replace("\r\n", "\n"))
        code = int.from_bytes(told, "big", signed=True)
        return subprocess.CompletedProcess(words, code, *texts)

    def end(self) -> None:
        self.socket.close()
        self.process.wait()


def _early(environment: dict[str, str]) -> dict[str, str]:
    return {k: v for k, v in environment.items() if k.startswith(_EARLY)}


def _import_all() -> None:
    import welbik

    for module in pkgutil.walk_packages(welbik.__path__, "welbik."):
        # What is copied into applications is theirs, and what a driver is missing for is told later.
        if module.name.split(".")[1] not in ("kit", "__main__"):
            with suppress(ImportError):
                importlib.import_module(module.name)
    for name in (
        "flask",
        "flask.testing",
        "sqlalchemy.orm",
        "scipy.special",
        "PIL.Image",
        "pytest",
        "psycopg",
        "pymysql",
    ):
        with suppress(ImportError):
            importlib.import_module(name)


def _serve(ours: socket.socket) -> None:
    _import_all()
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)
    while True:
        length, files, _, _ = socket.recv_fds(ours, 4, 3)
        if not length:
            return
        asked = b""
        size = int.from_bytes(length, "big")
        while len(asked) < size:
            asked += ours.recv(size - len(asked))
        child = os.fork()
        if not child:
            ours.close()
            _become(*json.loads(asked), files)
        for file in files:
            os.close(file)
        _, status = os.waitpid(child, 0)
        ours.sendall(os.waitstatus_to_exitcode(status).to_bytes(4, "big", signed=True))


def _become(words: list[str], cwd: str, environment: dict[str, str], files: list[int]) -> None:
    """In the copy: all that a new process would have, and the command."""
    for number, file in enumerate(files):
        os.dup2(file, number)
        os.close(file)
    sys.stdin, sys.stdout = os.fdopen(0, closefd=False), os.fdopen(1, "w", closefd=False)
    sys.stderr = os.fdopen(2, "w", buffering=1, errors="backslashreplace", closefd=False)
    os.environ.clear()
    os.environ.update(environment)
    time.tzset()
    os.chdir(cwd)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    if words[0].endswith("welbik"):
        sys.argv = words
        sys.path[0] = str(Path(words[0]).parent)
        from welbik.cli.main import main

        sys.exit(main())
    sys.argv = words[1:]
    if words[1] == "-m":
        sys.argv = words[2:]
        sys.path[0] = cwd
        runpy.run_module(words[2], run_name="__main__", alter_sys=True)
    elif words[1] == "-c":
        sys.path[0] = ""
        exec(compile(words[2], "<string>", "exec"), {"__name__": "__main__"})
    else:
        sys.path[0] = str(Path(words[1]).resolve().parent)
        runpy.run_path(words[1], run_name="__main__")
    sys.exit(0)


if __name__ == "__main__":
    _serve(socket.socket(fileno=int(sys.argv[1])))
