"""What servers share, and what goes wrong on the way to one, each in words that help."""

from __future__ import annotations

import importlib
import socket
from abc import abstractmethod
from collections.abc import Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from typing import Any, ClassVar

from ..problems import WelbikError
from .address import Address
from .backend import Database
from .packing import Packed

_SECONDS = 5
_GREETING_SECONDS = 3
_SILENCE_SECONDS = 0.3


class Server(Database):
    """A connection to a server, which loads rows while the next ones are made up here."""

    by_lines: ClassVar[bool] = True

    def __init__(self, connection: Any, where: str) -> None:
        self.connection, self.where, self.tables = connection, where, {}
        self._loading: Future[None] | None = None
        self._aside: ThreadPoolExecutor | None = None

    @abstractmethod
    def _ask(self, statement: str, values: Sequence[object]) -> list[tuple[Any, ...]]: ...

    @abstractmethod
    def _load(self, packed: Packed) -> None: ...

    def run(self, statement: str, values: Sequence[object] = ()) -> list[tuple[Any, ...]]:
        self.loaded()
        return self._ask(statement, values)

    def store(self, packed: Packed) -> None:
        self.loaded()
        self._loading = self.aside.submit(self._load, packed)

    @property
    def aside(self) -> ThreadPoolExecutor:
        if self._aside is None:
            self._aside = ThreadPoolExecutor(1, "welbik-load")
        return self._aside

    def loaded(self) -> None:
        """Waits for the rows that are on their way; raises what is wrong with them."""
        loading, self._loading = self._loading, None
        if loading is not None:
            loading.result()

    def _before_commit(self) -> None:
        self.loaded()

    def _roll_back(self) -> None:
        with suppress(Exception):
            self.loaded()
        super()._roll_back()

    def close(self) -> None:
        if self._aside is not None:
            self._aside.shutdown()
        with suppress(*self.errors):
            self.connection.close()


class NoServer(WelbikError):
    """A database on a server that can't be opened."""

    def __init__(self, address: Address, reason: str, remedy: str) -> None:
        super().__init__(f"the database {address.shown} can't be opened: {reason}", remedy)

    @classmethod
    def lacking(cls, address: Address) -> NoServer:
        found = cls(
            address,
            f"the server has no database {address.name!r}",
            f"make it: CREATE DATABASE {address.name}, or correct the name",
        )
        found.no_database = True
        return found

    @classmethod
    def refused(cls, address: Address, said: str) -> NoServer:
        who = repr(address.user) if address.user else "nobody by name"
        return cls(
            address,
            f"the server does not let {who} in: {said}",
            "correct the user and the password; in a password write @ as %40, / as %2F, : as %3A",
        )

    @classmethod
    def untrusted(cls, address: Address, said: str, option: str) -> NoServer:
        return cls(
            address,
            f"its certificate is not trusted: {said}",
            f"name the file of who signed it in the address: ?{option}=FILE, "
            "and the server as the certificate does",
        )

    @classmethod
    def not_allowed(cls, address: Address, said: str, grant: str) -> NoServer:
        return cls(
            address,
            f"{address.user!r} lacks a privilege: {' '.join(said.split())}",
            f"let the server's keeper give it: {grant}",
        )


def driver(module: str, word: str, requirement: str) -> Any:
    """The driver of a database; raises WelbikError with what to install where it is missing."""
    try:
        return importlib.import_module(module)
    except ImportError:
        raise WelbikError(
            f"{word} databases need a driver that is not installed",
            f'install it: pip install "{requirement}"',
        ) from None


def reach(host: str, port: int, address: Address, *, greets: bool = False) -> None:
    """Raises NoServer where nothing answers at a host and port, or another kind of server.

    `greets` says whether the right kind speaks first.
    """
    try:
        with socket.create_connection((host, port), _SECONDS) as connection:
            connection.settimeout(_GREETING_SECONDS if greets else _SILENCE_SECONDS)
            _check_greeting(connection, host, port, address, greets)
    except socket.gaierror:
        raise NoServer(
            address, f"no machine is called {host!r}", "correct the host in the address"
        ) from None
    except TimeoutError:
        raise NoServer(
            address,
            f"{host} does not answer at port {port}",
            "correct the host, or open the port in its firewall",
        ) from None
    except OSError:
        raise NoServer(
            address,
            f"no server listens at {host}, port {port}",
            "start the server, or correct the host and the port",
        ) from None


def _check_greeting(
    connection: socket.socket, host: str, port: int, address: Address, greets: bool
) -> None:
    try:
        greeted = bool(connection.recv(1))
    except TimeoutError:
        greeted = False
    if greeted != greets:
        raise NoServer(
            address,
            f"what listens at {host}, port {port} is no {address.scheme} server",
            "correct the port, or what the address begins with",
        )
