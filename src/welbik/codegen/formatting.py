"""Generated Python laid out as the usual formatter does it."""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path

from ..problems import WelbikError


def formatted(files: Mapping[str, str]) -> dict[str, str]:
    """The files, all that is Python and not copied laid out anew in one run."""
    loose = {name: text for name, text in files.items() if _is_made(name, text)}
    if not loose:
        return dict(files)
    from ruff import find_ruff_bin  # type: ignore[import-untyped]

    with tempfile.TemporaryDirectory() as folder:
        places = {name: Path(folder) / f"{n}.py" for n, name in enumerate(loose)}
        for name, text in loose.items():
            places[name].write_text(text, "utf-8", newline="\n")
        done = subprocess.run(
            [find_ruff_bin(), "format", "--isolated", "--no-cache", "--quiet", folder],
            capture_output=True,
            text=True,
            check=False,
        )
        if done.returncode:
            raise WelbikError(f"the generated code could not be laid out: {done.stderr.strip()}")
        return {**files, **{name: place.read_text("utf-8") for name, place in places.items()}}


def _is_made(name: str, text: str) -> bool:
    # What is copied is laid out already, and most of what there is.
    return name.endswith(".py") and bool(text) and "/kit/" not in name
