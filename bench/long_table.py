"""Pages of a list in a long table against the same pages in a short one."""

from __future__ import annotations

import datetime as dt
import html
import re
import time
from pathlib import Path
from typing import Any

from page import ours

from welbik.project.declarations import schema_of
from welbik.storage.backend import Database
from welbik.storage.connect import connect
from welbik.storage.tables import tables_of

_SHORT = 1_000
PAGES = {
    "the first": "",
    "far behind": "?_sort=-held",
    "by a number, downwards": "?_sort=-brood",
    "by a related row": "?_sort=keeper",
    "far behind by a related row": "?_sort=keeper",
    "with the filters open": "?_filter=open",
    "of a choice": "?temper=nervous",
    "of a wide range": "?mites=2..4",
    "of a narrow range": "?mites=39..",
    "of two filters": "?temper=nervous&mites=2..4",
}


def _lengthen(database: Database, rows: int) -> None:
    """A thousand inspections of the demo, and others made of them up to so many."""
    database.run("DELETE FROM inspection_findings")
    database.run(f"DELETE FROM inspection WHERE id > {_SHORT}")
    names = [column.name for column in database.tables["inspection"].columns]
    columns = {name: database.values("inspection", name) for name in names}
    held = [dt.datetime.fromisoformat(moment) for moment in columns["held"]]
    with database.transaction():
        for n in range(1, rows // _SHORT):
            moved = [
                moment - dt.timedelta(minutes=(at * 7919 + n * 104_729) % 1_500_000)
                for at, moment in enumerate(held)
            ]
            columns["held"] = [f"{m:%Y-%m-%d %H:%M:%S}.000000" for m in moved]
            columns["mites"] = [m if m is None else m + 0.00001 for m in columns["mites"]]
            ids = range(n * _SHORT + 1, (n + 1) * _SHORT + 1)
            database.insert("inspection", ["id", *names], [ids, *columns.values()])
    database.learn(sorted(database.table_names()))


def _behind(client: Any, query: str, pages: int) -> str:
    for _ in range(pages):
        found = re.search(r'rel="next" href="([^"]+)"', client.get(f"/inspections{query}").text)
        assert found
        query = html.unescape(found[1])
    return query


def long_table(
    folder: Path, word: str, addresses: tuple[str, str], rows: int, times: int
) -> dict[str, list[float]]:
    """How much longer each page takes in a table of so many rows than in one of a thousand.

    `addresses` are of two databases that hold the demo.
    """
    clock = time.process_time if word == "sqlite" else time.perf_counter
    schema = schema_of(folder)
    clients = []
    for address, count in zip(addresses, (_SHORT, rows), strict=True):
        with connect(address, folder) as database:
            database.prepare(tables_of(schema), "UTC")
            _lengthen(database, count)
        clients.append(ours(folder, address).test_client())
    ratios: dict[str, list[float]] = {}
    for told, query in PAGES.items():
        found = [_behind(c, query, 20) if told.startswith("far behind") else query for c in clients]
        for client, one in zip(clients, found, strict=True):
            client.get(f"/inspections{one}")
        name = f"{rows:,} rows / {_SHORT:,}, {word}: a page {told}"
        ratios[name] = []
        for _ in range(times):
            took = []
            for client, one in zip(clients, found, strict=True):
                start = clock()
                for _ in range(5):
                    client.get(f"/inspections{one}")
                took.append(clock() - start)
            ratios[name].append(took[1] / took[0])
    return ratios
