"""Write a file whole or not at all."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path


@contextlib.contextmanager
def whole_file(path: Path, mode: int = 0o644) -> Iterator[Path]:
    """A temporary path beside `path`, renamed onto it when the block ends well; what is on disk
    then survives a power cut under its name.

    Raises OSError (disk full, no permission) with nothing left behind.
    """
    handle, name = tempfile.mkstemp(prefix=".part-", suffix=path.suffix, dir=path.parent)
    os.close(handle)
    part = Path(name)
    try:
        yield part
        with part.open("rb+") as file:
            os.fsync(file.fileno())
        part.chmod(mode)
        os.replace(part, path)
        sync_folder(path.parent)
    finally:
        part.unlink(missing_ok=True)


def sync_folder(folder: Path) -> None:
    """Have a folder's own entries written: a renamed file is lost with them in a power cut
    (fsync(2))."""
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
