"""OpenEXR: linear halves or floats, passes beside the beauty."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
from numpy.typing import NDArray

from dovrek.core.colour.primaries import PRIMARIES
from dovrek.formats.film_passes import pass_channels
from dovrek.formats.kinds.format import Contents, Format, linear_pixels, white_of
from dovrek.formats.whole_file import whole_file

HALF_LARGEST = 65504.0


def write(path: Path, contents: Contents) -> list[str]:
    """The beauty and whatever passes there are; notes name what a half could not hold."""
    channels, clamped = gathered(contents)
    save(path, contents, channels)
    return [f"{clamped} values above 65,504 were clamped (the sun's disc exceeds half floats); "
            "its true illuminance stands in this file"] if clamped else []


def gathered(contents: Contents) -> tuple[dict[str, NDArray[Any]], int]:
    """Channels by name in the file's own depth, which alone lies whole in memory, and how many
    values a half could not hold."""
    picture, developing, half = contents.picture, contents.developing, contents.bits == "half"
    white, beauty = white_of(developing), "RGBA" if developing.transparent else "RGB"
    channels: dict[str, NDArray[Any]] = {}
    clamped = 0

    def put(name: str, values: NDArray[Any], y: int) -> None:
        narrow = half and name != "depth.Z"  # kilometres exceed a half
        if name not in channels:
            channels[name] = np.empty((picture.height, *values.shape[1:]),
                                      np.float16 if narrow else np.float32)
        if narrow:
            values = np.clip(values, -HALF_LARGEST, HALF_LARGEST)
        channels[name][y : y + len(values)] = values

    for band in picture.bands():
        rgb = linear_pixels(band.light, developing)
        if half:
            clamped += int(np.count_nonzero(np.abs(rgb) > HALF_LARGEST))
        put(beauty, rgb, band.top)
        if contents.passes and band.passes is not None:
            for name, values in pass_channels(band.passes, contents.layer_ids, white).items():
                put(name, values, band.top)
    return channels, clamped


def save(path: Path, contents: Contents, channels: dict[str, NDArray[Any]]) -> None:
    """Channels into one file."""
    developing = contents.developing
    header = {
        "compression": OpenEXR.ZIP_COMPRESSION,
        "type": OpenEXR.scanlineimage,
        "whiteLuminance": float(white_of(developing)),
        "chromaticities": PRIMARIES[developing.primaries].chromaticities,
        **contents.header,
    }
    with OpenEXR.File(header, channels) as file:
        file.write(str(path))


def write_passes(folder: Path, stem: str, contents: Contents) -> list[Path]:
    """Each pass in a file of its own, named after it, with its channels under their plain names.
    Raises OSError with none left."""
    channels, _ = gathered(contents)
    groups: dict[str, dict[str, NDArray[Any]]] = {}
    for name, values in channels.items():
        pass_name, _, letter = name.rpartition(".")
        if pass_name == "matte":  # one layer's: its alpha
            groups[f"matte-{letter}"] = {"Y": values}
        elif pass_name:
            groups.setdefault(pass_name, {})[letter] = values
    paths: list[Path] = []
    try:
        for pass_name, parts in groups.items():
            path = folder / f"{stem}-{pass_name}{FORMAT.extensions[0]}"
            with whole_file(path) as part:
                save(part, contents, parts)
            paths.append(path)
    except OSError:
        for path in paths:
            path.unlink(missing_ok=True)
        raise
    return paths


FORMAT = Format("exr", "OpenEXR", (".exr",), ("half", "float"), ("half", "float"), write,
                transparent=True, passes=True)
