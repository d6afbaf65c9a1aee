"""Light of clear skies over sun heights and hazes: small rendered domes, and what lies between."""

from __future__ import annotations

import math
from collections import OrderedDict
from collections.abc import Callable

import numpy as np
import scipy  # its parts load when they are first used
from numpy.typing import NDArray

from dovrek.core.air.sunlight import illuminances
from dovrek.core.colour.film import automatic_white
from dovrek.core.geometry.lens import dome_lens
from dovrek.core.picture.render import Quality, render_frame
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.prepare.preparer import Prepared, Preparer
from dovrek.core.run.stage import key_of
from dovrek.core.run.workers import Cancel
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data, sky_to_data

Array = NDArray[np.float64]
Progress = Callable[[float], None]

ELEVATIONS = (-6.0, -3.5, -1.5, 0.5, 2.5, 5.0, 8.0, 12.0, 17.0, 24.0, 33.0, 45.0, 60.0, 78.0)
HAZES = (0.03, 0.07, 0.16, 0.36, 0.8)
DOME = (256, 128)
CLEAR = Quality("search", SKETCH, 1, 2.0, 0.0)
# Air in the shade of clouds: none of its light comes from below, all from above, a share between.
SHADED_M = (1200.0, 2400.0)
SHADED_ELEVATIONS, SHADED_HAZES = (0, 2, 4, 6, 8, 10, 12, 13), (0, 2, 4)  # where it is rendered
BEND = 8.0  # degrees of sun height beyond which the sky's change is taken by ratio
# Limits of white balance over the automatic one (its log), shade, contrast and saturation.
BALANCE_LIMIT = 0.25
CONTRASTS, SATURATIONS = (0.6, 1.6), (0.5, 2.0)
MOST_SHADE = 0.8


def free_sun(sky: Sky, elevation: float, azimuth: float, haze: float) -> Sky:
    """A sky with its sun set free at a height and azimuth (degrees) in air of a haze."""
    data = sky_to_data(sky)
    data["sun"] |= {"mode": "free", "elevation_deg": elevation, "azimuth_deg": azimuth % 360.0}
    data["air"]["haze"] = round(haze, 3)
    return sky_from_data(data)


def white_of(prepared: Prepared) -> float:
    """Automatic white balance under a prepared sky, kelvins."""
    air = prepared.atmosphere
    direct, diffuse = illuminances(air.media, air.sun, air.scattered, prepared.sun)
    return automatic_white(direct + diffuse)


def skies_key(sky: Sky) -> str:
    """What its `ClearSkies` depend on."""
    data = sky_to_data(sky)
    for part in ("name", "seed", "layers", "film"):
        data.pop(part, None)
    data["camera"] = sky.camera.altitude_m
    data["air"].pop("haze", None)
    for set_free in ("mode", "elevation_deg", "azimuth_deg"):
        data["sun"].pop(set_free, None)
    return key_of(repr(data))


def _spline_weights(hazes: Array, heights: Array
                    ) -> Callable[[float, float], NDArray[np.float32]]:
    """Weights (hazes, heights) of a lattice's nodes at a height and haze, by natural splines."""
    by_haze = scipy.interpolate.CubicSpline(hazes, np.eye(len(hazes)), bc_type="natural")
    by_height = scipy.interpolate.CubicSpline(heights, np.eye(len(heights)), bc_type="natural")
    return lambda height, haze: np.outer(by_haze(haze), by_height(height)).astype(np.float32)


class ClearSkies:
    """Light of clear skies over sun heights and hazes, the sun at north, interpolated between
    rendered domes by natural cubic splines of its logarithm (rms .001 to .006 of the developed
    range against domes rendered in between)."""

    def __init__(self, sky: Sky, preparer: Preparer, cancel: Cancel,
                 progress: Progress = lambda share: None) -> None:
        bare = sky.model_copy(update={"layers": []})
        rows = DOME[1] // 2  # those above the horizon
        self.light = np.empty((len(HAZES), len(ELEVATIONS), rows, DOME[0], 3), dtype=np.float32)
        self.whites = np.empty((len(HAZES), len(ELEVATIONS)))
        lost = []

        def rendered(prepared: Prepared) -> NDArray[np.float32]:
            return render_frame(prepared, dome_lens(0.0), DOME, CLEAR, preparer.workers, cancel,
                                sun_disc=False)[:rows, :, :3]

        for i, haze in enumerate(HAZES):
            for j, elevation in enumerate(ELEVATIONS):
                cancel.check()
                prepared = preparer.scene(free_sun(bare, elevation, 0.0, haze), SKETCH, cancel)
                self.light[i, j] = rendered(prepared)
                self.whites[i, j] = white_of(prepared)
                if i in SHADED_HAZES and j in SHADED_ELEVATIONS:
                    dark = rendered(preparer.in_shade(prepared, *SHADED_M, cancel))
                    lost.append(1.0 - dark / np.maximum(self.light[i, j], 1e-9))
            progress((i + 1) / len(HAZES))
        self._logs = np.log(np.maximum(self.light, 1e-9)).reshape(self.whites.size, -1)
        self._lost = np.array(lost, dtype=np.float32).reshape(len(lost), -1)
        self.heights = np.arcsinh(np.array(ELEVATIONS) / BEND)
        self.hazes = np.log(np.array(HAZES))
        self.nbytes = self.light.nbytes + self._logs.nbytes + self._lost.nbytes
        self._weights = _spline_weights(self.hazes, self.heights)
        self._weights_lost = _spline_weights(self.hazes[list(SHADED_HAZES)],
                                             self.heights[list(SHADED_ELEVATIONS)])
        self._made: OrderedDict[tuple[float, float], tuple[NDArray[np.float32],
                                                           NDArray[np.float32]]] = OrderedDict()

    def white(self, height: float, haze: float) -> float:
        """Automatic white balance at a point's first two places, kelvins."""
        return float((self._weights(height, haze) * self.whites).sum())

    def dome(self, height: float, haze: float, shade: float) -> NDArray[np.float32]:
        """(rows, columns, 3) light above the horizon at a point's first two places and shade."""
        key = (round(height, 5), round(haze, 5))
        made = self._made.get(key)
        if made is None:
            clear = np.exp(self._weights(height, haze).ravel() @ self._logs)
            lost = clear * (self._weights_lost(height, haze).ravel() @ self._lost)
            shape = self.light.shape[2:]
            made = self._made[key] = (clear.reshape(shape), lost.reshape(shape))
            while len(self._made) > 8:
                self._made.popitem(last=False)
        return made[0] - np.float32(shade) * made[1] if shade > 0.0 else made[0]

    def held(self, point: Array) -> Array:
        """A point within what was rendered."""
        low, high = np.array([
            (self.heights[0], self.heights[-1]), (self.hazes[0], self.hazes[-1]),
            (-np.inf, np.inf), (-np.inf, np.inf), (-BALANCE_LIMIT, BALANCE_LIMIT),
            (0.0, MOST_SHADE), np.log(CONTRASTS), np.log(SATURATIONS)])[: len(point)].T
        return np.asarray(np.clip(point, low, high))


def sampled(dome: NDArray[np.float32], up: Array, around: Array) -> NDArray[np.float32]:
    """(…, 3) light of a dome's sky half at elevations and bearings from its sun, radians."""
    height, width = dome.shape[:2]
    x = ((around / (2.0 * math.pi) + 0.5) % 1.0) * width - 0.5
    y = np.clip((0.5 - up / math.pi) * 2 * height - 0.5, 0.0, height - 1.001)
    x0, y0 = np.floor(x).astype(int), np.floor(y).astype(int)
    fx, fy = (x - x0)[..., None], (y - y0)[..., None]
    a, b = x0 % width, (x0 + 1) % width
    top = dome[y0, a] * (1 - fx) + dome[y0, b] * fx
    low = dome[y0 + 1, a] * (1 - fx) + dome[y0 + 1, b] * fx
    return np.asarray(top * (1 - fy) + low * fy, dtype=np.float32)
