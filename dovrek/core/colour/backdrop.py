"""Pictures behind a sky, as documents keep them: read, and the light that one all around sends."""

from __future__ import annotations

import base64
import binascii
import io
import math
from functools import lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.colour.film import balance_matrix, decode_srgb
from dovrek.core.colour.spectrum import RGB_TO_XYZ, XYZ_TO_RGB
from dovrek.sky.behind import BEGINS

SIDE_MOST = 2600  # pixels of a kept picture
RGBE_BIAS = 128 + 8  # of the exponent of shared-exponent colours (Ward 1991, real pixels)
LIGHT, LINEAR = "light", "linear"  # a PNG's own word for shared-exponent colours
SUN_OVER = 20.0  # times the median of its half: what is brighter counts no more, being the sun
SMALL = (64, 32)  # pixels that light is summed over


class Backdrop(NamedTuple):
    """A picture as it is read: codes of 8 bits, or linear RGB of unknown scale."""

    pixels: NDArray[np.uint8] | NDArray[np.float32]  # (h, w, 3)

    @property
    def linear(self) -> bool:
        return self.pixels.dtype != np.uint8


class Around(NamedTuple):
    """Light that comes from a picture all around, over the luminance of its upper half."""

    above: tuple[float, float, float]  # XYZ, as it falls on a level plate
    below: tuple[float, float, float]  # from the lower half, on the plate's other side
    balanced: bool = False  # of codes, whose grey is what a film showed as grey

    def under(self, kelvins: float) -> Around:
        """The light that a film balanced for a temperature shows in the picture's colours."""
        if not self.balanced:
            return self
        back = np.linalg.inv(balance_matrix(kelvins)) @ XYZ_TO_RGB
        above, below = back @ self.above, back @ self.below
        return Around(tuple(above / above[1]), tuple(below / above[1]))


@lru_cache(maxsize=2)
def read_backdrop(asset: str) -> Backdrop | None:
    """The picture that a document keeps; None when it is none."""
    head = next((b for b in BEGINS if asset.startswith(b)), None)
    if head is None:
        return None
    try:
        picture = Image.open(io.BytesIO(base64.b64decode(asset[len(head):], validate=True)))
        if max(picture.size) > SIDE_MOST or min(picture.size) < 2:
            return None
        if picture.info.get(LIGHT) == LINEAR and picture.mode == "RGBA":
            rgbe = np.asarray(picture, dtype=np.float32)
            scale = np.ldexp(np.float32(1.0), rgbe[..., 3].astype(np.int32) - RGBE_BIAS)
            linear = np.where(rgbe[..., 3:] > 0, rgbe[..., :3] * scale[..., None], 0.0)
            return Backdrop(linear.astype(np.float32))
        return Backdrop(np.asarray(picture.convert("RGB"), dtype=np.uint8))
    except (OSError, ValueError, binascii.Error):
        return None


def light_of(backdrop: Backdrop) -> Around:
    """What a picture of the whole sky sends down from its upper half and up from its lower one;
    its sun, which our own stands for, is left out. Codes are taken for sRGB's."""
    pixels = backdrop.pixels
    if backdrop.linear:
        linear = np.asarray(pixels, dtype=np.float64)
    else:
        linear = np.array([decode_srgb(code / 255.0) for code in range(256)])[pixels]
    wide, high = (min(a, b) for a, b in zip(SMALL, linear.shape[1::-1], strict=True))
    high -= high % 2
    rows, columns = (np.linspace(0, n, k + 1).astype(int)[:-1]
                     for n, k in ((linear.shape[0], high), (linear.shape[1], wide)))
    sums = np.add.reduceat(np.add.reduceat(linear, rows, axis=0), columns, axis=1)
    counts = np.add.reduceat(np.add.reduceat(np.ones(linear.shape[:2]), rows, axis=0), columns,
                             axis=1)
    xyz = sums / counts[..., None] @ RGB_TO_XYZ.T
    halves = []
    for half in (xyz[: high // 2], xyz[: high // 2 - 1 : -1]):
        most = SUN_OVER * max(float(np.median(half[..., 1])), 1e-9)
        half = half * np.minimum(1.0, most / np.maximum(half[..., 1:2], 1e-12))
        zenith = 0.5 * math.pi * (np.arange(len(half)) + 0.5) / len(half)
        weight = np.sin(zenith) * np.cos(zenith)
        halves.append((half.mean(axis=1) * weight[:, None]).sum(axis=0) / weight.sum())
    scale = max(float(halves[0][1]), 1e-9)
    above, below = (tuple(float(v) / scale for v in half) for half in halves)
    return Around(above, below, not backdrop.linear)  # type: ignore[arg-type]
