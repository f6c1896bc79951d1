"""170 tables of 2,000 columns that others made: adopted beside the bare queries of the catalogue.

Run: python -m bench.adopting [ADDRESS of an empty database]; a SQLite file unless said. The ratio is
what reading, declaring and checking takes to the catalogue queries alone: at most 10.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path
from time import perf_counter

from welbik.adoption.adopt import Wish, adopt, heal
from welbik.project import adopting
from welbik.project.building import build
from welbik.project.declarations import read_declarations
from welbik.project.settings import read_settings
from welbik.storage.connect import connect

TABLES, COLUMNS = 170, 12
_TYPES = (
    *(
        "varchar(80) NOT NULL",
        "integer DEFAULT 0 NOT NULL",
        "numeric(10,2)",
        "date",
        "timestamp NULL",
    ),
    *("text", "smallint", "varchar(20) DEFAULT '' NOT NULL", "double precision", "char(2)"),
)


def statements() -> list[str]:
    found = []
    for number in range(TABLES):
        columns = ["id integer NOT NULL PRIMARY KEY"]
        columns += [f"field_{n} {_TYPES[(number + n) % len(_TYPES)]}" for n in range(COLUMNS - 2)]
        columns.append("parent_id integer")
        if number:
            other = (number * 7) % number
            columns.append(f"FOREIGN KEY (parent_id) REFERENCES part_{other} (id)")
        found.append(f"CREATE TABLE part_{number} ({', '.join(columns)})")
    return found


def main() -> None:
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary)
        address = sys.argv[1] if len(sys.argv) > 1 else f"sqlite:///{folder}/parts.db"
        with connect(address, folder, create=True) as database:
            for statement in statements():
                database.run(statement)
            bare = min(_timed(database.catalog) for _ in range(5))
            begin = perf_counter()
            found = adopt(database, Wish())
            heal(found, lambda text: read_declarations(folder, {"models/a.welbik": text}).problems)
            whole = perf_counter() - begin
        print(f"catalogue {bare:.3f} s, adopted {whole:.3f} s: {whole / bare:.1f} (at most 10)")
        planned = adopting.plan(address, folder / "site", Wish())
        adopting.write(planned, package="site_of_parts")
        begin = perf_counter()
        build(read_settings(folder / "site"))
        print(f"built in {perf_counter() - begin:.1f} s (at most 30)")


def _timed(work: object) -> float:
    begin = perf_counter()
    work()  # type: ignore[operator]
    return perf_counter() - begin


if __name__ == "__main__":
    main()
