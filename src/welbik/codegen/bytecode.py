"""Templates as Python compiled them, kept from one build to the next: that takes half of a small one."""

from __future__ import annotations

from contextlib import suppress

from jinja2 import FileSystemBytecodeCache
from jinja2.bccache import Bucket


class _Kept(FileSystemBytecodeCache):
    """A folder of this user's own among the temporary ones; without room there it does nothing."""

    def dump_bytecode(self, bucket: Bucket) -> None:
        with suppress(OSError):
            super().dump_bytecode(bucket)

    def load_bytecode(self, bucket: Bucket) -> None:
        with suppress(OSError):
            super().load_bytecode(bucket)


def kept_bytecode() -> FileSystemBytecodeCache | None:
    """Where compiled templates are kept; None where no safe folder can be had."""
    try:
        return _Kept()
    except (OSError, RuntimeError):
        return None
