"""From above: a level plan, north up, centred on the camera's ground point."""

from __future__ import annotations

from dovrek.core.compile.kernels import inner
from dovrek.core.geometry.views.view import EAST, NORTH, UP, Direction, Frame, Lens, View
from dovrek.sky.document import Camera


@inner
def ray(lens, u, v, place, ray):
    """Place that a ray starts above; all look straight down."""
    place[0] = (2.0 * u - 1.0) * lens.half_width
    place[1] = (1.0 - 2.0 * v) * lens.half_height
    ray[0], ray[1], ray[2] = 0.0, 0.0, -1.0


@inner
def pixel(lens, width, height):
    """Metres of a pixel."""
    return 2.0 * lens.half_width / width


def place(lens: Lens, direction: Direction) -> tuple[float, float] | None:
    """None: a plan has no directions of its own."""
    return None


def lens(camera: Camera, frame: Frame) -> Lens:
    """A plan of an extent."""
    half = 0.5 * frame.extent_m
    return Lens(0, -UP, EAST, NORTH, half, half / frame.aspect, 0.0, in_metres=True)


VIEW = View("plan", "From above", ray, pixel, place, lens, lambda camera: 1.0, 1024,
            from_above=True)
