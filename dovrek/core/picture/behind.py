"""The picture behind a sky: laid under clouds that were rendered with holes for sky and ground.

A photograph's codes go back through the film to the light that the film makes them of, so that
where no cloud is the picture comes out as it was; clouds lie before it in linear light.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.backdrop import Backdrop, read_backdrop
from dovrek.core.colour.film import undeveloped, white_luminance
from dovrek.core.colour.spectrum import RGB_TO_XYZ
from dovrek.core.compile.kernels import solver
from dovrek.core.geometry.lens import picture_lens
from dovrek.core.geometry.views import OFFERED, picture, ray_of
from dovrek.core.geometry.views.view import Lens
from dovrek.core.picture.render import Metered
from dovrek.core.transport.sample import ALPHA
from dovrek.sky.behind import Behind
from dovrek.sky.document import Sky

# Luminance of a linear dome's upper half is brought to this share of the film's white: about where
# automatic exposure holds a clear sky.
SKY_SHARE = 0.18


def kept_picture(asset: str) -> bool:
    """Whether a text is a picture as a document keeps them."""
    return read_backdrop(asset) is not None


def backdrop_of(sky: Sky) -> Backdrop | None:
    """The picture behind a sky; None without one that can be read."""
    return read_backdrop(sky.behind.asset) if sky.behind.stands else None


def stands_behind(sky: Sky, view: str) -> bool:
    """Whether a view shows the picture behind: a photograph through the lens alone, what is all
    around in every view but from above."""
    if OFFERED[view].from_above:
        return False
    if sky.behind.kind == "photograph" and view != picture.VIEW.name:
        return False
    return backdrop_of(sky) is not None


@solver
def _rays(lens, width, height, y0, y1, out):
    """Directions of the pixels' middles of rows y0 … y1, (y1 − y0, width, 3)."""
    place, ray = np.empty(2), np.empty(3)
    for y in range(y0, y1):
        for x in range(width):
            ray_of(lens, (x + 0.5) / width, (y + 0.5) / height, place, ray)
            for c in range(3):
                out[y - y0, x, c] = ray[c]


def _framing(sky: Sky, behind: Behind, aspect: float) -> Lens:
    """The lens that a photograph was taken with."""
    camera = sky.camera
    given = {"heading_deg": behind.heading_deg, "pitch_deg": behind.pitch_deg}
    values = {k: v for k, v in given.items() if v is not None}
    if behind.lens_mm is not None:
        values |= {"lens_mm": behind.lens_mm, "sensor_width_mm": 36.0}
    return picture_lens(camera.model_copy(update=values), aspect)


def _places(sky: Sky, rays: NDArray[np.float64], backdrop: Backdrop
            ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Where directions lie in the picture, in pixels from its corner."""
    behind, (high, wide) = sky.behind, backdrop.pixels.shape[:2]
    if behind.kind == "dome":
        bearing = np.arctan2(rays[..., 0], rays[..., 1]) - math.radians(behind.turn_deg)
        u = (bearing / (2.0 * math.pi) + 0.5) % 1.0
        v = 0.5 - np.arcsin(np.clip(rays[..., 2], -1.0, 1.0)) / math.pi
        return u * wide - 0.5, v * high - 0.5
    lens = _framing(sky, behind, wide / high)
    # A rectilinear lens: its frame is a plane; three places of it tell its axes.
    axes = _plane(lens)
    depth = rays @ axes[2]
    with np.errstate(divide="ignore", invalid="ignore"):
        u = 0.5 + rays @ axes[0] / depth
        v = 0.5 + rays @ axes[1] / depth
    there = depth > 1e-6
    return (np.where(there, u, -1.0) * wide - 0.5, np.where(there, v, -1.0) * high - 0.5)


def _plane(lens: Lens) -> NDArray[np.float64]:
    """Axes (3, 3) of a rectilinear lens: across, down, ahead, scaled to shares of its frame."""
    out = np.empty((1, 1, 3))
    found = []
    for u, v in ((0.5, 0.5), (1.0, 0.5), (0.5, 1.0)):
        _rays_at(lens, u, v, out)
        found.append(out[0, 0].copy())
    ahead, right, down = found
    across, below = right / (right @ ahead) - ahead, down / (down @ ahead) - ahead
    return np.stack([0.5 * across / (across @ across), 0.5 * below / (below @ below), ahead])


@solver
def _rays_at(lens, u, v, out):
    place, ray = np.empty(2), np.empty(3)
    ray_of(lens, u, v, place, ray)
    for c in range(3):
        out[0, 0, c] = ray[c]


def _looked_up(light: NDArray[np.float32], a: NDArray[np.float64], b: NDArray[np.float64],
               around: bool) -> NDArray[np.float32]:
    """Bilinear; past its border a picture goes on, around it meets itself."""
    high, wide = light.shape[:2]
    a = a % wide if around else np.clip(a, 0.0, wide - 1.0)
    b = np.clip(b, 0.0, high - 1.0)
    j, i = np.floor(a).astype(int), np.floor(b).astype(int)
    fa, fb = (a - j)[..., None].astype(np.float32), (b - i)[..., None].astype(np.float32)
    # On a pixel, to rounding, it is that pixel.
    fa, fb = (np.where(f < 1e-4, 0.0, np.where(f > 0.9999, 1.0, f)).astype(np.float32)
              for f in (fa, fb))
    j1 = (j + 1) % wide if around else np.minimum(j + 1, wide - 1)
    i1 = np.minimum(i + 1, high - 1)
    found: NDArray[np.float32] = ((light[i, j] * (1 - fa) + light[i, j1] * fa) * (1 - fb)
                                  + (light[i1, j] * (1 - fa) + light[i1, j1] * fa) * fb)
    return found


def light_behind(sky: Sky, lens: Lens, size: tuple[int, int], metered: Metered, top: int,
                 rows: int) -> NDArray[np.float32] | None:
    """(rows, w, 3) XYZ of the picture behind, from a row on; None without one."""
    backdrop = backdrop_of(sky)
    if backdrop is None:
        return None
    rays = np.empty((rows, size[0], 3))
    _rays(lens, size[0], size[1], top, top + rows, rays)
    a, b = _places(sky, rays, backdrop)
    around = sky.behind.kind == "dome"
    if backdrop.linear:
        linear = _looked_up(np.asarray(backdrop.pixels, np.float32), a, b, around)
        upper = backdrop.pixels[: max(len(backdrop.pixels) // 2, 1)]
        mean = float(np.median(upper @ np.array([0.2126, 0.7152, 0.0722], np.float32)))
        scale = white_luminance(metered.ev) * SKY_SHARE / max(mean, 1e-12)
        light = (linear @ RGB_TO_XYZ.T.astype(np.float32)) * np.float32(scale)
    else:
        shown = _looked_up(np.asarray(backdrop.pixels, np.float32), a, b, around)
        light = undeveloped(shown / np.float32(255.0), *metered[:5])
    return (light * np.float32(2.0**sky.behind.exposure_ev)).astype(np.float32)


def laid_under(light: NDArray[np.float32], sky: Sky, lens: Lens, size: tuple[int, int],
               metered: Metered, top: int = 0) -> NDArray[np.float32]:
    """Light of clouds with holes, (rows, w, 5), over the picture behind; as it is without one.
    `top` is the first of its rows."""
    found = light_behind(sky, lens, size, metered, top, len(light))
    if found is None:
        return light
    whole = light.copy()
    whole[..., :3] += (1.0 - light[..., ALPHA : ALPHA + 1]) * found
    whole[..., ALPHA] = 1.0
    return whole

