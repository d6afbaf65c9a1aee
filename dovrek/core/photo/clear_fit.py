"""The clear sky that most coloured pixels of a photograph agree with.

A photograph's clear pixels say where the sun stands and how hazy the air is. Small domes of clear
sky are rendered over a lattice of sun heights and hazes; between them light is interpolated, so
that a fit may try thousands of skies. Six things are sought: sun height, haze, the sun's bearing
against the camera, exposure, white balance, and how much clouds shade the air beneath them, for
the sky between clouds is darker than a clear one; of a graded picture also its contrast and
saturation (`grade`).
Each start descends by damped Gauss-Newton steps under a bounded loss, to which clouds are outliers,
not errors (Geman & McClure 1985; Levenberg 1944 for the damping).
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.film import ISO_CONSTANT
from dovrek.core.geometry.lens import direction_at, picture_lens
from dovrek.core.photo.clear_skies import (
    BEND,
    Array,
    ClearSkies,
    Progress,
    sampled,
)
from dovrek.core.photo.grade import UNGRADED, Grade, as_pixels, developed
from dovrek.core.photo.likeness import Mask, Pixels, made_small, mask_at, sky_rows
from dovrek.core.run.workers import Cancel
from dovrek.sky.document import Camera

# What is sought, as the fit takes it: asinh(height / BEND), log haze, bearing in radians, EV, log
# of the white balance over the automatic one, shade; of a graded picture also the logs of contrast
# and saturation.
BALANCE, SHADE, GRADE = 4, 5, 6  # places of some
SLOPE_STEPS = np.array([0.03, 0.06, 0.02, 0.03, 0.02, 0.05, 0.02, 0.03])
LONGEST = np.array([0.5, 0.7, 0.4, 0.6, 0.15, 0.3, 0.15, 0.25])  # step at a time
# Another white balance than the automatic one must earn its place.
BALANCE_SPREAD, BALANCE_COST = 0.1, 0.004
SHADE_SPREAD, SHADE_COST = 0.4, 0.002  # so must shade
GRADE_SPREADS, GRADE_COST = (0.2, 0.3), 0.008  # and a picture's own contrast and saturation
GRADES = ((0.1, 0.15), (0.2, 0.3))  # logs of contrast and saturation that a search starts from
EXPOSED_COST = 0.02  # of a stop squared against a meter: pictures are exposed about so
# Most photographs are taken by day (common practice): what no clear sky fits well is not twilight
# for being darker. Sun heights from which on this counts, and counts in full; share of the error.
TWILIGHT, TWILIGHT_COST = (0.0, -2.0), 0.2
FRAME_WIDTH = 48
PHOTO_WIDTH = 240  # that a photograph is brought to first, so that all are measured alike
BLUEST = 0.12  # share of a block that stands for the sky behind its clouds
EVEN = 5.0  # standard deviation of a block (of 255) up to which it is of one thing
# Difference of developed pixels (0 … 1) at which one no longer speaks for a clear sky.
LOOSE, STRICT = 0.06, 0.025
BEARINGS = 20
HIGHEST_STOPS = 3.4  # above middle grey, that a camera places the brightest at
STOPS = (-1.2, -0.6, 0.0, 0.6, 1.2)  # about the automatic exposure
STARTS, GRADED_STARTS = 6, 3
ALIKE = 0.25  # starts this near in asinh(height / BEND) are one
SAME = 0.15  # and fits


@dataclass(frozen=True)
class Framing:
    """How a photograph looks at the sky."""

    fov_h_rad: float
    pitch_deg: float
    horizon: float  # share of the height from the top where the sky ends
    skyline: tuple[float, ...] = ()  # traced tops of what stands before it, as `standing` has them


@dataclass(frozen=True)
class Clear:
    """A clear sky that fits: the point of the fit, and how unlike it is, 0 … 1."""

    error: float
    point: Array
    white: float  # automatic white balance, kelvins

    @property
    def elevation_deg(self) -> float:
        return height_of(float(self.point[0]))

    @property
    def haze(self) -> float:
        return math.exp(float(self.point[1]))

    @property
    def bearing_deg(self) -> float:
        """Of the sun, clockwise from the camera's heading."""
        return math.degrees(float(self.point[2])) % 360.0

    @property
    def ev(self) -> float:
        return float(self.point[3])

    @property
    def kelvins(self) -> float:
        return self.white * math.exp(float(self.point[4]))

    @property
    def grade(self) -> Grade:
        """Contrast and saturation of the picture's own."""
        return grade_of(self.point)


def grade_of(point: Array) -> Grade:
    """Contrast and saturation at a point."""
    if len(point) <= GRADE:
        return UNGRADED
    return math.exp(float(point[GRADE])), math.exp(float(point[GRADE + 1]))


def height_of(bent: float) -> float:
    """Sun height in degrees of what the fit takes for it."""
    return BEND * math.sinh(bent)


def places(framing: Framing, size: tuple[int, int]) -> tuple[Array, Array]:
    """Elevation and bearing (radians, from the camera's heading) of every pixel of a frame."""
    camera = Camera(pitch_deg=framing.pitch_deg, heading_deg=0.0, sensor_width_mm=36.0,
                    lens_mm=min(max(18.0 / math.tan(0.5 * framing.fov_h_rad), 8.0), 800.0))
    lens = picture_lens(camera, size[0] / size[1])
    rays = np.array([[direction_at(lens, (x + 0.5) / size[0], (y + 0.5) / size[1])
                      for x in range(size[0])] for y in range(size[1])])
    return np.arcsin(np.clip(rays[..., 2], -1, 1)), np.arctan2(rays[..., 0], rays[..., 1])


def _clearest(pixels: Pixels, width: int) -> tuple[Array, Array]:
    """(h, width, 3) a picture made small, and the weight of each of its pixels.

    An even block gives its mean; an uneven one the bluest few of its pixels: between small
    clouds that is the sky behind them.
    """
    block = max(1, pixels.shape[1] // width)
    h, w = pixels.shape[0] // block, pixels.shape[1] // block
    cut = pixels[: h * block, : w * block].astype(np.float64)
    blocks = cut.reshape(h, block, w, block, 3).swapaxes(1, 2).reshape(h, w, block * block, 3)
    order = np.argsort(blocks[..., 0] / np.maximum(blocks[..., 2], 1.0), axis=2)
    few = max(1, round(BLUEST * block * block))
    bluest = np.take_along_axis(blocks, order[:, :, :few, None], axis=2).mean(axis=2)
    even = blocks.std(axis=2).max(axis=2, keepdims=True) < EVEN
    return np.where(even, blocks.mean(axis=2), bluest), np.where(even[..., 0], 1.0, 0.35)


def shown_clear(skies: ClearSkies, found: Clear, up: Array, around: Array) -> Pixels:
    """(rows, columns, 3) a clear sky that was fitted, as the film shows it, at elevations and
    bearings (radians, from the camera's heading)."""
    dome = skies.dome(found.point[0], found.point[1], found.point[SHADE])
    light = sampled(dome, up, around - found.point[2])
    return as_pixels(developed(light, found.ev, found.kelvins, found.grade))


class Match:
    """The sky of a photograph as pixels to match: place, colour, weight. What is `hidden` (a mask
    of any size) by things before the sky does not count."""

    def __init__(self, pixels: Pixels, framing: Framing, hidden: Mask | None = None) -> None:
        small, trust = _clearest(made_small(pixels, PHOTO_WIDTH), FRAME_WIDTH)
        rows = sky_rows(small.shape[0], framing.horizon)
        up, around = places(framing, (small.shape[1], small.shape[0]))
        seen = up[:rows] > math.radians(1.0)
        if hidden is not None:
            seen &= ~mask_at(hidden, (small.shape[1], small.shape[0]))[:rows]
        self.up, self.around = up[:rows][seen], around[:rows][seen]
        self.wanted = small[:rows][seen] / 255.0
        # Grey may be cloud; what has a colour is sky.
        self.chroma = np.ptp(self.wanted, axis=1)
        self.weights = (0.1 + np.minimum(4.0 * self.chroma, 1.0)) * trust[:rows][seen]
        self.weights /= max(float(self.weights.sum()), 1e-9)

    def thinned(self) -> Match:
        """Every third pixel, for a first look."""
        few = object.__new__(Match)
        for name, values in vars(self).items():
            setattr(few, name, values[::3])
        few.weights = few.weights / few.weights.sum()
        return few

    def light(self, dome: NDArray[np.float32], bearing: float) -> NDArray[np.float32]:
        """(n, 3) light of a dome at the pixels, the sun at a bearing."""
        return sampled(dome, self.up, self.around - bearing)

    def apart(self, light: NDArray[np.float32], ev: float, kelvins: float,
              grade: Grade = UNGRADED) -> Array:
        """(n, 3) developed light, 0 … 1, less what is wanted."""
        shown = developed(np.ascontiguousarray(light[None]), ev, kelvins, grade)[0]
        return np.asarray(shown - self.wanted)

    def loss(self, apart: Array, scale: float) -> float:
        """Bounded loss, 0 (all alike) to 1."""
        square = np.mean(apart * apart, axis=1)
        return float((self.weights * square / (square + scale * scale)).sum())


def _apart_at(match: Match, skies: ClearSkies, point: Array) -> Array:
    height, haze = skies.held(point)[:2]
    light = match.light(skies.dome(height, haze, point[SHADE]), point[2])
    return match.apart(light, point[3], skies.white(height, haze) * math.exp(point[4]),
                       grade_of(point))


def _costly(point: Array) -> float:
    cost = (BALANCE_COST * (point[BALANCE] / BALANCE_SPREAD) ** 2
            + SHADE_COST * (point[SHADE] / SHADE_SPREAD) ** 2)
    if len(point) > GRADE:
        cost += GRADE_COST * float(np.sum((point[GRADE:] / GRADE_SPREADS) ** 2))
    return float(cost)


def _curve_of_cost(point: Array) -> Array:
    """Half the second derivatives of `_costly`."""
    found = np.zeros(len(point))
    found[BALANCE] = BALANCE_COST / BALANCE_SPREAD**2
    found[SHADE] = SHADE_COST / SHADE_SPREAD**2
    found[GRADE:] = (GRADE_COST / np.square(GRADE_SPREADS))[: len(point) - GRADE]
    return found


def descend(match: Match, skies: ClearSkies, point: Array, scale: float, steps: int) -> Clear:
    """The nearest clear sky downhill from a point, in at most `steps` steps."""
    apart = _apart_at(match, skies, point)
    error = match.loss(apart, scale) + _costly(point)
    damping, size = 0.03, len(point)
    for _ in range(steps):
        slopes = np.empty((*apart.shape, size))
        for k, step in enumerate(SLOPE_STEPS[:size]):
            by = step * np.eye(size)[k]
            if skies.held(point + by)[k] < point[k] + step:  # at the border, look back
                by = -by
            slopes[..., k] = (_apart_at(match, skies, point + by) - apart) / by[k]
        square = np.mean(apart * apart, axis=1)
        weights = match.weights * scale**2 / (square + scale**2) ** 2 / 3.0
        curve = np.einsum("n,nci,ncj->ij", weights, slopes, slopes)
        slope = np.einsum("n,nci,nc->i", weights, slopes, apart)
        costs = _curve_of_cost(point)
        curve += np.diag(costs)
        slope += costs * point
        # What stands at its border and is pushed outward must not draw the others along.
        free = skies.held(point - 1e-6 * np.sign(slope)) != point
        by, gained = np.zeros(size), 0.0
        for _ in range(4):
            damped = (curve + np.diag(damping * np.diag(curve) + 1e-9))[np.ix_(free, free)]
            by[free] = np.linalg.solve(damped, slope[free])
            there = skies.held(point - np.clip(by, -LONGEST[:size], LONGEST[:size]))
            beyond = _apart_at(match, skies, there)
            found = match.loss(beyond, scale) + _costly(there)
            if found < error:
                gained, point, apart, error = error - found, there, beyond, found
                damping = max(damping / 5.0, 1e-4)
                break
            damping *= 6.0
        if gained < 2e-4:
            break
    return Clear(error, point, skies.white(point[0], point[1]))


def usual_exposure(luminance: NDArray[np.float32]) -> float:
    """EV at which photographs of clear skies are usually taken, by their luminances (cd/m²): the
    mean about a stop above middle grey, the brightest within 3.4 stops of it, less of a mean below
    300 cd/m² (common practice)."""
    values = np.maximum(luminance.astype(float), 1e-7)
    mean, high = float(np.exp(np.mean(np.log(values)))), float(np.percentile(values, 98.0))
    place = 1.0 if mean > 300.0 else 1.0 + 0.13 * math.log2(mean / 300.0)
    by_mean = math.log2(mean / ISO_CONSTANT) - place
    by_high = math.log2(high / ISO_CONSTANT) - HIGHEST_STOPS
    return max(by_mean, min(by_high, by_mean + 1.2))


def _starts(match: Match, skies: ClearSkies, cancel: Cancel,
            grade: tuple[float, ...] = ()) -> list[Array]:
    """Points to descend from: the likeliest of the rendered domes, apart in sun height; `grade`
    gives them logs of contrast and saturation."""
    shown = (math.exp(grade[0]), math.exp(grade[1])) if grade else UNGRADED
    few, rated = match.thinned(), []
    for i, haze in enumerate(skies.hazes):
        for j, height in enumerate(skies.heights):
            cancel.check()
            tried = []
            for bearing in np.arange(BEARINGS) * (2.0 * math.pi / BEARINGS):
                light = few.light(skies.light[i, j], bearing)
                ev = usual_exposure(light[:, 1])
                tried += [(few.loss(few.apart(light, ev + stop, skies.whites[i, j], shown), LOOSE),
                           height, haze, bearing, ev + stop, 0.0, 0.0, *grade) for stop in STOPS]
            rated.append(min(tried))
    starts: list[Array] = []
    for near in sorted(rated):
        if all(abs(near[1] - s[0]) > ALIKE for s in starts):
            starts.append(np.array(near[1:]))
    return starts[:STARTS]


def fit_clear(match: Match, skies: ClearSkies, cancel: Cancel,
              progress: Progress = lambda share: None) -> list[Clear]:
    """Clear skies that most of a photograph's coloured pixels agree with, the best first."""
    found: list[Clear] = []
    starts = _starts(match, skies, cancel)
    for number, start in enumerate(starts):
        cancel.check()
        found.append(_from(match, skies, start))
        progress((number + 1) / len(starts))
    return _distinct(found)


def graded_from(match: Match, skies: ClearSkies, plain: Clear) -> Clear:
    """Downhill from a fit when the picture's contrast and saturation are let go."""
    return _from(match, skies, np.append(plain.point, (0.0, 0.0)))


def fit_graded(match: Match, skies: ClearSkies, known: Clear, cancel: Cancel,
               progress: Progress = lambda share: None) -> list[Clear]:
    """Clear skies that agree when the picture's contrast and saturation are sought too, the best
    first; their points are of seven places. `known`, by `graded_from`, is one of them."""
    found = [known]
    for number, grade in enumerate(GRADES):
        for start in _starts(match, skies, cancel, grade)[:GRADED_STARTS]:
            cancel.check()
            found.append(_from(match, skies, start))
        progress((number + 1) / len(GRADES))
    return _distinct(found)


def _from(match: Match, skies: ClearSkies, start: Array) -> Clear:
    """Downhill from a start, loosely first; held against a meter, and against the day."""
    loose = descend(match, skies, start, LOOSE, 6)
    near = descend(match, skies, loose.point, STRICT, 8)
    down = min(max((TWILIGHT[0] - near.elevation_deg) / (TWILIGHT[0] - TWILIGHT[1]), 0.0), 1.0)
    return replace(near, error=near.error * (1.0 + TWILIGHT_COST * down) + EXPOSED_COST
                   * _stops_off(match, skies, near.point) ** 2)


def _distinct(found: list[Clear]) -> list[Clear]:
    """The best first, of those that are alike the best alone."""
    kept: list[Clear] = []
    for near in sorted(found, key=lambda c: c.error):
        if all(abs(near.point[0] - k.point[0]) > SAME or abs(_turn(near, k)) > SAME for k in kept):
            kept.append(near)
    return kept


def _stops_off(match: Match, skies: ClearSkies, point: Array) -> float:
    """Exposure of a point against what a meter makes of its clear sky."""
    light = match.light(skies.dome(point[0], point[1], point[SHADE]), point[2])
    return point[3] - usual_exposure(light[:, 1])


def _turn(first: Clear, second: Clear) -> float:
    """Between the suns' bearings of two fits, radians."""
    by = float(first.point[2] - second.point[2])
    return math.remainder(by, 2.0 * math.pi)


def moved(found: Clear, by: Array, skies: ClearSkies) -> Clear:
    """A fit moved by a difference of points."""
    point = skies.held(found.point + by)
    return replace(found, point=point, white=skies.white(point[0], point[1]))


def point_of(elevation: float, haze: float, bearing_deg: float, ev: float, kelvins: float,
             skies: ClearSkies) -> Array:
    """The point of a known sky without shade."""
    height, depth = math.asinh(elevation / BEND), math.log(haze)
    return np.array([height, depth, math.radians(bearing_deg), ev,
                     math.log(kelvins / skies.white(height, depth)), 0.0])


def agreeing(match: Match, skies: ClearSkies, found: Clear, within: float) -> NDArray[Any]:
    """Which pixels look like a clear sky that was fitted."""
    square = np.mean(_apart_at(match, skies, found.point) ** 2, axis=1)
    return np.asarray(square < within * within)
