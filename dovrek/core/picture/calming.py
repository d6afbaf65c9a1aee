"""What is grain and no form is spread over its neighbours in pictures of few rays a pixel.

Where the finest differences between neighbours are strong in every direction and the coarser ones
weak, a picture holds chance rather than form. An edge, a thin line and an even slope are calm along
themselves and stay as they are.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.run.workers import Workers
from dovrek.core.transport.sample import ALPHA, DISTANCE, GREEN

AROUND, EDGE = 2, 4  # pixels to each side over which energies are averaged; that a strip looks
# beyond itself
STRIPS, LEAST_ROWS = 4, 20
# Share of a second difference's variance that is left in a pixel less its 3 × 3 mean, by white
# noise: (1 − ¼)² + … over 1 + ¼ + ¼.
OF_NOISE = 0.45
# Energy of coarse form over that of grain: below the first all is spread, above the second none.
GRAIN, FORM = 3.0, 7.0
BEHIND = 0.5  # luminance over that of the clouds, of what may be laid behind where holes are
CALMED = DISTANCE  # channels of a pixel that are spread: light, and alpha with it
STOPS, ACROSS = 0, 1  # planes of a strip: luminance, its mean with the pixels left and right;
MEAN, SQUARE, TURNS = 2, 3, 4  # the 3 × 3 mean, its square, and from here on the squares of what
ENERGIES, DIRECTIONS = 6, 4  # a pixel differs from its neighbours on both sides, in 4 directions
SUMMED = MEAN + ENERGIES  # the same summed over five pixels of a row
PLANES = SUMMED + ENERGIES
DAYLIT = 11.0  # stops that are taken off, so that squares of single precision tell skies' apart

Frame = NDArray[np.float32]


@inner
def _beyond(row, round_about):
    """Fill what a row of a plane has beyond the picture's sides."""
    last = row.shape[0] - AROUND
    for k in range(AROUND):
        row[k] = row[last - AROUND + k] if round_about != 0 else row[AROUND]
        row[last + k] = row[AROUND + k] if round_about != 0 else row[last - 1]


@inner
def _energies(planes, i, round_about):
    """Of a row: the 3 × 3 mean, and how far each pixel stands out of its neighbours, summed over
    five of them."""
    height, end = planes.shape[1], planes.shape[2] - AROUND
    up, down = max(i - 1, 0), min(i + 1, height - 1)
    above, own, below = planes[STOPS, up], planes[STOPS, i], planes[STOPS, down]
    for j in range(AROUND, end):
        mean = 0.25 * (planes[ACROSS, up, j] + planes[ACROSS, down, j]) + 0.5 * planes[ACROSS, i, j]
        planes[MEAN, i, j] = mean
        planes[SQUARE, i, j] = mean * mean
    for j in range(AROUND, end):
        planes[TURNS, i, j] = (own[j] - 0.5 * (own[j - 1] + own[j + 1])) ** 2
        planes[TURNS + 1, i, j] = (own[j] - 0.5 * (above[j] + below[j])) ** 2
        planes[TURNS + 2, i, j] = (own[j] - 0.5 * (above[j - 1] + below[j + 1])) ** 2
        planes[TURNS + 3, i, j] = (own[j] - 0.5 * (above[j + 1] + below[j - 1])) ** 2
    for q in range(ENERGIES):
        row, total = planes[MEAN + q, i], planes[SUMMED + q, i]
        _beyond(row, round_about)
        for j in range(AROUND, end):
            total[j] = row[j - 2] + row[j - 1] + row[j] + row[j + 1] + row[j + 2]


@inner
def _form_of(planes, i, share):
    """Of a row: how far each pixel is form, 0 … 1. The row's energies give way to their averages
    over 5 × 5 pixels."""
    height, width = planes.shape[1], share.shape[0]
    rows = (max(i - 2, 0), max(i - 1, 0), min(i + 1, height - 1), min(i + 2, height - 1))
    for q in range(ENERGIES):
        total = planes[MEAN + q, i]
        one, two = planes[SUMMED + q, rows[0]], planes[SUMMED + q, rows[1]]
        own = planes[SUMMED + q, i]
        four, five = planes[SUMMED + q, rows[2]], planes[SUMMED + q, rows[3]]
        for j in range(AROUND, AROUND + width):
            total[j] = (one[j] + two[j] + own[j] + four[j] + five[j]) / 25.0
    for column in range(width):
        j = column + AROUND
        form = max(planes[SQUARE, i, j] - planes[MEAN, i, j] ** 2, 0.0)
        least = min(min(planes[TURNS, i, j], planes[TURNS + 1, i, j]),
                    min(planes[TURNS + 2, i, j], planes[TURNS + 3, i, j]))
        ratio = form / max(OF_NOISE * least, 1e-9)
        share[column] = min(max((ratio - GRAIN) / (FORM - GRAIN), 0.0), 1.0)


@kernel
def spread_grain(light, behind, round_about, first, planes, share, out):
    """Rows from `first` on of a strip of light (h, w, channels), with its grain spread over its
    neighbours, into `out` (rows, w, channels); into `share` (rows, w) how far each pixel is form,
    0 … 1. `behind` is the luminance of what stands where alpha leaves holes; `round_about` (0 or 1)
    joins left and right; `planes` (PLANES, h, w + 2 AROUND) is scratch.
    """
    height, width, channels = light.shape
    for i in range(height):
        for j in range(width):
            luminance = light[i, j, GREEN]
            if channels > ALPHA:
                luminance += behind * (1.0 - light[i, j, ALPHA])
            planes[STOPS, i, j + AROUND] = math.log2(max(luminance, 1e-6)) - DAYLIT
        _beyond(planes[STOPS, i], round_about)
        for j in range(AROUND, width + AROUND):
            planes[ACROSS, i, j] = (0.25 * (planes[STOPS, i, j - 1] + planes[STOPS, i, j + 1])
                                    + 0.5 * planes[STOPS, i, j])
    for i in range(height):
        _energies(planes, i, round_about)
    for row in range(out.shape[0]):
        i = first + row
        _form_of(planes, i, share[row])
        up, down = max(i - 1, 0), min(i + 1, height - 1)
        for j in range(width):
            kept = share[row, j]
            if kept == 1.0:
                for c in range(channels):
                    out[row, j, c] = light[i, j, c]
                continue
            left, right = j - 1, j + 1
            if j == 0:
                left = width - 1 if round_about != 0 else 0
            if j == width - 1:
                right = 0 if round_about != 0 else j
            for c in range(channels):
                own = light[i, j, c]
                mean = (0.25 * own + 0.125 * (light[i, left, c] + light[i, right, c]
                                              + light[up, j, c] + light[down, j, c])
                        + 0.0625 * (light[up, left, c] + light[up, right, c]
                                    + light[down, left, c] + light[down, right, c]))
                out[row, j, c] = mean + kept * (own - mean)


def calm(light: Frame, workers: Workers | None = None, round_about: bool = False) -> Frame:
    """Spread grain in (h, w, 3 or more) XYZ light in place, and in the alpha that goes with it
    (else what is laid behind shows the grain again); the distance stays. Grain is looked for as
    before a sky, not before black. Returns how far each pixel (h, w) is form, 0 … 1;
    `round_about` joins left and right.
    """
    height, width = light.shape[:2]
    alpha = light[..., ALPHA] if light.shape[2] > ALPHA else None
    holes = alpha is not None and bool((alpha != alpha[0, 0]).any())
    channels = CALMED if holes else ALPHA
    before = np.array(light[..., :channels], dtype=np.float32, order="C")  # strips look at it
    behind = (BEHIND * float(before[..., GREEN].mean()) / float(before[..., ALPHA].mean())
              if holes else 0.0)
    share = np.empty((height, width), dtype=np.float32)

    def strip(start: int) -> None:
        end = min(start + rows, height)
        low, high = max(start - EDGE, 0), min(end + EDGE, height)
        piece = before[low:high]
        out = np.empty((end - start, width, channels), dtype=np.float32)
        planes = np.empty((PLANES, high - low, width + 2 * AROUND), dtype=np.float32)
        spread_grain(piece, behind, int(round_about), start - low, planes, share[start:end], out)
        light[start:end, :, :channels] = out

    rows = max(-(-height // STRIPS), LEAST_ROWS)
    list((workers.pool.map if workers else map)(strip, range(0, height, rows)))
    return share
