"""All around: the whole sphere, equirectangular, zenith at the top."""

from __future__ import annotations

import math

import numpy as np

from dovrek.core.compile.kernels import inner
from dovrek.core.geometry.views.view import EAST, NORTH, UP, Direction, Frame, Lens, View
from dovrek.sky.document import Camera


@inner
def ray(lens, u, v, place, ray):
    """Direction of a place in the frame."""
    place[0], place[1] = 0.0, 0.0
    azimuth = lens.centre + (u - 0.5) * 2.0 * math.pi
    elevation = (0.5 - v) * math.pi
    ce = math.cos(elevation)
    ray[0], ray[1], ray[2] = ce * math.sin(azimuth), ce * math.cos(azimuth), math.sin(elevation)


@inner
def pixel(lens, width, height):
    """Radians of a pixel's height."""
    return math.pi / height


def place(lens: Lens, direction: Direction) -> tuple[float, float] | None:
    """Place in the frame of a direction."""
    azimuth = math.atan2(direction[0], direction[1])
    elevation = math.asin(min(max(direction[2] / float(np.linalg.norm(direction)), -1.0), 1.0))
    u = ((azimuth - lens.centre) / (2.0 * math.pi) + 0.5) % 1.0
    return u, 0.5 - elevation / math.pi


def lens(camera: Camera, frame: Frame) -> Lens:
    """The sphere with a bearing in the middle."""
    return Lens(0, NORTH, EAST, UP, math.pi, math.pi / 2, math.radians(frame.centre_deg))


VIEW = View("dome", "All around", ray, pixel, place, lens, lambda camera: 2.0, 2048, joined=True)
