"""What is grain and no form is spread over its neighbours in pictures of few rays a pixel.

Where the finest differences between neighbours are strong in every direction and the coarser ones
weak, a picture holds chance rather than form. An edge, a thin line and an even slope are calm along
themselves and stay as they are.
"""

from __future__ import annotations

import numpy as np
import scipy  # its parts load when they are first used
from numpy.typing import NDArray

from dovrek.core.run.workers import Workers
from dovrek.core.transport.sample import ALPHA, DISTANCE, GREEN

WINDOW, EDGE = 5, 4  # pixels over which energies are averaged; that a strip looks beyond itself
STRIPS = 4
# Share of a second difference's variance that is left in a pixel less its 3 × 3 mean, by white
# noise: (1 − ¼)² + … over 1 + ¼ + ¼.
OF_NOISE = 0.45
# Energy of coarse form over that of grain: below the first all is spread, above the second none.
GRAIN, FORM = 3.0, 7.0
BEHIND = 0.5  # luminance over that of the clouds, of what may be laid behind where holes are
CALMED = DISTANCE  # channels of a pixel that are spread: light, and alpha with it
DIRECTIONS = ((0, 1), (1, 0), (1, 1), (1, -1))

Frame = NDArray[np.float32]


def _mean3(frame: Frame, round_about: bool) -> Frame:
    """Binomial mean of 3 × 3 pixels."""
    weights = np.array([0.25, 0.5, 0.25], dtype=np.float32)
    across: Frame = scipy.ndimage.convolve1d(frame, weights, axis=1,
                                            mode="wrap" if round_about else "nearest")
    down: Frame = scipy.ndimage.convolve1d(across, weights, axis=0, mode="nearest")
    return down


def kept_share(luminance: Frame, round_about: bool = False) -> Frame:
    """How far each pixel of (h, w) luminances is form, 0 … 1; `round_about` joins left and right.
    """
    stops = np.log2(np.maximum(luminance, np.float32(1e-6)))
    mean = _mean3(stops, round_about)
    mode = ("nearest", "wrap" if round_about else "nearest")
    around, of_squares = (scipy.ndimage.uniform_filter(part, WINDOW, mode=mode)
                          for part in (mean, mean * mean))
    form = np.maximum(of_squares - around * around, 0.0)
    wide = np.pad(np.pad(stops, ((1, 1), (0, 0)), mode="edge"), ((0, 0), (1, 1)),
                  mode="wrap" if round_about else "edge")
    height, width = stops.shape
    least = np.full_like(stops, np.inf)
    for y, x in DIRECTIONS:
        off = stops - 0.5 * (wide[1 + y : 1 + y + height, 1 + x : 1 + x + width]
                             + wide[1 - y : 1 - y + height, 1 - x : 1 - x + width])
        np.minimum(least, scipy.ndimage.uniform_filter(off * off, WINDOW, mode=mode), out=least)
    ratio = form / np.maximum(OF_NOISE * least, 1e-9)
    share: Frame = np.clip((ratio - GRAIN) / (FORM - GRAIN), 0.0, 1.0)
    return share


def calm(light: Frame, workers: Workers | None = None, round_about: bool = False) -> None:
    """Spread grain in (h, w, 3 or more) XYZ light in place, and in the alpha that goes with it
    (else what is laid behind shows the grain again); the distance stays. Grain is looked for as
    before a sky, not before black."""
    height = light.shape[0]
    before = light[..., :CALMED].copy()
    holes = light.shape[2] > ALPHA and bool((before[..., ALPHA] != before[0, 0, ALPHA]).any())
    behind = np.float32(BEHIND * before[..., GREEN].mean() / before[..., ALPHA].mean()
                        if holes else 0.0)

    def strip(start: int) -> None:
        end = min(start + rows, height)
        low, high = max(start - EDGE, 0), min(end + EDGE, height)
        piece = before[low:high]
        share = kept_share(piece[..., GREEN] + (behind * (np.float32(1.0) - piece[..., ALPHA])
                                                if holes else np.float32(0.0)), round_about)
        inside = slice(start - low, end - low)
        for c in range(CALMED if holes else ALPHA):
            mean = _mean3(piece[..., c], round_about)[inside]
            light[start:end, :, c] = mean + share[inside] * (piece[inside, :, c] - mean)

    rows = -(-height // STRIPS)
    list((workers.pool.map if workers else map)(strip, range(0, height, rows)))
