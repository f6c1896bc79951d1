"""How fast it is, as ratios within one run, since machines are noisy: make bench.

Each pair is run in turn, A B A B …; the median of the ratios is printed beside its goal.
With --smoke everything runs once on little, to see that it runs at all.
"""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from changing import differing, growing, rebuilding
from language import checking, fuzzed_on_all_cores
from loading import filling
from long_table import long_table
from many_rows import many_rows
from page import memory_of, page_rates
from view_page import view_rates

from welbik.data.drawer import Drawer
from welbik.data.fill import fill
from welbik.project.declarations import schema_of
from welbik.project.testing import make_database
from welbik.storage.connect import connect

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
import servers

BIN = Path(sys.executable).parent
WELBIK = str(BIN / "welbik")
# Installed programs have their bytecode; a checkout must not lose time over it.
ENVIRONMENT = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}


def seconds(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def command(*arguments: str, folder: Path | None = None) -> Callable[[], object]:
    return lambda: subprocess.run(
        arguments, cwd=folder, env=ENVIRONMENT, check=True, stdout=subprocess.DEVNULL
    )


def paired(first: Callable[[], object], second: Callable[[], object], times: int) -> list[float]:
    """The ratio first/second for each pair of runs, after a pair that does not count."""
    first(), second()
    return [seconds(first) / seconds(second) for _ in range(times)]


def demo(folder: Path) -> Path:
    """The example project, built and migrated."""
    from welbik.project.demo import make_demo

    make_demo(folder)
    for name in ("build", "migrate"):
        command(WELBIK, name, folder=folder)()
    return folder


def start_up(folder: Path, times: int) -> dict[str, list[float]]:
    click = command(sys.executable, "-c", "import click")
    return {
        "welbik --version / import click": paired(command(WELBIK, "--version"), click, times),
        "welbik check / import click": paired(
            command(WELBIK, "check", folder=folder), click, times
        ),
    }


def building(times: int, sizes: tuple[int, int, int]) -> dict[str, list[float]]:
    """Seconds a model, in a project of many models to one of few."""
    from welbik.codegen.files import application_files
    from welbik.kinds import kinds
    from welbik.language.diagnostics import Report
    from welbik.language.parser import parse
    from welbik.language.source import Source
    from welbik.project.building import carry_out
    from welbik.project.planning import plan
    from welbik.project.record import read_record
    from welbik.project.settings import Settings
    from welbik.schema.resolve import resolve

    fields = "".join(
        f"    field_{n} {kind}\n"
        for n, kind in enumerate(["text 80, required", "integer 1..9", "date", "email"] * 3)
    )

    def build(count: int) -> float:
        text = "".join(
            f"model Model{n}\n{fields}" + (f"    parent -> Model{n - 1}, required\n" if n else "")
            for n in range(count)
        )
        with tempfile.TemporaryDirectory() as folder:
            root = Path(folder)
            start = time.perf_counter()
            report = Report()
            schema = resolve([parse(Source("m", text), report, tuple(kinds()))], report)
            files = application_files(schema, Settings(root).for_build())
            carry_out(root, plan(root, files, read_record(root)))
            return (time.perf_counter() - start) / count

    build(sizes[0])
    ratios = building_again(times, fields, sizes[2])
    for size in sizes[1:]:
        few, many = [], []
        for _ in range(times):
            few.append(build(sizes[0]))
            many.append(build(size))
        ratios[f"build: a model of {size} / a model of {sizes[0]}"] = [
            b / a for a, b in zip(few, many, strict=True)
        ]
    return ratios


def building_again(times: int, fields: str, count: int) -> dict[str, list[float]]:
    """What a build takes that has nothing or one field to do, beside the first."""
    text = "".join(f"model Model{n}\n{fields}" for n in range(count))
    found: dict[str, list[float]] = {}
    for _ in range(times):
        with tempfile.TemporaryDirectory() as folder:
            root = Path(folder)
            (root / "models").mkdir()
            (root / "welbik.toml").write_text('title = "Many"\n')
            (root / "models/many.welbik").write_text(text)
            build = command(WELBIK, "build", folder=root)
            first, again = seconds(build), seconds(build)
            (root / "models/many.welbik").write_text(text.replace("text 80", "text 90", 1))
            taken_by = {"nothing changed": again, "a field changed": seconds(build)}
            for name, taken in taken_by.items():
                found.setdefault(f"build: {name} / all of {count}", []).append(taken / first)
    return found


def on_databases(folder: Path, temporary: Path, smoke: bool) -> dict[str, list[float]]:
    """Filling, pages and long tables on each database."""
    schema = schema_of(folder)
    counts = {n: c // 10 for n, c in schema.profiles["load"].items()}
    counts = dict(schema.seed) if smoke else counts
    results: dict[str, list[float]] = {}
    for word in servers.WORDS:
        for _ in range(1 if smoke else 5):
            with servers.database(word, temporary) as one, servers.database(word, temporary) as two:
                for name, ratios in filling(folder, word, (one, two), counts).items():
                    results.setdefault(name, []).extend(ratios)
        with servers.database(word, temporary) as one, servers.database(word, temporary) as two:
            for address in (one, two):
                make_database(folder, address)
                with connect(address, folder, loads=True) as database:
                    fill(database, Drawer(schema, 1), schema.seed)
            sizes = (2, 5) if smoke else (15, 100)
            results |= page_rates(folder, word, one, *sizes)
            results |= view_rates(folder, word, one, *sizes)
            if smoke and word != "sqlite":
                continue
            many = 3_000 if smoke else 1_000_000
            with servers.database(word, temporary) as address:
                results |= growing(word, address, temporary, many, 1 if smoke else 7)
            if word == "sqlite":
                with servers.database(word, temporary) as address:
                    results |= rebuilding(address, temporary, many, 1 if smoke else 7)
            rows = 2_000 if smoke else 1_000_000
            results |= long_table(folder, word, (one, two), rows, 1 if smoke else 9)
    return results


GOALS = {
    "welbik --version": "at most 1.5",
    "welbik check": "at most 2.5",
    "build: nothing changed": "at most 0.1",
    "build: a field changed": "at most 0.2",
    "build": "about 1: linear",
    "fill / driver alone": "at least 1.0",
    "fill": "at least 0.8",
    "list page / by hand with SQLAlchemy, sqlite": "at least 1.4",
    "list page / by hand with SQLAlchemy": "at least 1.2",
    "list page / by hand with sqlite3": "at least 0.6",
    "view page / by hand with SQLAlchemy, sqlite": "at least 1.4",
    "view page / by hand with SQLAlchemy": "at least 1.2",
    "a new column": "at most 0.3: nothing is written anew",
    "table made anew": "at least 0.7",
    "the difference": "at most 1",
    "memory of a fill": "at most 1: it does not grow with the rows",
    "memory": "at most 1.2",
    "report": "",
    "files: two workers": "at least 1.5",
    "1,000,000 rows": "at most 1.5",
    "2,000 rows": "",
    "check 2000": "at most 11",
    "check": "at most 12",
}


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--smoke", action="store_true")
    parser.add_argument("--fuzz", type=int, metavar="N", help="Read so many damaged files instead.")
    arguments = parser.parse_args()
    smoke = arguments.smoke
    if arguments.fuzz:
        wrong = fuzzed_on_all_cores(arguments.fuzz)
        print(f"{arguments.fuzz:,} damaged files read, {wrong:,} with problems, none broke it")
        return
    # Long tables are asked of servers that have the memory for them, as docs/databases.md says.
    os.environ.setdefault(servers.MEMORY, "64M" if smoke else "512M")
    with servers.started(), tempfile.TemporaryDirectory() as temporary:
        folder = demo(Path(temporary) / "demo")
        results = start_up(folder, 1 if smoke else 15)
        results |= building(1 if smoke else 3, (2, 4, 6) if smoke else (10, 50, 200))
        sizes = (20, 40) if smoke else (200, 2_000)
        results |= checking(Path(temporary), 1 if smoke else 7, *sizes, ENVIRONMENT, WELBIK)
        command(WELBIK, "fill", folder=folder)()
        results |= differing(*((20, 1) if smoke else (500, 7)))
        results |= memory_of(folder, 1 if smoke else 5)
        results |= many_rows(folder, WELBIK, smoke)
        results |= on_databases(folder, Path(temporary), smoke)
    print(f"{'ratio':<54} {'median':>7} {'least':>7} {'most':>7}   goal")
    for name, ratios in results.items():
        goal = next(text for start, text in GOALS.items() if name.startswith(start))
        print(
            f"{name:<54} {statistics.median(ratios):>7.2f} {min(ratios):>7.2f} {max(ratios):>7.2f}   {goal}"
        )


if __name__ == "__main__":
    main()
