"""Who holds a home: one server and one print engine at a time.

A lock of the system (flock) lies with a process and goes with it however that ends; what is
written in the file only says who it is.
"""

from __future__ import annotations

import fcntl
import os
from pathlib import Path
from typing import IO


class HomeHeld(Exception):
    """Another process holds the home; the text says which."""


class Hold:
    """A hold on a home as its `server` or its `engine`."""

    def __init__(self, home: Path, role: str, says: str) -> None:
        """Raises HomeHeld when another process has it, OSError when the file cannot be written."""
        self._file: IO[str] = (home / f"{role}.lock").open("a+", encoding="utf-8")
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            self._file.seek(0)
            holder = self._file.read(200).strip() or "another process"
            self._file.close()
            raise HomeHeld(f"{home} is held by {holder}") from None
        self._file.seek(0)
        self._file.truncate()
        self._file.write(f"process {os.getpid()}{', ' if says else ''}{says}\n")
        self._file.flush()

    def let_go(self) -> None:
        """End the hold; the end of the process does the same."""
        self._file.close()
