"""Cover maps: grey pictures that say where a layer may stand.

A map is kept inside the sky document as a small PNG, so that a sky goes anywhere in one piece.
"""

from __future__ import annotations

import base64
import binascii
import io
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.sky.layer import MAP_PREFIX

SIDE = 256  # pixels of a kept map
LOW_SHARE, HIGH_SHARE = 2.0, 98.0  # percentiles that count as black and white unless set


@lru_cache(maxsize=16)
def grey_of(asset: str) -> NDArray[np.float32] | None:
    """Grey values 0 … 1 of an embedded map, row 0 in the north; None when it is none."""
    if not asset.startswith(MAP_PREFIX):
        return None
    try:
        picture = Image.open(io.BytesIO(base64.b64decode(asset[len(MAP_PREFIX):], validate=True)))
        if max(picture.size) > SIDE:
            return None
        grey = np.asarray(picture.convert("L"), dtype=np.float32) / np.float32(255.0)
    except (OSError, ValueError, binascii.Error):
        return None
    return grey


def levels_of(grey: NDArray[np.float32], black: float | None,
              white: float | None) -> tuple[float, float]:
    """Grey values that stand for no cloud and all cloud, by the map itself unless set."""
    low = float(np.percentile(grey, LOW_SHARE)) if black is None else black
    high = float(np.percentile(grey, HIGH_SHARE)) if white is None else white
    return low, high


def cover_of(asset: str, black: float | None, white: float | None,
             invert: bool) -> NDArray[np.uint8] | None:
    """(n, m) bytes: 0 no cloud, 255 cloud; None without a map that can be read."""
    grey = grey_of(asset)
    if grey is None:
        return None
    low, high = levels_of(grey, black, white)
    share = np.clip((grey - low) / (high - low), 0.0, 1.0) if abs(high - low) > 1e-6 else (
        np.ones_like(grey))
    return np.round(255.0 * (1.0 - share if invert else share)).astype(np.uint8)
