"""What genus the clouds of a frame look like: their texture, and a table taught by renders.

Features of a frame are measured against the clear sky fitted to it, in a picture of fixed width;
a linear discriminant (Fisher 1936, Ann. Eugenics 7; its covariance drawn toward the identity as
by Friedman 1989, J. Am. Stat. Assoc. 84) tells the genera apart. `python -m tools.teach` renders
skies of known genus and makes the table anew.
"""

from __future__ import annotations

import json
import math
from functools import cache
from importlib.resources import files
from typing import Any, NamedTuple

import numpy as np
import scipy  # its parts load when they are first used
from numpy.typing import NDArray

from dovrek.core.colour.spectrum import LUMINANCE_RGB
from dovrek.core.photo.clear_fit import Clear, Framing, places, shown_clear
from dovrek.core.photo.clear_skies import BEND, ClearSkies
from dovrek.core.photo.grade import as_pixels, ungraded
from dovrek.core.photo.likeness import Mask, Pixels, linear, made_small, mask_at, sky_rows

Array = NDArray[np.float64]

WIDTH = 96
CLOUDY = 0.055  # a pixel that far (rms of 0 … 1) from the fitted clear sky is cloud
SHIFTS = (1, 2, 4, 8)
FEWEST = 8  # pixels of cloud below which the whole frame stands for it
WINDOW = 7  # pixels over which strands are told from heaps
TABLE = "genus_looks.json"


class CloudLook(NamedTuple):
    """Clouds of one frame: their share of the sky above 1°, their features, and where they are."""

    share: float
    features: Array
    cloud: Mask


class Stage:
    """A framing at the fixed width: where its pixels look, and which are `hidden` by things
    before the sky (a mask of any size)."""

    def __init__(self, framing: Framing, shape: tuple[int, ...],
                 hidden: Mask | None = None) -> None:
        height = max(8, round(WIDTH * shape[0] / shape[1]))
        self.framing, self.size = framing, (WIDTH, height)
        self.rows = sky_rows(height, framing.horizon)
        self.up, self.around = (a[: self.rows] for a in places(framing, self.size))
        self.hidden = (np.zeros(self.up.shape, dtype=bool) if hidden is None
                       else mask_at(hidden, self.size)[: self.rows])
        self.above = (self.up > math.radians(1.0)) & ~self.hidden

    def cloud(self, pixels: Pixels, skies: ClearSkies, fitted: Clear) -> Mask:
        """Where a picture has cloud before the clear sky fitted to it."""
        sky, clear = self._sky_and_clear(pixels, skies, fitted)
        return differ(sky, clear)

    def _sky_and_clear(self, pixels: Pixels, skies: ClearSkies, fitted: Clear
                       ) -> tuple[Pixels, Pixels]:
        """A picture's sky, clear where something hides it, and the clear sky fitted to it."""
        clear = shown_clear(skies, fitted, self.up, self.around)
        sky = made_small(pixels, WIDTH)[: self.rows]
        return np.where(self.hidden[..., None], clear, sky), clear

    def look(self, pixels: Pixels, skies: ClearSkies, fitted: Clear, plain: bool = False
             ) -> CloudLook:
        """Measure a picture against the clear sky fitted to it; `plain` takes the picture's own
        contrast and saturation off both first."""
        sky, clear = self._sky_and_clear(pixels, skies, fitted)
        if plain:
            sky, clear = (as_pixels(ungraded(p / 255.0, fitted.grade)) for p in (sky, clear))
        cloud = differ(sky, clear)
        where = np.array([fitted.elevation_deg / 50.0, math.asinh(fitted.elevation_deg / BEND),
                          math.log(fitted.haze), math.log(self.framing.fov_h_rad),
                          self.framing.pitch_deg / 20.0, math.cos(fitted.point[2]),
                          abs(math.sin(fitted.point[2]))])
        return CloudLook(float(cloud[self.above].mean()),
                         np.concatenate([texture(sky, clear, cloud), where]), cloud)


def differ(first: Pixels, second: Pixels) -> Mask:
    """Pixels that differ as cloud differs from clear sky."""
    square = np.mean((first.astype(float) - second.astype(float)) ** 2, axis=-1)
    found: Mask = square > (255.0 * CLOUDY) ** 2
    return found


def _run(mask: Mask) -> float:
    """Log of the mean length of the runs of a mask along its rows."""
    begun = int((mask[:, 1:] & ~mask[:, :-1]).sum()) + int(mask[:, 0].sum())
    return math.log1p(float(mask.sum()) / max(begun, 1))


def _variation(light: Array, shift: int) -> tuple[float, float]:
    """Mean difference over a shift along and across the rows."""
    return (float(np.abs(light[:, shift:] - light[:, :-shift]).mean()),
            float(np.abs(light[shift:] - light[:-shift]).mean()) if len(light) > shift else 0.0)


def texture(sky: Pixels, clear: Pixels, cloud: Mask) -> Array:
    """How cloud stands out from its clear sky: where, at which sizes, how crisp, how coloured."""
    shown, bare = sky / 255.0, clear / 255.0
    over = np.sqrt(linear(sky) @ LUMINANCE_RGB) - np.sqrt(linear(clear) @ LUMINANCE_RGB)
    spread = float(over.std()) + 0.01
    found: list[Any] = []
    for rows in np.array_split(np.arange(len(sky)), 3):
        mask, light = cloud[rows], over[rows]
        along, across = _variation(light, 1)
        own = float(light.std()) + 0.01
        found += [mask.mean(), _run(mask), _run(~mask), _run(mask.T), _run(~mask.T),
                  light.mean(), own, along / own, across / own]
    for shift in SHIFTS:
        found += [math.log(v / spread + 0.01) for v in _variation(over, shift)]
    some = cloud if cloud.sum() > FEWEST else np.ones_like(cloud)
    inside, colours = over[some], shown[some]
    centred = inside - inside.mean()
    found += [math.log(spread), cloud.mean(), *np.quantile(inside, (0.1, 0.5, 0.9)), inside.std(),
              (centred**3).mean() / (inside.std() ** 3 + 1e-4), (inside < -0.02).mean(),
              *(shown - bare)[some].mean(axis=0), colours.mean(axis=0) @ LUMINANCE_RGB,
              np.ptp(colours, axis=1).mean(), colours.max(axis=1).mean(),
              (np.ptp(colours, axis=1) < 0.1).mean()]
    return np.array([*found, *_strands(over), *_edges(over, cloud, spread)])


def _strands(over: Array) -> list[float]:
    """Which way structure runs, in the whole frame and place by place (structure tensor)."""
    down, right = np.gradient(over)
    xx, yy, xy = right * right, down * down, right * down
    whole = np.array([(xx - yy).mean(), 2.0 * xy.mean()]) / ((xx + yy).mean() + 1e-7)
    xx, yy, xy = (scipy.ndimage.uniform_filter(part, WINDOW) for part in (xx, yy, xy))
    local = np.hypot(xx - yy, 2.0 * xy).sum() / ((xx + yy).sum() + 1e-7)
    steep = np.hypot(down, right)
    peaked = math.sqrt(float((steep**4).mean() / ((steep**2).mean() ** 2 + 1e-12)))
    return [*whole, math.hypot(*whole), float(local), peaked,
            float(np.quantile(steep, 0.95) / (steep.mean() + 1e-4))]


def _edges(over: Array, cloud: Mask, spread: float) -> list[float]:
    """How crisp cloud ends, and how much edge there is."""
    edge, rise = cloud[:, 1:] != cloud[:, :-1], np.abs(over[:, 1:] - over[:, :-1])
    crisp = float(rise[edge].mean() / spread) if edge.any() else 0.0
    return [crisp, float(edge.mean()), float((cloud[1:] != cloud[:-1]).mean())]


class Discriminant(NamedTuple):
    """A linear discriminant of features. `weights` (genera, features), `offsets` (genera,)."""

    genera: tuple[str, ...]
    mean: Array
    scale: Array
    weights: Array
    offsets: Array

    def chances(self, features: Array) -> dict[str, float]:
        """Log of each genus's chance, all having been as likely before."""
        score = (features - self.mean) / self.scale @ self.weights.T + self.offsets
        top = float(score.max())
        logs = score - top - math.log(float(np.exp(score - top).sum()))
        return dict(zip(self.genera, (float(v) for v in logs), strict=True))


def taught(features: Array, genera: list[str], drawn: float) -> Discriminant:
    """Learn from (frames, features) of known genera; the common covariance of the standardised
    features is drawn toward the identity by a share `drawn`."""
    mean, scale = features.mean(axis=0), features.std(axis=0) + 1e-6
    scaled, names, of = (features - mean) / scale, tuple(dict.fromkeys(genera)), np.array(genera)
    centres = np.array([scaled[of == name].mean(axis=0) for name in names])
    within = np.mean([np.cov(scaled[of == name].T) for name in names], axis=0)
    within = (1.0 - drawn) * within + drawn * np.eye(len(mean))
    weights = np.linalg.solve(within, centres.T).T
    return Discriminant(names, mean, scale, weights, -0.5 * (weights * centres).sum(axis=1))


@cache
def genus_looks() -> Discriminant:
    """The table that ships."""
    data = json.loads(files("dovrek.core.data").joinpath(TABLE).read_text())
    return Discriminant(tuple(data["genera"]), *(np.array(data[name]) for name in
                                                 ("mean", "scale", "weights", "offsets")))
