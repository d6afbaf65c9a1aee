"""What rays meet, frozen: fields of cloud, light grids, air, sun and ground."""

from __future__ import annotations

from functools import cache
from importlib.resources import files
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.sky_view import SkyView
from dovrek.core.clouds.phase import Beam
from dovrek.core.clouds.record import Field

BELOW_M = 24_000.0  # of ground about the camera whose sun and shade light the clouds above it


# The body that lights the scene.
SUN = np.dtype([
    ("direction", "f8", (3,)),  # unit vector toward its apparent place
    ("elevation", "f8"), ("azimuth", "f8"),  # of that place, radians
    ("radius", "f8"),  # of its disc, radians
    ("flattening", "f8"),  # height of the disc over its width
    ("lit", "f8"),  # share of the disc
    ("limb", "f8"),  # direction of the lit limb, radians clockwise from up
    ("radiance", "f8", (3,)),  # mean XYZ radiance of the disc behind the air
], align=True)
# Level ground: XYZ radiance by the light that falls on it, and albedo by channel.
GROUND = np.dtype([
    ("by_sun", "f8", (3,)), ("by_sky", "f8", (3,)),  # sky and clouds off the sun
    ("by_aureole", "f8", (3,)),  # what lies close about the sun, and is shaded with it
    ("albedo", "f8", (3,)),
    ("variety", "f8"),  # 0 … 1: how its tone differs from place to place
    ("east", "f8"), ("north", "f8"),  # the camera's foot from the site, m
    ("water", "f8"),  # 0: all land, 1: all water, else both
    ("slopes", "f8"),  # variance of the waves'
    ("land", "f8", (3,)),  # albedo of the land over that of all ground, by channel
    ("world_x", "f8"), ("world_y", "f8"), ("world_size", "f8"),  # of the continents' noise, m
    ("world_level", "f8"),  # value of it at a shore
    ("latitude", "f8"), ("longitude", "f8"),  # of the camera's foot on a map of the world, radians
], align=True)


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
    ground: np.void  # GROUND
    sun: np.void  # SUN
    land: np.void  # meeting.LAND
    land_heights: NDArray[np.float32]  # (n + 1, n + 1) metres above the level ground
    land_peaks: NDArray[np.float32]  # highest places of its squares, all levels end to end
    land_sky: NDArray[np.float32]  # (m, m) share of the sky's light that falls on it
    land_tones: NDArray[np.float32]  # (places, 3) of its picture (`land.tones`); one: it has none
    world: NDArray[np.uint8]  # (h, 2h) of a map of the world (`land.world`); one: there is none
    glow: NDArray[np.float64]  # (3,) XYZ radiance of the night sky behind all
    lobes: NDArray[np.float64]  # (phases, 6) phase functions: weight and asymmetry of three lobes
    grain: NDArray[np.float32]  # (64, 64) starts of neighbouring rays
    radius: float  # planet at the ground, m
    height: float  # camera above the ground, m
    shadow_rays: bool  # clouds shadow the haze below them
    day: NDArray[np.float64]  # (n, 4, 3) what the day is like far away (`sunlight.day_table`);
    # its rows of ground are those under these clouds. All ones unless the eye is high


class Marching(NamedTuple):
    """How finely to march."""

    step: float  # factor on all steps
    detail: float
    sun_disc: bool
    ground: bool
    footprint: float = 1.0  # of a pixel that detail is averaged over
    land: bool = True  # kept; else where land is met is a hole
    sky: bool = True  # kept; else all but clouds is a hole


@cache
def grain() -> NDArray[np.float32]:
    """(64, 64) numbers 0 … 1 that differ most between neighbours (`tools/blue_noise.py`)."""
    with files("dovrek.core.data").joinpath("blue_noise.npy").open("rb") as file:
        ranks = np.load(file)
    return ((ranks + 0.5) / ranks.size).astype(np.float32)
