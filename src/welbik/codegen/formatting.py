"""Long lines of generated Python broken as the usual formatter breaks them."""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path

from ..language.diagnostics import width
from ..problems import WelbikError
from .python import WIDTH


def formatted(files: Mapping[str, str]) -> dict[str, str]:
    """The files, those with lines that are too long laid out anew; all in one run."""
    long = {name: text for name, text in files.items() if _is_long(name, text)}
    if not long:
        return dict(files)
    from ruff import find_ruff_bin  # type: ignore[import-untyped]

    with tempfile.TemporaryDirectory() as folder:
        places = {name: Path(folder) / f"{n}.py" for n, name in enumerate(long)}
        for name, text in long.items():
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


def _is_long(name: str, text: str) -> bool:
    return name.endswith(".py") and any(
        len(line) > WIDTH or width(line) > WIDTH for line in text.splitlines()
    )
