"""Files as one zip archive that is streamed: neither it nor a file is ever whole in memory."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

CHUNK = 1 << 20


class _Stream(io.RawIOBase):
    """What is written, to be taken away piece by piece."""

    def __init__(self) -> None:
        self._held: list[bytes] = []

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        self._held.append(bytes(data))
        return len(data)

    def take(self) -> bytes:
        taken, self._held = b"".join(self._held), []
        return taken


def zipped(files: Sequence[Path]) -> Iterator[bytes]:
    """The archive's bytes; files are stored as they are, most being packed already."""
    stream = _Stream()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as archive:
        for path in files:
            with path.open("rb") as file, archive.open(
                    zipfile.ZipInfo.from_file(path, path.name), "w", force_zip64=True) as member:
                while piece := file.read(CHUNK):
                    member.write(piece)
                    yield stream.take()
    yield stream.take()
