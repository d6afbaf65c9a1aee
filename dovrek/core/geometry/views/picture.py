"""Through the lens: a rectilinear picture."""

from __future__ import annotations

import math

import numpy as np

from dovrek.core.compile.kernels import inner
from dovrek.core.geometry.views.view import Direction, Frame, Lens, View
from dovrek.sky.document import Camera


@inner
def ray(lens, u, v, place, ray):
    """Direction of a place in the frame."""
    place[0], place[1] = 0.0, 0.0
    a = (2.0 * u - 1.0) * lens.half_width
    b = (1.0 - 2.0 * v) * lens.half_height
    norm = 1.0 / math.sqrt(1.0 + a * a + b * b)
    for c in range(3):
        ray[c] = (lens.forward[c] + a * lens.right[c] + b * lens.up[c]) * norm


@inner
def pixel(lens, width, height):
    """Radians of a pixel in the middle."""
    return 2.0 * lens.half_width / width


def place(lens: Lens, direction: Direction) -> tuple[float, float] | None:
    """Place in the frame of a direction; None behind the lens."""
    ahead = float(direction @ lens.forward)
    if ahead <= 1e-6:
        return None
    a = float(direction @ lens.right) / ahead / lens.half_width
    b = float(direction @ lens.up) / ahead / lens.half_height
    return 0.5 * (a + 1.0), 0.5 * (1.0 - b)


def lens(camera: Camera, frame: Frame) -> Lens:
    """The camera's own lens, its width of view held whatever the aspect."""
    heading, pitch = math.radians(camera.heading_deg), math.radians(camera.pitch_deg)
    roll = math.radians(camera.roll_deg)
    forward = np.array([math.cos(pitch) * math.sin(heading), math.cos(pitch) * math.cos(heading),
                        math.sin(pitch)])
    right = np.array([math.cos(heading), -math.sin(heading), 0.0])
    up = np.cross(right, forward)
    turned_right = math.cos(roll) * right - math.sin(roll) * up
    turned_up = math.sin(roll) * right + math.cos(roll) * up
    half = math.tan(0.5 * camera.fov_h_rad)
    return Lens(0, forward, turned_right, turned_up, half, half / frame.aspect, 0.0)


VIEW = View("picture", "Through the lens", ray, pixel, place, lens,
            lambda camera: camera.aspect, 960, turned=True)
