"""OpenEXR: linear halves or floats, passes beside the beauty."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import OpenEXR

from dovrek.core.colour.primaries import PRIMARIES
from dovrek.core.transport.sample import ALPHA
from dovrek.formats.film_passes import pass_channels
from dovrek.formats.kinds.format import Contents, Format, linear_rgb

HALF_LARGEST = 65504.0


def write(path: Path, contents: Contents) -> list[str]:
    """The beauty and whatever passes there are; notes name what a half could not hold."""
    light, developing, bits = contents.light, contents.developing, contents.bits
    passes, layer_ids = contents.passes, contents.layer_ids
    rgb, white = linear_rgb(light, developing)
    notes = []
    if developing.transparent:
        rgb = np.concatenate([rgb, light[..., ALPHA : ALPHA + 1]], axis=2)
    if bits == "half":
        clamped = int(np.count_nonzero(np.abs(rgb) > HALF_LARGEST))
        if clamped:
            notes.append(f"{clamped} values above 65,504 were clamped (the sun's disc exceeds "
                         "half floats); its true illuminance stands in this file")
        rgb = np.clip(rgb, -HALF_LARGEST, HALF_LARGEST).astype(np.float16)
    header = {
        "compression": OpenEXR.ZIP_COMPRESSION,
        "type": OpenEXR.scanlineimage,
        "whiteLuminance": float(white),
        "chromaticities": PRIMARIES[developing.primaries].chromaticities,
    }
    channels = {"RGBA" if rgb.shape[2] == 4 else "RGB": np.ascontiguousarray(rgb)}
    if passes is not None:
        for name, values in pass_channels(passes, layer_ids, white).items():
            if bits == "half" and name != "depth.Z":  # kilometres exceed a half
                values = np.clip(values, -HALF_LARGEST, HALF_LARGEST).astype(np.float16)
            channels[name] = values
    with OpenEXR.File(header, channels) as file:
        file.write(str(path))
    return notes


FORMAT = Format("exr", "OpenEXR", (".exr",), ("half", "float"), ("half", "float"), write,
                transparent=True, passes=True)
