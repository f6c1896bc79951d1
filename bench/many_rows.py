"""What many made-up rows take: memory, workers, and a report on them."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from welbik.project import cluster
from welbik.project.declarations import schema_of
from welbik.project.filling import with_profile
from welbik.project.settings import read_settings
from welbik.rules.sql import quote
from welbik.storage.connect import connect
from welbik.storage.tables import tables_of

# The largest of the processes that a command was.
_MOST = """\
import resource, subprocess, sys
subprocess.run(sys.argv[1:], check=True, stdout=subprocess.DEVNULL)
print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)
"""


def many_rows(folder: Path, welbik: str, smoke: bool) -> dict[str, list[float]]:
    """The `load` profile of a project, or its usual counts, filled into SQLite."""
    profile = "" if smoke else "load"
    counts = schema_of(folder).profiles["load"] if profile else schema_of(folder).seed
    tenth = folder / "models/tenth.welbik"
    tenth.write_text("seed tenth\n" + "".join(f"    {c // 10} {n}\n" for n, c in counts.items()))
    try:
        with tempfile.TemporaryDirectory() as temporary:
            whole = f"sqlite:///{temporary}/whole.db"
            small = _memory_of_fill(folder, welbik, f"sqlite:///{temporary}/tenth.db", "tenth")
            large = _memory_of_fill(folder, welbik, whole, profile)
            found = {
                "memory of a fill: all / a tenth": [large / small],
                "memory of a fill / 250 MB": [large / 250_000],
                "report / reading each value once": [_report(folder, welbik, whole, profile)],
            }
            if not smoke:
                found["files: two workers / one"] = [_workers(folder, Path(temporary), profile)]
            return found
    finally:
        tenth.unlink()


def _memory_of_fill(folder: Path, welbik: str, address: str, profile: str) -> int:
    """The most kilobytes that one of its processes takes."""
    environment = {**os.environ, "DATABASE_URL": address}
    subprocess.run(
        [welbik, "migrate"], cwd=folder, env=environment, check=True, stdout=subprocess.DEVNULL
    )
    command = [welbik, "fill", "--profile", profile]
    told = subprocess.run(
        [sys.executable, "-c", _MOST, *command],
        cwd=folder,
        env=environment,
        check=True,
        capture_output=True,
    )
    return int(told.stdout)


def _report(folder: Path, welbik: str, address: str, profile: str) -> float:
    command = [welbik, "report", "--profile", profile, "--output", str(folder / "report.html")]
    took = _seconds(
        lambda: subprocess.run(
            command,
            cwd=folder,
            env={**os.environ, "DATABASE_URL": address},
            check=True,
            stdout=subprocess.DEVNULL,
        )
    )
    with connect(address, folder) as database:
        read = _seconds(
            lambda: [
                sum(1 for _ in database.each(f"SELECT * FROM {quote(t)}"))
                for t in tables_of(schema_of(folder))
            ]
        )
    return took / read


def _workers(folder: Path, temporary: Path, profile: str) -> float:
    from distributed import LocalCluster

    settings = read_settings(folder)
    schema = with_profile(schema_of(folder), profile)

    def made(workers: int) -> float:
        with LocalCluster(n_workers=workers, threads_per_worker=1, dashboard_address=None) as local:
            at = local.scheduler_address
            return _seconds(
                lambda: cluster.fill_cluster(
                    settings, schema, at, lambda *_: None, folder=temporary / str(workers)
                )
            )

    return made(1) / made(2)


def _seconds(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start
