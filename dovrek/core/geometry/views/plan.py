"""From above: a level plan, north up, centred on the camera's ground point.

A plan wider than the planet becomes a globe: the half that lies about the camera, as it looks from
very far (orthographic projection), each place still seen from straight above, without its limb.
"""

from __future__ import annotations

import math

from dovrek.core.compile.kernels import inner
from dovrek.core.geometry.views.view import EAST, NORTH, UP, Direction, Frame, Lens, View
from dovrek.sky.document import Camera

GLOBE_ROOM = 1.04  # height of a globe's plan over its diameter


@inner
def ray(lens, u, v, place, ray):
    """Place that a ray starts above; all look straight down, and beside a globe straight up."""
    x, y = (2.0 * u - 1.0) * lens.half_width, (1.0 - 2.0 * v) * lens.half_height
    ray[0], ray[1], ray[2] = 0.0, 0.0, -1.0
    share = 1.0
    if lens.globe > 0.0:
        off = math.sqrt(x * x + y * y)
        if off >= lens.globe:
            ray[2] = 1.0
        elif off > 0.0:
            share = lens.globe * math.asin(off / lens.globe) / off
    place[0], place[1] = x * share, y * share


@inner
def pixel(lens, width, height):
    """Metres of a pixel."""
    return 2.0 * lens.half_width / width


def place(lens: Lens, direction: Direction) -> tuple[float, float] | None:
    """None: a plan has no directions of its own."""
    return None


def is_globe(extent_m: float, planet_m: float) -> bool:
    """Whether a plan so wide shows the planet's half."""
    return extent_m > 2.0 * planet_m


def shown_m(extent_m: float, planet_m: float, aspect: float) -> float:
    """Metres that a plan is wide: a globe fills its height, or its width, whatever was asked."""
    if not is_globe(extent_m, planet_m):
        return extent_m
    return 2.0 * planet_m * GLOBE_ROOM * max(aspect, 1.0)


def laid_out(lens: Lens, east: float, north: float) -> tuple[float, float]:
    """Where on a plan, metres from its middle, a place lies that is metres along the ground from
    there; what is behind a globe lies on its rim."""
    far = math.hypot(east, north)
    if lens.globe <= 0.0 or far <= 0.0:
        return east, north
    share = lens.globe * math.sin(min(far / lens.globe, 0.5 * math.pi)) / far
    return east * share, north * share


def found_on(lens: Lens, x: float, y: float) -> tuple[float, float]:
    """The inverse of `laid_out`; what is beside a globe is taken for its rim."""
    off = math.hypot(x, y)
    if lens.globe <= 0.0 or off <= 0.0:
        return x, y
    share = lens.globe * math.asin(min(off / lens.globe, 1.0)) / off
    return x * share, y * share


def lens(camera: Camera, frame: Frame) -> Lens:
    """A plan of an extent."""
    half = 0.5 * shown_m(frame.extent_m, frame.planet_m, frame.aspect)
    globe = frame.planet_m if is_globe(frame.extent_m, frame.planet_m) else 0.0
    return Lens(0, -UP, EAST, NORTH, half, half / frame.aspect, 0.0, in_metres=True, globe=globe)


VIEW = View("plan", "From above", ray, pixel, place, lens, lambda camera: 1.0, 1024,
            from_above=True)
