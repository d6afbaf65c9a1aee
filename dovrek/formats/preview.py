"""Read our own prints back for viewing: pictures of every format, passes, a dome looked around in.
"""

from __future__ import annotations

import json
import math
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
import tifffile
from numpy.typing import NDArray

from dovrek.core.colour.primaries import PRIMARIES

LINEAR = (".exr", ".hdr")
SEEN = (".png", ".jpg", ".jpeg", ".tif", ".tiff", *LINEAR)
BEAUTY = ("RGB", "RGBA")
DEEPEST_M, NEAREST_M = 1e5, 100.0  # of a depth pass as it is shown

Pixels = NDArray[Any]


def sidecar_of(path: Path) -> dict[str, Any]:
    """The sidecar beside a print; empty when it is missing or torn."""
    try:
        found = json.loads(path.with_suffix(".json").read_text())
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def is_linear(path: Path) -> bool:
    """Whether a file holds scene light rather than developed codes."""
    if path.suffix in (".tif", ".tiff"):
        try:
            with tifffile.TiffFile(path) as file:
                return bool(file.pages[0].dtype == np.float32)
        except (OSError, ValueError):
            return False
    return path.suffix in LINEAR


def parts_of(path: Path) -> list[str]:
    """Names of the passes that an OpenEXR file holds beside its beauty."""
    found: dict[str, None] = {}
    for name in _file(str(path), path.stat().st_mtime_ns)[0]:
        group, _, last = name.rpartition(".")  # colours come joined, under their pass alone
        if name not in BEAUTY:
            found[name if not group or group == "matte" else group] = None
    return list(found)


@lru_cache(maxsize=1)
def _file(path: str, changed: int) -> tuple[dict[str, Pixels], float, tuple[float, ...]]:
    """Channels, white luminance and chromaticities of an OpenEXR file; the last one asked for is
    kept, since a viewer asks again and again."""
    with OpenEXR.File(path) as file:
        header = file.header()
        return ({name: channel.pixels for name, channel in file.channels().items()},
                float(header.get("whiteLuminance", 1.0)),
                tuple(float(v) for v in header.get("chromaticities", ())))


def linear_of(path: Path, facts: dict[str, Any]) -> tuple[Pixels, NDArray[np.float64]]:
    """Pixels (h, w, 3 or 4) of a linear file as they are stored, and the matrix that makes them
    absolute XYZ, by its header or by the sidecar's facts. Raises OSError, ValueError,
    LookupError."""
    if path.suffix == ".exr":
        channels, white, chromaticities = _file(str(path), path.stat().st_mtime_ns)
        pixels = next((channels[name] for name in BEAUTY if name in channels), None)
        if pixels is None:
            raise LookupError(f"{path.name} has no beauty")
        primaries = next((p for p in PRIMARIES.values() if len(chromaticities) == 8 and np.allclose(
            p.chromaticities, chromaticities, atol=1e-3)), PRIMARIES["rec709"])
        return pixels, np.asarray(np.linalg.inv(primaries.from_xyz) * white)
    picture = facts.get("picture", {})
    primaries = PRIMARIES.get(str(picture.get("primaries")), PRIMARIES["rec709"])
    white = float(picture.get("white_cd_m2") or 1.0)
    pixels = tifffile.imread(path) if path.suffix != ".hdr" else _radiance(path)
    return np.asarray(pixels), np.asarray(np.linalg.inv(primaries.from_xyz) * white)


def _radiance(path: Path) -> NDArray[np.float32]:
    """A Radiance file as it is written here: flat rows of shared exponents. Source: Ward 1991."""
    head, _, rest = path.read_bytes().partition(b"\n\n")
    line, _, body = rest.partition(b"\n")
    words = line.split()
    if b"RADIANCE" not in head or len(words) != 4:
        raise ValueError("it is no Radiance file of this application")
    height, width = int(words[1]), int(words[3])
    codes = np.frombuffer(body, np.uint8, 4 * height * width).reshape(height, width, 4)
    scale = np.where(codes[..., 3] > 0, np.exp2(codes[..., 3].astype(np.float32) - 136.0), 0.0)
    return np.asarray(codes[..., :3] * scale[..., None], dtype=np.float32)


def part_of(path: Path, part: str) -> NDArray[np.uint8]:
    """A pass as it is shown, (h, w, 3): light encoded as sRGB, alpha and shares as grey, depth by
    its logarithm, near bright. Raises LookupError."""
    channels, _, _ = _file(str(path), path.stat().st_mtime_ns)
    if part.startswith("matte.") and part in channels:
        shown = channels[part].astype(np.float32)
    elif f"{part}.Z" in channels:
        depth = np.clip(channels[f"{part}.Z"].astype(np.float32), NEAREST_M, DEEPEST_M)
        shown = 1.0 - np.log(depth / NEAREST_M) / math.log(DEEPEST_M / NEAREST_M)
    elif f"{part}.Y" in channels:
        shown = channels[f"{part}.Y"].astype(np.float32)
    else:
        if part not in channels or channels[part].ndim != 3:
            raise LookupError(f"{path.name} has no pass '{part}'")
        shown = channels[part][..., :3].astype(np.float32)
        shown = np.clip(shown, 0.0, 1.0)  # as sRGB encodes it (IEC 61966-2-1)
        shown = np.where(shown <= 0.0031308, 12.92 * shown, 1.055 * shown ** (1 / 2.4) - 0.055)
    if shown.ndim == 2:
        shown = np.repeat(shown[..., None], 3, axis=2)
    return np.asarray(np.clip(shown, 0.0, 1.0) * 255.0 + 0.5, dtype=np.uint8)


def reduced(pixels: Pixels, width: int) -> NDArray[np.float32]:
    """Means of whole squares of pixels, about as many across as `width`."""
    every = max(-(-pixels.shape[1] // width), 1)
    height, across = (side // every * every for side in pixels.shape[:2])
    rows = [pixels[y : y + every, :across].astype(np.float32).reshape(
        every, across // every, every, -1).mean(axis=(0, 2)) for y in range(0, height, every)]
    return np.stack(rows)


def looked_around(dome: Pixels, heading_deg: float, pitch_deg: float, lens_mm: float,
                  size: tuple[int, int], centre_deg: float) -> NDArray[np.float32]:
    """(h, w, 3) of a dome through a lens of a 36 mm gate, between its pixels."""
    width, height = size
    across = 36.0 / lens_mm
    x = (np.arange(width) + 0.5 - 0.5 * width) / width * across
    y = (0.5 * height - np.arange(height) - 0.5) / width * across
    sin, cos = math.sin(math.radians(pitch_deg)), math.cos(math.radians(pitch_deg))
    right, up = np.meshgrid(x, y)
    forward = cos - up * sin
    rise = sin + up * cos
    azimuth = math.radians(heading_deg) + np.arctan2(right, forward)
    elevation = np.arctan2(rise, np.hypot(right, forward))
    rows, columns = dome.shape[:2]
    u = ((azimuth - math.radians(centre_deg)) / (2.0 * math.pi) + 0.5) * columns - 0.5
    v = np.clip((0.5 - elevation / math.pi) * rows - 0.5, 0.0, rows - 1.0)
    i, j = np.floor(u).astype(int), np.minimum(np.floor(v).astype(int), rows - 2)
    a, b = (u - i)[..., None], (v - j)[..., None]

    def at(row: NDArray[Any], column: NDArray[Any]) -> NDArray[np.float32]:
        return dome[row, column % columns, :3].astype(np.float32)

    top = at(j, i) * (1 - a) + at(j, i + 1) * a
    low = at(j + 1, i) * (1 - a) + at(j + 1, i + 1) * a
    return np.asarray(top * (1 - b) + low * b, dtype=np.float32)
