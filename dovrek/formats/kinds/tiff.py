"""TIFF: codes of 8 or 16 bits, or linear floats."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import tifffile

from dovrek.core.colour.primaries import PRIMARIES
from dovrek.formats.kinds.format import Contents, Format, developed, linear_pixels, white_of


def write(path: Path, contents: Contents) -> list[str]:
    """Developed codes, or scene light with its white in the description."""
    picture, developing = contents.picture, contents.developing
    linear = contents.bits == "float"
    planes = 4 if developing.transparent else 3
    kind = np.float32 if linear else np.uint16 if contents.bits == "16" else np.uint8
    pixels = np.empty((picture.height, picture.width, planes), dtype=kind)
    for band in picture.bands():
        rows = linear_pixels(band.light, developing) if linear else developed(
            band.light, developing, int(contents.bits), band.top)
        pixels[band.top : band.top + len(rows)] = rows
    more: dict[str, Any] = {"compression": "zlib"}
    if linear:
        title = PRIMARIES[developing.primaries].title
        more = {"description": f"linear {title}; (1,1,1) is {white_of(developing):.6g} cd/m2"}
    if developing.transparent:
        more["extrasamples"] = ["assocalpha" if linear else "unassalpha"]
    tifffile.imwrite(path, pixels, photometric="rgb", **more)
    return []


FORMAT = Format("tiff", "TIFF", (".tif", ".tiff"), ("8", "16", "float"), ("float",), write,
                transparent=True)
