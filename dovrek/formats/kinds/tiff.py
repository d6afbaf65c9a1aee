"""TIFF: codes of 8 or 16 bits, or linear floats."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import tifffile
from numpy.typing import NDArray

from dovrek.core.colour.primaries import PRIMARIES
from dovrek.formats.bands import Band
from dovrek.formats.kinds.format import Contents, Format, developed, linear_pixels, white_of

STRIP = 64  # rows


def write(path: Path, contents: Contents) -> list[str]:
    """Developed codes, or scene light with its white in the description."""
    picture, developing = contents.picture, contents.developing
    linear = contents.bits == "float"

    def pixels(band: Band) -> NDArray[Any]:
        if linear:
            return linear_pixels(band.light, developing)
        return developed(band.light, developing, int(contents.bits), band.top)

    def strips() -> Iterator[NDArray[Any]]:
        held: list[NDArray[Any]] = []
        rows = 0
        for band in picture.bands():
            held.append(pixels(band))
            rows += len(held[-1])
            if rows >= STRIP:
                whole = np.concatenate(held)
                for y in range(0, rows - rows % STRIP, STRIP):
                    yield whole[y : y + STRIP]
                held, rows = [whole[rows - rows % STRIP :]], rows % STRIP
        if rows:
            yield np.concatenate(held)

    more: dict[str, Any] = {"compression": "zlib"}
    if linear:
        title = PRIMARIES[developing.primaries].title
        more = {"description": f"linear {title}; (1,1,1) is {white_of(developing):.6g} cd/m2"}
    if developing.transparent:
        more["extrasamples"] = ["assocalpha" if linear else "unassalpha"]
    planes = 4 if developing.transparent else 3
    kind = np.float32 if linear else np.uint16 if contents.bits == "16" else np.uint8
    tifffile.imwrite(path, strips(), photometric="rgb", rowsperstrip=STRIP, dtype=kind,
                     shape=(picture.height, picture.width, planes), **more)
    return []


FORMAT = Format("tiff", "TIFF", (".tif", ".tiff"), ("8", "16", "float"), ("float",), write,
                transparent=True)
