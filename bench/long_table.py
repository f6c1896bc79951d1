"""Pages of a list in a long table against the same pages in a short one."""

from __future__ import annotations

import html
import re
import shutil
import sqlite3
import time
from pathlib import Path
from typing import Any

from page import _ours

_SHORT = 1_000
_ROWS = """
WITH RECURSIVE s(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < {times})
INSERT INTO inspection (hive_id, held, keeper_id, brood, mites, temper, notes, created_at, updated_at)
SELECT hive_id,
  strftime('%Y-%m-%d %H:%M:%S.000000', held, '-' || ((i.id * 7919 + n * 104729) % 1500000) || ' minutes'),
  keeper_id, brood, mites + n * 0.00001, temper, notes, created_at, updated_at
FROM inspection i CROSS JOIN s
"""
PAGES = {
    "the first": "",
    "far behind": "?_sort=-held",
    "by a number, downwards": "?_sort=-brood",
    "by a related row": "?_sort=keeper",
    "with the filters open": "?_filter=open",
    "of a choice": "?temper=nervous",
    "of a wide range": "?mites=2..4",
    "of a narrow range": "?mites=39..",
    "of two filters": "?temper=nervous&mites=2..4",
}


def _copy(database: Path, path: Path, rows: int) -> None:
    """The demo's database with so many inspections, all else the same."""
    shutil.copy(database, path)
    connection = sqlite3.connect(path)
    connection.execute("DELETE FROM inspection_findings")
    connection.execute("DELETE FROM inspection WHERE id > ?", [_SHORT])
    if rows > _SHORT:
        connection.execute(_ROWS.format(times=rows // _SHORT - 1))
    connection.execute("PRAGMA analysis_limit = 1000")
    connection.execute("ANALYZE")
    connection.commit()
    connection.close()


def _behind(client: Any, query: str, pages: int) -> str:
    for _ in range(pages):
        found = re.search(r'rel="next" href="([^"]+)"', client.get(f"/inspections{query}").text)
        assert found
        query = html.unescape(found[1])
    return query


def long_table(folder: Path, temporary: Path, rows: int, times: int) -> dict[str, list[float]]:
    """How much longer each page takes in a table of so many rows than in one of a thousand."""
    clients = []
    for name, count in (("short.db", _SHORT), ("long.db", rows)):
        _copy(folder / "beekeepers.db", temporary / name, count)
        site = _ours(folder, temporary / name)
        clients.append(site.test_client())
    ratios: dict[str, list[float]] = {}
    for told, query in PAGES.items():
        found = [_behind(c, query, 20) if told == "far behind" else query for c in clients]
        for client, one in zip(clients, found, strict=True):
            client.get(f"/inspections{one}")
        name = f"{rows:,} rows / {_SHORT:,}: a page {told}"
        ratios[name] = []
        for _ in range(times):
            took = []
            for client, one in zip(clients, found, strict=True):
                start = time.process_time()
                for _ in range(5):
                    client.get(f"/inspections{one}")
                took.append(time.process_time() - start)
            ratios[name].append(took[1] / took[0])
    return ratios
