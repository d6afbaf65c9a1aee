"""The greys of a layer's cover map: how many there are of each, and which stand for no cloud and
for all of it."""

from __future__ import annotations

from functools import lru_cache
from typing import NamedTuple

import numpy as np

from dovrek.core.clouds.cover_map import grey_of, levels_of
from dovrek.sky.layer import CoverMap

WIDTH, HEIGHT, BINS = 200.0, 34.0, 50
LOW_CONTRAST, FLAT = 0.15, 0.02  # between its own black and white


class Greys(NamedTuple):
    """A drawing WIDTH wide and HEIGHT high, and what it says."""

    body: str  # path of the histogram
    black: float  # places in the drawing
    white: float
    said: str
    fault: str  # what is wrong with the map, and the mend; empty for a good one


@lru_cache(maxsize=32)
def _histogram(asset: str) -> str:
    grey = grey_of(asset)
    assert grey is not None
    counts, _ = np.histogram(grey, BINS, (0.0, 1.0))
    high = HEIGHT * np.sqrt(counts / max(counts.max(), 1))  # by roots, so that little is seen too
    step = WIDTH / BINS
    return f"M0 {HEIGHT:g}" + "".join(
        f"V{HEIGHT - h:.1f}H{step * (k + 1):.1f}" for k, h in enumerate(high.tolist())
    ) + f"V{HEIGHT:g}Z"


def greys_of(cover: CoverMap) -> Greys | None:
    """The drawing for a layer's map; None without one."""
    if not cover.asset:
        return None
    grey = grey_of(cover.asset)
    if grey is None:
        return Greys("", 0.0, 0.0, "", "This map is not part of the sky: choose its picture again, "
                                       "or remove it.")
    black, white = levels_of(grey, cover.black, cover.white)
    own_black, own_white = levels_of(grey, None, None)
    contrast = own_white - own_black
    fault = ""
    if contrast < FLAT:
        fault = "This map is of one grey, and moves no cloud: choose one with light and dark parts."
    elif contrast < LOW_CONTRAST:
        fault = (f"This map has little contrast ({own_black:.2f} to {own_white:.2f}), so its steps "
                 "show: save it with its levels spread from black to white.")
    elif abs(white - black) < 0.05:
        fault = "Black and White lie together, so its cover ends in hard edges: set them apart."
    there = float(np.mean((grey > max(black, white)) if not cover.invert else
                          (grey < min(black, white))))
    found = cover.black is None and cover.white is None
    said = (f"black {black:.2f}, white {white:.2f}{' as found' if found else ''}; "
            f"{100.0 * there:.0f} % of it holds the whole cover")
    return Greys(_histogram(cover.asset), WIDTH * min(max(black, 0.0), 1.0),
                 WIDTH * min(max(white, 0.0), 1.0), said, fault)
