"""TIFF: codes of 8 or 16 bits, or linear floats."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import tifffile

from dovrek.core.colour.primaries import PRIMARIES
from dovrek.core.transport.sample import ALPHA
from dovrek.formats.kinds.format import Contents, Format, developed, linear_rgb


def write(path: Path, contents: Contents) -> list[str]:
    """Developed codes, or scene light with its white in the description."""
    light, developing = contents.light, contents.developing
    if contents.bits == "float":
        rgb, white = linear_rgb(light, developing)
        if developing.transparent:
            rgb = np.concatenate([rgb, light[..., ALPHA : ALPHA + 1]], axis=2)
        title = PRIMARIES[developing.primaries].title
        note = f"linear {title}; (1,1,1) is {white:.6g} cd/m2"
        extra = ["assocalpha"] if developing.transparent else None
        tifffile.imwrite(path, rgb, photometric="rgb", description=note, extrasamples=extra)
        return []
    extra = ["unassalpha"] if developing.transparent else None
    tifffile.imwrite(path, developed(light, developing, int(contents.bits)), photometric="rgb",
                     compression="zlib", extrasamples=extra)
    return []


FORMAT = Format("tiff", "TIFF", (".tif", ".tiff"), ("8", "16", "float"), ("float",), write,
                transparent=True)
