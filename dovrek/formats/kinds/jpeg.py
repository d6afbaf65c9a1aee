"""JPEG, developed by the film."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image

from dovrek.formats.kinds.format import Contents, Format, developed


def write(path: Path, contents: Contents) -> list[str]:
    """Eight bits, colour as fine as brightness."""
    rows = [developed(band.light, contents.developing, 8, band.top)
            for band in contents.picture.bands()]
    Image.fromarray(np.concatenate(rows)).save(path, "JPEG", quality=95, subsampling=0)
    return []


FORMAT = Format("jpeg", "JPEG", (".jpg", ".jpeg"), ("8",), (), write)
