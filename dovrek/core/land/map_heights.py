"""Heights of a map that a sky document holds."""

from __future__ import annotations

import base64
import binascii
import io
from functools import lru_cache

import numpy as np
import scipy  # its parts load when they are first used
from numpy.typing import NDArray
from PIL import Image

from dovrek.sky.layer import MAP_PREFIX

SIDE = 640  # pixels of a kept map
RUNS_OUT = 0.06  # of a side, over which it goes down to the level ground at its border
SMOOTHED = 0.8  # pixels, of a map of 8 bits: its steps are no terraces
DEEP = ("I;16", "I;16B", "I")


def kept_heights(asset: str) -> bool:
    """Whether a text is a height map as a document keeps them: of 16 bits, from black to white."""
    found = _grey(asset)
    return found is not None and found[1] and (found[0].min(), found[0].max()) == (0.0, 65535.0)


def _grey(asset: str) -> tuple[NDArray[np.float64], bool] | None:
    """Values of a kept map, and whether it is of 16 bits; None when it is none."""
    if not asset.startswith(MAP_PREFIX):
        return None
    try:
        picture = Image.open(io.BytesIO(base64.b64decode(asset[len(MAP_PREFIX):], validate=True)))
        if max(picture.size) > SIDE or min(picture.size) < 2:
            return None
        deep = picture.mode in DEEP
        return np.asarray(picture if deep else picture.convert("L"), dtype=np.float64), deep
    except (OSError, ValueError, SyntaxError, binascii.Error):
        return None


@lru_cache(maxsize=2)
def map_heights(asset: str, squares: int) -> NDArray[np.float32] | None:
    """(2, n, n) at n = squares + 1 corners [east, north]: grey 0 … 1, and how much is left of the
    height there, less toward the border. None for a map that is none; one that is not square lies
    in the middle."""
    found = _grey(asset)
    if found is None:
        return None
    grey, deep = found
    grey = grey / (65535.0 if deep else 255.0)
    if not deep:
        grey = scipy.ndimage.gaussian_filter(grey, SMOOTHED, mode="nearest")
    rows, columns = grey.shape
    longer = max(rows, columns)
    wide, high = (max(round(squares * n / longer), 2) for n in (columns, rows))
    fitted = scipy.ndimage.zoom(grey[::-1].T, ((wide + 1) / columns, (high + 1) / rows), order=3,
                  mode="nearest")
    fitted = np.clip(fitted, 0.0, 1.0)
    # Down to the level ground at its border, so that rays meet one of them alone.
    edge = max(RUNS_OUT * squares, 2.0)
    a = np.minimum(np.arange(fitted.shape[0]), np.arange(fitted.shape[0])[::-1]) / edge
    b = np.minimum(np.arange(fitted.shape[1]), np.arange(fitted.shape[1])[::-1]) / edge
    near = np.clip(np.minimum(a[:, None], b[None, :]), 0.0, 1.0)
    made = np.zeros((2, squares + 1, squares + 1), dtype=np.float32)
    i, j = (squares + 1 - fitted.shape[0]) // 2, (squares + 1 - fitted.shape[1]) // 2
    inside = np.s_[i : i + fitted.shape[0], j : j + fitted.shape[1]]
    made[0][inside], made[1][inside] = fitted, near * near * (3.0 - 2.0 * near)
    made.flags.writeable = False
    return made


def heights_between(asset: str, squares: int, lowest: float,
                    highest: float) -> NDArray[np.float32] | None:
    """Metres at corners of squares: black stands for the lowest, white for the highest, and the
    border for the level ground."""
    found = map_heights(asset, squares)
    if found is None:
        return None
    grey, share = found
    return ((np.float32(lowest) + np.float32(highest - lowest) * grey) * share).astype(np.float32)
