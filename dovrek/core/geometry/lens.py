"""Lenses of the usual views, and places and directions in their frames."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.core.geometry.views import VIEWS, dome, falling, lens_of, picture, plan, ray_of
from dovrek.core.geometry.views.view import Frame, Lens
from dovrek.sky.document import Camera

HIGH_SINE = math.sin(math.radians(70.0))
_ANY = Camera()


def picture_lens(camera: Camera, aspect: float | None = None) -> Lens:
    """The rectilinear lens of a camera; `aspect` overrides the document's (width held)."""
    return lens_of(picture.VIEW, camera, Frame(aspect or camera.aspect))


def dome_lens(centre_deg: float = 0.0) -> Lens:
    """The whole sphere, equirectangular, zenith at the top."""
    return lens_of(dome.VIEW, _ANY, Frame(2.0, centre_deg))


def plan_lens(extent_m: float, aspect: float = 1.0) -> Lens:
    """A level plan, north up, `extent_m` across, centred on the camera's ground point."""
    return lens_of(plan.VIEW, _ANY, Frame(aspect, extent_m=extent_m))


def falling_lens(extent_m: float, light: NDArray[np.float64]) -> Lens:
    """Rays to where light comes from that falls on level ground, `extent_m` across about the
    camera. `light` (3,) points to the sun."""
    return lens_of(falling.VIEW, _ANY, Frame(1.0, extent_m=extent_m))._replace(forward=light)


def bearings_of(lens: Lens) -> tuple[float, float] | None:
    """Bearings that a picture sees: the middle and half of their range, radians; None when it sees
    more than half of the compass, as a dome, a plan and a view up high do."""
    if VIEWS[lens.projection] is not picture.VIEW:
        return None
    edge = np.linspace(0.0, 1.0, 9)
    border = [direction_at(lens, *place) for t in edge
              for place in ((t, 0.0), (t, 1.0), (0.0, t), (1.0, t))]
    if max(abs(ray[2]) for ray in border) > HIGH_SINE or abs(lens.forward[2]) > HIGH_SINE:
        return None
    middle = math.atan2(lens.forward[0], lens.forward[1])
    turns = [(math.atan2(ray[0], ray[1]) - middle + math.pi) % (2.0 * math.pi) - math.pi
             for ray in border]
    half = max(abs(turn) for turn in turns)
    return (middle, half) if half < 0.5 * math.pi else None


def direction_at(lens: Lens, u: float, v: float) -> NDArray[np.float64]:
    """Unit direction (east, north, up) of a place in the frame, as `ray_of` has it."""
    ray = np.empty(3)
    ray_of(lens, u, v, np.empty(2), ray)
    return ray


def place_of(lens: Lens, direction: NDArray[np.float64]) -> tuple[float, float] | None:
    """Place in the frame (u, v from 0 to 1 inside it) of a direction; None where it shows none:
    behind the lens, or on a plan. The inverse of `ray_of`."""
    return VIEWS[lens.projection].place(lens, direction)
