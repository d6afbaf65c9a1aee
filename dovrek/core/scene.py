"""What rays meet, frozen: fields of cloud, light grids, air, sun and ground."""

from __future__ import annotations

import math
from functools import cache
from importlib.resources import files
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.density import Field
from dovrek.core.phase import Beam
from dovrek.core.sky_view import SkyView

LIGHT_HEIGHTS, LIGHT_SUNS = 41, 49
LIGHT_TOP_M, LIGHT_SPAN_RAD = 20_000.0, math.radians(5.0)

BELOW_M = 24_000.0  # of ground about the camera whose sun and shade light the clouds above it

# Channels of a rendered sample.
RED, GREEN, BLUE, ALPHA, DISTANCE = 0, 1, 2, 3, 4
OUT = 5


class Scene(NamedTuple):
    """All that rays meet; immutable while they march."""

    field: Field
    beam: Beam
    clear: SkyView
    light: NDArray[np.float32]  # flat light grids of all layers
    sunlight: NDArray[np.float64]  # (41, 49, 3) XYZ irradiance by height and sun elevation offset
    ambient: NDArray[np.float64]  # (L, 2, 3) XYZ radiance from above and below
    below: NDArray[np.float32]  # (L, M, M) of the light from below: ground in sun or shade there
    once_share: NDArray[np.float64]  # (L,) of light turned widely once: what is there
    # (3, 3) ground radiance from the sun's light, the sky's and clouds', and what lies close about
    # the sun.
    ground: NDArray[np.float64]
    albedo: NDArray[np.float64]  # (3,) of the ground, by XYZ channel
    sun: NDArray[np.float64]  # (3,) unit vector (true place)
    # Elevation, azimuth (apparent), radius, flattening, lit share, direction of the lit limb
    # (clockwise from up).
    sun_disc: NDArray[np.float64]
    sun_radiance: NDArray[np.float64]  # (3,) mean XYZ radiance of the disc behind the air
    glow: NDArray[np.float64]  # (3,) XYZ radiance of the night sky behind all
    lobes: NDArray[np.float64]  # (phases, 6) phase functions: weight and asymmetry of three lobes
    grain: NDArray[np.float32]  # (64, 64) starts of neighbouring rays
    radius: float  # planet at the ground, m
    height: float  # camera above the ground, m
    shadow_rays: bool  # clouds shadow the haze below them


class Marching(NamedTuple):
    """How finely to march."""

    step: float  # factor on all steps
    detail: float
    sun_disc: bool
    ground: bool
    footprint: float = 1.0  # of a pixel that detail is averaged over


@cache
def grain() -> NDArray[np.float32]:
    """(64, 64) numbers 0 … 1 that differ most between neighbours (`tools/blue_noise.py`)."""
    with files("dovrek.core.data").joinpath("blue_noise.npy").open("rb") as file:
        ranks = np.load(file)
    return ((ranks + 0.5) / ranks.size).astype(np.float32)
