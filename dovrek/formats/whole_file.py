"""Write a file whole or not at all."""

from __future__ import annotations

import contextlib
import os
import tempfile
from collections.abc import Iterator
from pathlib import Path


@contextlib.contextmanager
def whole_file(path: Path) -> Iterator[Path]:
    """A temporary path beside `path`, renamed onto it when the block ends well.

    Raises OSError (disk full, no permission) with nothing left behind.
    """
    handle, name = tempfile.mkstemp(prefix=".part-", suffix=path.suffix, dir=path.parent)
    os.close(handle)
    part = Path(name)
    try:
        yield part
        with part.open("rb+") as file:
            os.fsync(file.fileno())
        part.chmod(0o644)
        os.replace(part, path)
    finally:
        part.unlink(missing_ok=True)
