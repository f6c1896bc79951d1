"""The tool's own rooms broken in small ways: python -m mutants.core [COUNT] [SEED] [ROOM …], from tests/."""

from __future__ import annotations

import sys
from pathlib import Path

from .trial import harmless, mutants, outcomes, sample, unbroken

ROOT = Path(__file__).parent.parent.parent
HARMLESS = Path(__file__).with_name("harmless_core.json")
_QUICK = ("schema", "durations", "problems", "language", "tidy", "patterns", "extending")
# Which tests notice a breakage of a room soonest; what gets past all of them is alive.
TESTS = {
    "rules": ("rules", *_QUICK, "queries", "obey", "changes"),
    "schema": (*_QUICK, "forms", "rules", "shares", "build", "lists", "rows", "held"),
    "data": (
        "durations",
        "rows",
        "shares",
        "words",
        "obey",
        "fill",
        "made_up",
        "factories",
        "report",
    ),
    "migrations": ("migrate", "upgrades", "status", "kept", "changes"),
    "storage": (
        "schema",
        "migrate",
        "rules",
        "fill",
        "status",
        "rows",
        "tables",
        "peek",
        "alike",
        "changes",
        "made_up",
    ),
    "codegen": (
        "build",
        "durations",
        "tables",
        "queries",
        "lists",
        "application",
        "forms",
        "names",
        "site",
        "generated",
        "adopting",
    ),
}


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 60
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    rooms = sys.argv[3:] or list(TESTS)
    is_harmless = harmless(HARMLESS)
    found = {
        room: [
            mutant
            for mutant in mutants(
                ROOT,
                [
                    str(p.relative_to(ROOT))
                    for p in sorted((ROOT / "src/welbik" / room).glob("*.py"))
                ],
            )
            if not is_harmless(mutant)
        ]
        for room in rooms
    }
    tried = sample(found, dict.fromkeys(rooms, max(1, count // len(rooms))), seed)
    # Without a breakage all tests pass, or what they notice says nothing.
    whole = [unbroken(ROOT, found[room][0].path) for room in rooms]
    alive = 0
    for number, (mutant, caught) in enumerate(
        outcomes(
            ROOT,
            [*whole, *tried],
            lambda one: [f"tests/test_{name}.py" for name in TESTS[one.path.split("/")[2]]],
            source="src",
        ),
        1,
    ):
        if number <= len(whole):
            if caught:
                sys.exit(f"the tests of {mutant.path} fail without a breakage")
            continue
        alive += not caught
        print(f"{number - len(whole)} {'caught' if caught else 'ALIVE '} {mutant}", flush=True)
    print(f"{len(tried) - alive} of {len(tried)} caught")


if __name__ == "__main__":
    main()
