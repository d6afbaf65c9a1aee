"""What the glass of a lens does to light on its way to the film: glow about what is bright, and
darker corners."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import NamedTuple

import numpy as np
import scipy  # its parts load when they are first used
from numpy.typing import NDArray

Array32 = NDArray[np.float32]

COLUMNS = 256  # of the small picture that glow is spread on, at most
# Stray light of a lens: standard deviations over the picture's width, and the share of each. A
# narrow core and wide skirts, as measured spread functions have (after McCann & Rizzi 2007).
SPREADS = ((0.004, 0.36), (0.015, 0.30), (0.05, 0.20), (0.16, 0.14))


class Glass(NamedTuple):
    """A lens, as far as it is seen in the picture."""

    vignette_ev: float = 0.0  # stops that the corners are darker than the middle
    glow: float = 0.0  # share of all light that strays


CLEAR = Glass()


class Veil(NamedTuple):
    """Stray light of a whole picture, on blocks of its pixels."""

    light: Array32  # (h, w, 3) XYZ
    block: int  # pixels a side
    height: int  # of the picture
    width: int


def veil_of(bands: Iterable[tuple[int, Array32]], height: int, width: int) -> Veil:
    """The stray light of a picture that comes in bands (row it starts with, (n, w, ≥3) light); as
    much of it as there is light, for what leaves at a border comes back."""
    block = max(-(-width // COLUMNS), 1)
    h, w = -(-height // block), -(-width // block)
    total, count = np.zeros((h, w, 3)), np.zeros((h, w, 1))
    columns = np.minimum(np.arange(width) // block, w - 1)
    starts = np.flatnonzero(np.diff(columns, prepend=-1))
    sizes = np.diff(np.append(starts, width))
    for top, light in bands:
        across = np.add.reduceat(light[..., :3].astype(np.float64), starts, axis=1)
        for k, row in enumerate(across):
            total[(top + k) // block] += row
            count[(top + k) // block] += sizes[:, None]
    mean = total / np.maximum(count, 1.0)
    spread = sum(share * scipy.ndimage.gaussian_filter(
        mean, (size * width / block,) * 2 + (0.0,), mode="reflect") for size, share in SPREADS)
    return Veil(np.asarray(spread, dtype=np.float32), block, height, width)


def _spline(first: int, last: int, block: int, count: int) -> NDArray[np.float32]:
    """(last − first, count) weights by which pixels are made of blocks: a cubic B-spline, which has
    neither steps nor corners, so that no block is seen however bright it is."""
    at = (np.arange(first, last) + 0.5) / block - 0.5
    k = np.floor(at).astype(int)
    u = at - k
    weights = np.zeros((last - first, count), dtype=np.float32)
    parts = ((1.0 - u) ** 3 / 6.0, (3.0 * u**3 - 6.0 * u**2 + 4.0) / 6.0,
             (-3.0 * u**3 + 3.0 * u**2 + 3.0 * u + 1.0) / 6.0, u**3 / 6.0)
    rows = np.arange(last - first)
    for shift, part in enumerate(parts):
        np.add.at(weights, (rows, np.clip(k - 1 + shift, 0, count - 1)), part)
    return weights


def through(light: Array32, glass: Glass, veil: Veil, top: int = 0) -> Array32:
    """(n, w, ≥3) rows of a picture, from row `top` on, as they leave the lens."""
    rows = len(light)
    out = light.copy()
    if glass.glow > 0.0:
        h, w, _ = veil.light.shape
        up, across = _spline(top, top + rows, veil.block, h), _spline(0, veil.width, veil.block, w)
        for c in range(3):
            out[..., c] += np.float32(glass.glow) * (
                up @ veil.light[..., c] @ across.T - light[..., c])
    if glass.vignette_ev != 0.0:
        reach = 0.5 * math.hypot(veil.height, veil.width)
        y = (np.arange(top, top + rows) + 0.5 - 0.5 * veil.height) / reach
        x = (np.arange(veil.width) + 0.5 - 0.5 * veil.width) / reach
        out[..., :3] *= (2.0 ** (-glass.vignette_ev * (y[:, None] ** 2 + x[None] ** 2))
                         )[..., None].astype(np.float32)
    return out


def through_whole(light: Array32, glass: Glass) -> Array32:
    """A whole picture as it leaves the lens."""
    if glass == CLEAR:
        return light
    height, width = light.shape[:2]
    return through(light, glass, veil_of([(0, light)], height, width))
