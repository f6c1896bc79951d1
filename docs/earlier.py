"""Writes down what the files that all projects share have been: make earlier, before a release.

A project that lost its record of what was generated is still brought up to date by that: a file of
`kit/` or `look/` that is what some version wrote was not edited.
"""

from __future__ import annotations

import subprocess
from hashlib import sha256
from pathlib import Path

ROOT = Path(__file__).parent.parent
FOLDER = Path("src/welbik/blueprint")


def _git(*words: str) -> bytes:
    return subprocess.run(["git", *words], cwd=ROOT, capture_output=True, check=True).stdout


def main() -> None:
    found: dict[str, set[str]] = {}
    log = _git(
        "log", "--format=", "--raw", "--no-abbrev", "--no-renames", "--", str(FOLDER)
    ).decode()
    for line in log.splitlines():
        told, name = line.split("\t")
        blob = told.split()[3]
        path = Path(name).relative_to(FOLDER).as_posix()
        if path.startswith(("kit/", "look/")) and blob.strip("0"):
            digest = sha256(_git("cat-file", "blob", blob)).hexdigest()[:16]
            found.setdefault(path, set()).add(digest)
    says = "# What each shared file has been, by digest: made by `make earlier`.\n"
    lines = [f"{path} {' '.join(sorted(digests))}\n" for path, digests in sorted(found.items())]
    (ROOT / FOLDER / "earlier.txt").write_text(says + "".join(lines), "utf-8")


if __name__ == "__main__":
    main()
