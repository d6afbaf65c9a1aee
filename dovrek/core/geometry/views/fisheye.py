"""The upper half of the sky in a circle: equidistant, as an all-sky lens draws it that looks
straight up. The camera's heading is at the foot of the picture, its right at the right."""

from __future__ import annotations

import math

import numpy as np

from dovrek.core.compile.kernels import inner
from dovrek.core.geometry.views.view import UP, Direction, Frame, Lens, View
from dovrek.sky.document import Camera

BEYOND = 0.999 * math.pi  # corners see past the horizon, and never past the nadir


@inner
def ray(lens, u, v, place, ray):
    """Direction of a place in the frame: as far from the zenith as from the middle."""
    place[0], place[1] = 0.0, 0.0
    a = (2.0 * u - 1.0) * lens.half_width
    b = (1.0 - 2.0 * v) * lens.half_height
    off = math.sqrt(a * a + b * b)
    near = min(off, BEYOND)
    sine = math.sin(near) / max(off, 1e-12)
    for c in range(3):
        ray[c] = math.cos(near) * lens.forward[c] + sine * (a * lens.right[c] + b * lens.up[c])


@inner
def pixel(lens, width, height):
    """Radians of a pixel: the same all over."""
    return 2.0 * lens.half_width / width


def place(lens: Lens, direction: Direction) -> tuple[float, float] | None:
    """Place in the frame of a direction."""
    unit = direction / float(np.linalg.norm(direction))
    off = math.acos(min(max(float(unit @ lens.forward), -1.0), 1.0))
    aside = np.array([float(unit @ lens.right), float(unit @ lens.up)])
    length = float(np.linalg.norm(aside))
    a, b = aside * (off / length) if length > 1e-9 else (0.0, 0.0)
    return 0.5 * (a / lens.half_width + 1.0), 0.5 * (1.0 - b / lens.half_height)


def lens(camera: Camera, frame: Frame) -> Lens:
    """A quarter turn from the middle to the nearer edges."""
    heading = math.radians(camera.heading_deg + frame.centre_deg)
    ahead = np.array([math.sin(heading), math.cos(heading), 0.0])
    right = np.array([math.cos(heading), -math.sin(heading), 0.0])
    half = 0.5 * math.pi
    return Lens(0, UP, right, -ahead, half * max(frame.aspect, 1.0),
                half / min(frame.aspect, 1.0), 0.0)


VIEW = View("fisheye", "Overhead in a circle", ray, pixel, place, lens, lambda camera: 1.0, 1024)
