"""What stands before the sky of a photograph: trees, roofs, walls, found by colours no sky has.

Sky and cloud go from blue over grey to the warm colours of a low sun. Leaves are greener, earth,
brick and wood are warm and dark, and what stands against the light is darker than any cloud beside
a bright sky. Where such pixels hang together they are a thing, and so is all beneath it in its
columns, down to the horizon line. The limits lie outside what the colours of rendered skies reach
at any sun height; what is as grey and as light as cloud is not told from it, and is left out
beneath a skyline that somebody has traced.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import scipy  # its parts load when they are first used
from numpy.typing import NDArray

from dovrek.core.colour.spectrum import LUMINANCE_RGB
from dovrek.core.photo.likeness import Mask, Pixels, made_small, mask_at, sky_rows

WIDTH = 240
SKYLINE_PARTS = 64  # equal parts of a picture's width, each with a height of its own
BRIGHT = 0.8  # quantile of luma that stands for the bright sky
# What is surely not sky, and what goes on from there:
GREEN, GREEN_SHARE = 0.03, (0.12, 0.05)  # green over red and blue, in codes and of green itself
EARTH, EARTH_DARK = 0.08, (0.27, 0.5)  # red over blue, and luma over the bright sky's
DARK, DARKEST = (0.17, 0.25), (0.12, 0.2)  # luma over the bright sky's, and in codes
NOT_BLUE = 0.05  # blue over red of what is dark: a deep blue sky is not
ROUGH, AROUND = 0.03, 5  # spread of luma over so many pixels: leaves and tiles are not even
LEAST = 0.003  # of the sky: smaller things are left
SURE = 0.1  # share of a thing's pixels that are surely not sky
CRISP = 0.5  # share of its border that is rough: night and a dark height of the sky end softly
SPREAD = 6  # pixels that a thing goes on over what is rough


def standing(pixels: Pixels, horizon: float, skyline: Sequence[float] = ()) -> Mask:
    """(h, w) pixels above a horizon line (share of the height from the top) where something
    stands before the sky: what is found, and what lies below a traced `skyline` (for each of
    SKYLINE_PARTS from left to right its height as such a share; empty for none)."""
    small = made_small(pixels, WIDTH) / 255.0
    found = np.zeros(small.shape[:2], dtype=bool)
    rows = sky_rows(len(small), horizon)
    found[:rows] = _things(small[:rows])
    height, width = pixels.shape[:2]
    out = mask_at(found, (width, height))
    if len(skyline):
        tops = np.asarray(skyline)[np.arange(width) * len(skyline) // width]
        out |= (np.arange(height)[:, None] + 0.5) / height > tops
    out[sky_rows(height, horizon):] = False
    return out


def _things(sky: NDArray[np.float64]) -> Mask:
    """The same for the (h, w, 3) sky of a small picture, 0 … 1."""
    red, green, blue = np.moveaxis(sky, -1, 0)
    luma = sky @ np.asarray(LUMINANCE_RGB)
    bright = float(np.quantile(luma, BRIGHT))
    mean, of_squares = (scipy.ndimage.uniform_filter(part, AROUND, mode="nearest")
                        for part in (luma, luma * luma))
    rough = np.sqrt(np.maximum(of_squares - mean**2, 0.0)) > ROUGH
    over = green - np.maximum(red, blue)

    def no_sky(k: int) -> Mask:
        leaves = (over > GREEN) & (over > GREEN_SHARE[k] * green) & rough
        earth = (red - blue > EARTH) & (luma < EARTH_DARK[k] * bright) & rough
        dark = (luma < DARK[k] * bright) & (luma < DARKEST[k]) & (blue - red < NOT_BLUE)
        closed = scipy.ndimage.binary_closing(np.pad(leaves | earth | dark, 3), iterations=2)
        return np.asarray(closed[3:-3, 3:-3])

    sure = no_sky(0)
    named, number = scipy.ndimage.label(no_sky(1) | sure)
    border = named * ~scipy.ndimage.binary_erosion(named > 0, border_value=1)
    counts, surely, around, crisp = (np.bincount(part.ravel(), minlength=number + 1)
                                     for part in (named, named[sure], border, border[rough]))
    kept = ((surely >= LEAST * luma.size) & (surely >= SURE * counts)
            & (crisp >= CRISP * around))
    kept[0] = False
    things = scipy.ndimage.binary_dilation(kept[named], iterations=SPREAD, mask=rough | kept[named])
    return np.asarray(np.logical_or.accumulate(scipy.ndimage.binary_dilation(things), axis=0))
