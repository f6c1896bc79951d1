"""Made-up rows by many workers: a Dask scheduler hands shares of every table out.

Each worker stores its share itself, or writes its own file. A share is stored whole or not at all, and
one that is there is not stored again: so the share of a worker that dies is given to another.
"""

from __future__ import annotations

import datetime as dt
import pickle
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from ..data.export import export_table
from ..data.fill import Tell
from ..data.making import Making
from ..data.memory import Memory
from ..data.parts import Part, Tables, refuse_circles, store_range
from ..data.uploads import write_uploads
from ..problems import WelbikError
from ..schema.model import Model, Schema
from ..storage.connect import connect, known
from ..storage.tables import tables_of
from .database import ready_database
from .filling import making_for
from .production import refuse_made_up_rows
from .settings import Settings

_SHARE = 100_000
"""Rows in one share: enough that handing it out takes no time, few enough to make again."""
_DEATHS = 10
"""So many workers may die of one share before it is given up."""


def fill_cluster(
    settings: Settings,
    schema: Schema,
    scheduler: str,
    tell: Tell,
    *,
    folder: Path | None = None,
    form: str = "csv",
    day: dt.date | None = None,
) -> dict[str, int]:
    """Makes all rows on the workers of a scheduler; `local` starts one here, with a worker for each core.

    Stores them in the project's database, or writes them to `folder`, which all workers see.
    Returns how many rows of each table were made.
    """
    if folder is None:
        refuse_made_up_rows(settings)
    making = making_for(settings, schema, day)
    database, address = known(settings.address, settings.address_inside)
    if folder is None:
        if database.in_a_file:
            raise WelbikError(
                f"{address.shown} is a file, and takes rows of one process at a time",
                "write files instead: --to FOLDER; or give a server in DATABASE_URL",
                status=2,
            )
        refuse_circles(schema)
        with ready_database(settings, schema) as opened:
            Memory(opened).prepare()
        write_uploads(schema, set(schema.models), settings.files / "files")
    else:
        folder = folder.resolve()
        folder.mkdir(parents=True, exist_ok=True)
        write_uploads(schema, set(schema.models), folder / "files")
    where: tuple[Any, ...] = (settings.address, settings.address_inside, str(settings.root))
    if folder is not None:
        where = (settings.address, settings.address_inside, str(folder), form)
    with _client(scheduler) as client:
        return _run(client, making, where, tell)


@contextmanager
def _client(scheduler: str) -> Iterator[Any]:
    try:
        import dask
        from distributed import Client, LocalCluster
    except ImportError:
        raise WelbikError(
            "clusters need a library that is not installed",
            'install it: pip install "welbik[cluster]"',
        ) from None
    # A worker is told dead by its silence, and what it did goes to another.
    with dask.config.set({"distributed.scheduler.allowed-failures": _DEATHS}):
        if scheduler == "local":
            with (
                LocalCluster(
                    processes=True, threads_per_worker=1, dashboard_address=None, silence_logs=50
                ) as cluster,
                Client(cluster) as client,
            ):
                yield client
            return
        try:
            client = Client(scheduler, timeout="5s")
        except (OSError, ValueError) as error:
            raise WelbikError(
                f"no scheduler answers at {scheduler}: {error}",
                "start one (dask scheduler), or let one be started here: --cluster local",
            ) from None
        with client:
            yield client


def _run(client: Any, making: Making, where: tuple[Any, ...], tell: Tell) -> dict[str, int]:
    """Table after table, so that what rows lead to is there before they are."""
    import distributed

    tables = Tables(making)
    # With each share anew, as it is small: what a worker keeps for the others dies with it.
    given = pickle.dumps(making)
    made: dict[str, int] = {}
    for number, of in enumerate(tables.each()):
        rows = tables.rows(of)
        parts = max(1, -(-rows // _SHARE))
        into_files = len(where) == 3
        own = isinstance(of, Model) and any(r.target == of.name for r in of.references)
        shares = [Part(at, parts) for at in range(1, parts + 1)]
        # Rows that lead to others of their table wait for those.
        groups = [[share] for share in shares] if own and not into_files else [shares]
        for group in groups:
            left = group
            for _ in range(_DEATHS):
                asked = {
                    client.submit(_make, given, where, number, share, pure=False): share
                    for share in left
                }
                left = []
                for future in distributed.as_completed(asked):
                    count = _result(future)
                    if count is None:
                        left.append(asked[future])
                        continue
                    first, last = asked[future].range(rows)
                    made[of.table] = made.get(of.table, 0) + count
                    tell(of.table, last - first)
                if not left:
                    break
            else:
                raise WelbikError(
                    f"workers that make {of.table} die again and again",
                    "see what they say; what is stored stays, and the same command goes on",
                )
    return {table: count for table, count in made.items() if count}


def _result(future: Any) -> int | None:
    """How many rows a worker made; None where it died, or what it told was lost with it."""
    from concurrent.futures import CancelledError

    from distributed.scheduler import KilledWorker

    try:
        return int(future.result())
    except WelbikError:
        raise
    except (CancelledError, KilledWorker):
        return None
    except Exception as error:
        raise WelbikError(
            f"a share could not be made: {type(error).__name__}: {error}",
            "see that workers have the same Welbik and reach the database; what is stored stays, and "
            "the same command goes on",
        ) from error


_tables: dict[bytes, Tables] = {}


def _make(given: bytes, where: tuple[Any, ...], number: int, part: Part) -> int:
    """On a worker: one share of one table."""
    if given not in _tables:
        _tables.clear()
        _tables[given] = Tables(pickle.loads(given))
    tables = _tables[given]
    making = tables.maker.making
    of = list(tables.each())[number]
    first, last = part.range(tables.rows(of))
    address, inside, folder, *form = where
    if form:
        ddl, to = known(address, inside)[0].ddl, Path(folder)
        return export_table(tables, of, number + 1, to, form[0], part, ddl, lambda *_: None)
    with connect(address, Path(folder), inside=inside, loads=True) as database:
        database.prepare(tables_of(making.schema), making.timezone)
        return store_range(database, tables, of, first, last)
