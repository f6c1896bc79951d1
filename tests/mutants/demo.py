"""The demo broken in small ways: python -m mutants.demo FOLDER [COUNT] [SEED] [GROUP …], from tests/."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from pathlib import Path

from .trial import Mutant, harmless, mutants, outcomes, sample

# How many of a hundred are of what.
SHARES = {"models": 14, "forms": 12, "rules": 8, "controllers": 20, "templates": 18, "kit": 28}
HARMLESS = Path(__file__).with_name("harmless.json")
# What the kit is made of beyond what pages do: not broken here, but by our own tests.
_OWN = ("shield.py", "logs.py", "assets.py", "images.py", "formats.py", "sweeping.py", "again.py")


def groups(root: Path) -> dict[str, list[Mutant]]:
    """All breakages of a project's code, by what they are of."""
    package = root / "beekeepers"
    models = sorted(p.parent for p in package.glob("*/model.py"))
    files: dict[str, list[Path]] = {
        "models": [m / "model.py" for m in models],
        "forms": [m / "form.py" for m in models],
        "rules": sorted(package.glob("*/rules.py")),
        "controllers": [m / "controller.py" for m in models],
        "templates": sorted(package.glob("*/pages/*.html")),
        "kit": [p for p in sorted(package.glob("kit/*.py")) if p.name not in _OWN],
    }
    is_harmless = harmless(HARMLESS)
    found = {
        name: mutants(root, [str(p.relative_to(root)) for p in paths])
        for name, paths in files.items()
    }
    return {n: [m for m in some if not is_harmless(m)] for n, some in found.items()}


def order(mutant: Mutant, root: Path) -> Sequence[str]:
    """The tests of the model come first: they are the ones to notice."""
    own = f"tests/test_{mutant.path.split('/')[1]}.py"
    return [own, "tests"] if (root / own).exists() else ["tests"]


def main() -> None:
    root = Path(sys.argv[1]).resolve()
    count = int(sys.argv[2]) if len(sys.argv) > 2 else 100
    seed = int(sys.argv[3]) if len(sys.argv) > 3 else 1
    wanted = sys.argv[4:] or list(SHARES)
    counts = {name: max(1, count * SHARES[name] // 100) for name in wanted}
    tried = sample(groups(root), counts, seed)
    alive = 0
    for number, (mutant, caught) in enumerate(
        outcomes(root, tried, lambda one: order(one, root)), 1
    ):
        alive += not caught
        print(f"{number} {'caught' if caught else 'ALIVE '} {mutant}", flush=True)
    print(f"{len(tried) - alive} of {len(tried)} caught")


if __name__ == "__main__":
    main()
