"""How fast declarations are read and checked, beside Python's own parser on as much Python."""

from __future__ import annotations

import random
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

_SLICE = 5_000
_FIELDS = (
    "name text 2..80, required",
    "email email, required, unique",
    'code text 7..7, required, matches "[A-Z]{2}-[0-9]{4}", hint "Two letters, four digits"',
    "count integer 4..24, required, default 11",
    'weight decimal 0.1..60.0, unit "kg"',
    "share number 0..1, sample normal(0.5, 0.1)",
    "open boolean, default no",
    "begun date 2015-01-01..today, required",
    'ended date, >= begun, say "It ends after it begins"',
    "held datetime ..now",
    'kind one of national | top_bar "Top-bar" | long, default national',
    "notes text 4000",
)


def declared(models: int) -> str:
    """So many models of twelve fields, each with relations, a rule and a computed field."""
    blocks = []
    for number in range(models):
        lines = [f"    {field}\n" for field in _FIELDS]
        if number:
            lines.append(f"    parent -> Model{number * 7 // 11}, required\n")
            lines.append("    rule count <= parent.count\n")
        blocks.append(f'model Model{number} "Something to keep"\n' + "".join(lines))
    return "\n".join(blocks)


def _python(size: int) -> str:
    """Ordinary Python source of about so many characters."""
    line = "def keep_{n}(name: str, frames: int = 11) -> dict[str, object]:\n    return {{'name': name, 'frames': frames + {n}}}\n\n\n"
    count = size // len(line.format(n=100)) + 1
    return "".join(line.format(n=number) for number in range(count))


def checking(
    folder: Path, times: int, few: int, many: int, environment: dict[str, str], welbik: str
) -> dict[str, list[float]]:
    """`welbik check` on `few` models beside `ast.parse`, and on `many` beside `few`."""
    small, large = _project(folder / "small", few), _project(folder / "large", many)
    size = (small / "models/all.welbik").stat().st_size
    source = folder / "same_size.py"
    source.write_text(_python(size), "utf-8")
    parse = f"import ast, pathlib; ast.parse(pathlib.Path({str(source)!r}).read_text())"

    def run(*arguments: str, where: Path) -> Callable[[], object]:
        return lambda: subprocess.run(
            arguments, cwd=where, env=environment, check=True, stdout=subprocess.DEVNULL
        )

    check_small, check_large = run(welbik, "check", where=small), run(welbik, "check", where=large)
    python = run(sys.executable, "-c", parse, where=folder)
    found: dict[str, list[float]] = {"a": [], "b": []}
    for number in range(times + 1):
        one, two, three = (_seconds(work) for work in (check_small, python, check_large))
        if number:
            found["a"].append(one / two)
            found["b"].append(three / one)
    return {
        f"check {few} models / ast.parse of {size // 1000} kB": found["a"],
        f"check {many} models / check {few}": found["b"],
    }


def _seconds(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def _project(folder: Path, models: int) -> Path:
    (folder / "models").mkdir(parents=True)
    (folder / "welbik.toml").write_text('package = "many"\n', "utf-8")
    (folder / "models/all.welbik").write_text(declared(models), "utf-8")
    return folder


def fuzzed(count: int, seed: int = 1) -> int:
    """Damages real declarations so many times and reads each; returns how many had problems."""
    from welbik.kinds import kinds
    from welbik.language.diagnostics import Report, as_text
    from welbik.language.layout import tidy
    from welbik.language.parser import parse
    from welbik.language.source import Source
    from welbik.schema.resolve import resolve

    folder = Path(__file__).parent.parent / "tests" / "projects"
    texts = [path.read_text("utf-8") for path in sorted(folder.glob("*.welbik"))]
    blocks = [block for text in texts for block in text.split("\n\n")]
    words = tuple(kinds())
    draw = random.Random(seed)
    wrong = 0
    for _ in range(count):
        text = _damaged("\n\n".join(draw.sample(blocks, draw.randint(1, 3))), draw)
        report = Report()
        resolve([parse(Source("fuzz", text), report, words)], report)
        for problem in report.problems():
            assert as_text(problem) and problem.span.end <= len(text)
        tidy(text)
        wrong += bool(report.problems())
    return wrong


def fuzzed_on_all_cores(count: int) -> int:
    """The same in slices, one process a core; tells how far it is."""
    slices = [min(_SLICE, count - done) for done in range(0, count, _SLICE)]
    wrong = done = 0
    with ProcessPoolExecutor() as pool:
        for size, found in zip(slices, pool.map(fuzzed, slices, range(len(slices))), strict=True):
            wrong, done = wrong + found, done + size
            print(f"\r{done:,} of {count:,}", end="", file=sys.stderr, flush=True)
    print(file=sys.stderr)
    return wrong


def _damaged(text: str, draw: random.Random) -> str:
    """Some pieces cut, doubled, moved, or put in."""
    pieces = [
        "",
        "\n",
        '"',
        ",",
        " -> ",
        "..",
        "(",
        ")",
        "\t",
        "é",
        " = ",
        "rule ",
        " when ",
        "\x00",
        "|",
        "#",
        "9" * 30,
        "%",
    ]
    for _ in range(draw.randint(1, 4)):
        start = draw.randrange(len(text) + 1)
        end = min(len(text), start + draw.randint(0, 30))
        other = draw.randrange(len(text) + 1)
        piece = draw.choice(
            [*pieces, text[start:end] * 2, text[other : other + draw.randint(1, 40)]]
        )
        text = text[:start] + piece + text[end:]
    return text
