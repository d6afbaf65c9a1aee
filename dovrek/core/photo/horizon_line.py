"""Where the sky of a photograph ends: a level line proposed from its pixels.

Across the horizon all columns change alike and by much, which no cloud does: of all level lines
the one is taken whose step from the band above it to the band below is large against how the
step differs from column to column (after Ettinger et al. 2003, Adv. Robotics 17, who part sky
from ground by the spread of their colours). The artist sees the line and may drag it.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.colour.spectrum import LUMINANCE_RGB
from dovrek.core.photo.likeness import Pixels

Array = NDArray[np.float64]

WIDTH, ROWS_LEAST = 96, 24
BAND, THIN_BAND = 0.05, 0.015  # of the height, that are held against each other
NEAR = 0.06  # of the height, within which the thin bands find the line itself
DEVIATION = 1.48  # standard deviation over median deviation, of normal spread
GRAIN = 0.03  # of the range: a step that differs less from column to column is even
# How far a step must stand out where it leads down to darker land, and to lighter (snow, sand).
DARKER, LIGHTER = 1.5, 3.0
FAINTEST = 0.04  # step in developed luminance


class _Step(NamedTuple):
    row: int
    clear: float  # step over what it differs by
    darker: float  # developed luminance above the line less that below


def _steps(rows: Array, band: int) -> list[_Step]:
    """Steps at all level lines of an (h, w, 3) picture, by medians over its columns: what stands
    up before the horizon in some of them tells nothing."""
    found = []
    for row in range(band, len(rows) - band + 1):
        by = rows[row - band : row].mean(axis=0) - rows[row : row + band].mean(axis=0)
        middle = np.median(by, axis=0)
        spread = DEVIATION * np.median(np.abs(by - middle), axis=0)
        found.append(_Step(row, float(np.linalg.norm(middle) / np.hypot(
            np.linalg.norm(spread), GRAIN)), float(middle @ LUMINANCE_RGB)))
    return found


def _weight(step: _Step) -> float:
    return step.clear * abs(step.darker)


def horizon_line(pixels: Pixels) -> float | None:
    """Where the sky of an (h, w, 3) picture seems to end, as a share of its height from the top;
    none where no land is to be seen."""
    height = max(ROWS_LEAST, round(WIDTH * pixels.shape[0] / pixels.shape[1]))
    small = Image.fromarray(pixels).resize((WIDTH, height), Image.Resampling.BOX)
    rows = np.asarray(small, dtype=np.float64) / 255.0
    steps = _steps(rows, max(1, round(BAND * height)))
    land = [s for s in steps if abs(s.darker) >= FAINTEST
            and s.clear >= (DARKER if s.darker > 0.0 else LIGHTER)]
    if not land:
        return None
    about = max(land, key=_weight)
    thin = _steps(rows, max(1, round(THIN_BAND * height)))
    near = [s for s in thin if abs(s.row - about.row) <= NEAR * height
            and s.darker * about.darker > 0.0]
    return max(near or [about], key=lambda s: abs(s.darker)).row / height
