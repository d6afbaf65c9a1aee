"""PNG, developed by the film."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import png

from dovrek.formats.kinds.format import Contents, Format, developed


def write(path: Path, contents: Contents) -> list[str]:
    """Eight or sixteen bits, alpha if asked for."""
    bits = int(contents.bits)
    picture = contents.picture
    writer = png.Writer(picture.width, picture.height, greyscale=False,
                        alpha=contents.developing.transparent, bitdepth=bits, compression=6)

    def rows() -> Iterator[bytes]:
        for band in picture.bands():
            codes = developed(band.light, contents.developing, bits, band.top)
            for row in codes.astype(">u2" if bits == 16 else np.uint8):
                yield row.tobytes()

    with path.open("wb") as file:
        writer.write_packed(file, rows())
    return []


FORMAT = Format("png", "PNG", (".png",), ("8", "16"), (), write, transparent=True)
