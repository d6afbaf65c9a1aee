"""Results of stages that outlast their process: small ones that take long and come again."""

from __future__ import annotations

import os
import pickle
import threading
from collections.abc import Collection
from contextlib import suppress
from pathlib import Path
from typing import Any

BYTES_KEPT, FILES_KEPT = 64 * 2**20, 500  # of one stage
PUTS_BETWEEN = 50  # two looks at how much there is


class Shelf:
    """A folder of results, a file each, for one state of the sources: a key says all of a result's
    inputs, and nothing of the code that made it. What cannot be read is not there; what cannot be
    written is made anew by the next process."""

    def __init__(self, folder: Path, names: Collection[str]) -> None:
        self.folder, self.names = folder, names  # of the stages
        self._puts: dict[str, int] = {}

    def _path(self, place: tuple[str, str]) -> Path:
        return self.folder / f"{place[0].replace(' ', '-')}.{place[1]}"

    def __contains__(self, place: tuple[str, str]) -> bool:
        return place[0] in self.names and self._path(place).exists()

    def find(self, place: tuple[str, str]) -> tuple[bool, Any]:
        """Whether a result is there, and the result."""
        if place not in self:
            return False, None
        path = self._path(place)
        try:
            value = pickle.loads(path.read_bytes())
            os.utime(path)
        except Exception:  # a torn file may raise anything
            with suppress(OSError):
                path.unlink()
            return False, None
        return True, value

    def put(self, place: tuple[str, str], value: Any) -> None:
        """Keep a result, whole or not at all."""
        path = self._path(place)
        part = path.with_name(f".{path.name}.{os.getpid()}.{threading.get_ident()}")
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            part.write_bytes(pickle.dumps(value, protocol=pickle.HIGHEST_PROTOCOL))
            part.replace(path)
            count = self._puts.get(place[0], 0)
            self._puts[place[0]] = count + 1
            if count % PUTS_BETWEEN == 0:
                self._make_room(place[0])
        except OSError:  # a folder that cannot be written, or is full
            with suppress(OSError):
                part.unlink(missing_ok=True)

    def _make_room(self, name: str) -> None:
        """Drop what of a stage was not asked for longest."""
        left = BYTES_KEPT
        known = [(path, path.stat()) for path in self.folder.glob(f"{name.replace(' ', '-')}.*")]
        for number, (path, told) in enumerate(sorted(known, key=lambda k: -k[1].st_mtime)):
            left -= told.st_size
            if left < 0 or number >= FILES_KEPT:
                path.unlink(missing_ok=True)
