"""A picture of the land from above, laid over it: tones by place, fine to coarse."""

from __future__ import annotations

import base64
import binascii
import io

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.colour.film import decode_srgb
from dovrek.core.colour.spectrum import RGB_TO_XYZ
from dovrek.core.compile.kernels import inner
from dovrek.core.land.meeting import grid_x, grid_y
from dovrek.core.run.stage import Tools, stage
from dovrek.sky.behind import BEGINS

SIDE = 1024  # places a side that a picture is kept at
LARGEST = 4096  # pixels a side of a picture that is read
LEAST_MEAN = 0.004  # luminance, of white's, of a picture that is no darker

Tones = NDArray[np.float32]


def no_tones() -> Tones:
    """Of a land without a picture."""
    return np.ones((1, 3), np.float32)


def picture_in(asset: str) -> Image.Image | None:
    """The picture that a document keeps; None when it is none."""
    head = next((b for b in BEGINS if asset.startswith(b)), None)
    if head is None:
        return None
    try:
        picture = Image.open(io.BytesIO(base64.b64decode(asset[len(head):], validate=True)),
                             formats=("JPEG", "PNG"))
        if max(picture.size) > LARGEST or min(picture.size) < 2:
            return None
        return picture.convert("RGB")
    except (OSError, ValueError, SyntaxError, binascii.Error):
        return None


@stage("land tones")
def land_tones(tools: Tools, picture: str) -> Tones:
    """(places, 3) of X, Y and Z over the mean of Y, [east, north] and end to end: SIDE² places,
    then each level of half the side, down to one. A picture that is not square lies in the middle,
    as a height map does; beside it the tone is even. Of a picture that is none, no tones."""
    found = picture_in(picture)
    if found is None:
        return no_tones()
    longer = max(found.size)
    wide, high = (max(round(SIDE * n / longer), 1) for n in found.size)
    by_code = np.array([decode_srgb(code / 255.0) for code in range(256)])
    linear = by_code[np.asarray(found.resize((wide, high), Image.Resampling.BOX))]
    white = RGB_TO_XYZ.sum(axis=1)
    tones = linear @ RGB_TO_XYZ.T / white
    tones /= max(float(tones[..., 1].mean()), LEAST_MEAN)
    level = np.ones((SIDE, SIDE, 3), np.float32)
    i, j = (SIDE - wide) // 2, (SIDE - high) // 2
    level[i : i + wide, j : j + high] = tones[::-1].transpose(1, 0, 2)
    parts = [level.reshape(-1, 3)]
    while len(level) > 1:
        half = len(level) // 2
        level = level.reshape(half, 2, half, 2, 3).mean(axis=(1, 3))
        parts.append(level.reshape(-1, 3))
    return np.concatenate(parts).astype(np.float32)


@inner
def picture_tone(land, tones, x, y, across, out):
    """Tone of the land's picture at a place (metres from the camera's foot) into `out` (3,), as a
    pixel sees it that is so many metres across there."""
    side = SIDE
    size = land.square_m * land.squares / side
    level_at = 0
    while side > 1 and across > size:
        level_at += side * side
        side //= 2
        size *= 2.0
    scale = side / land.squares
    a = min(max(grid_x(land, x, y) * scale - 0.5, 0.0), side - 1.0)
    b = min(max(grid_y(land, x, y) * scale - 0.5, 0.0), side - 1.0)
    i, j = int(a), int(b)
    i1, j1 = min(i + 1, side - 1), min(j + 1, side - 1)
    u, v = a - i, b - j
    for c in range(3):
        out[c] = ((tones[level_at + i * side + j, c] * (1.0 - v)
                   + tones[level_at + i * side + j1, c] * v) * (1.0 - u)
                  + (tones[level_at + i1 * side + j, c] * (1.0 - v)
                     + tones[level_at + i1 * side + j1, c] * v) * u)
