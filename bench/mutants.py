"""The demo broken in a hundred small ways, one at a time: how many its own tests notice.

python bench/mutants.py [COUNT] [SEED]
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

HERE = Path(__file__).parent


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        welbik = Path(sys.executable).with_name("welbik")
        subprocess.run([welbik, "demo", "demo", "--once"], cwd=folder, check=True)
        tests = HERE.parent / "tests"
        command = [sys.executable, "-m", "mutants.demo", f"{folder}/demo", *sys.argv[1:]]
        subprocess.run(command, cwd=tests, check=True)


if __name__ == "__main__":
    main()
