"""PNG, developed by the film."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import png

from dovrek.formats.kinds.format import Contents, Format, developed


def write(path: Path, contents: Contents) -> list[str]:
    """Eight or sixteen bits, alpha if asked for."""
    bits = int(contents.bits)
    picture = developed(contents.light, contents.developing, bits)
    height, width, planes = picture.shape
    writer = png.Writer(width, height, greyscale=False, alpha=planes == 4, bitdepth=bits,
                        compression=6)
    rows = picture.astype(">u2" if bits == 16 else np.uint8).reshape(height, width * planes)
    with path.open("wb") as file:
        writer.write_packed(file, (row.tobytes() for row in rows))
    return []


FORMAT = Format("png", "PNG", (".png",), ("8", "16"), (), write, transparent=True)
