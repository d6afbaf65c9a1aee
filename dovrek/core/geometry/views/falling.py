"""Rays to where light comes from that falls on level ground: none that an artist looks through."""

from __future__ import annotations

import math

from dovrek.core.compile.kernels import inner
from dovrek.core.compile.noise import hash_unit
from dovrek.core.geometry.views.view import EAST, NORTH, UP, Direction, Frame, Lens, View
from dovrek.sky.document import Camera

FALLING_RAD = 0.03  # as wide as a ray of falling light is taken
AUREOLE_RAD = math.radians(12.0)  # light that falls from nearer to the sun counts as the sun's
AUREOLE = math.cos(AUREOLE_RAD)


@inner
def _beside(light, ray):
    """Turn a ray that ends in the aureole out to its rim, if it stays above the horizon there."""
    cosine = ray[0] * light[0] + ray[1] * light[1] + ray[2] * light[2]
    if light[2] <= 0.0 or not AUREOLE < cosine < 1.0 - 1e-9:
        return
    across = math.sqrt(1.0 - cosine * cosine)
    out = math.sqrt(1.0 - AUREOLE * AUREOLE)
    up = AUREOLE * light[2] + out * (ray[2] - cosine * light[2]) / across
    if up > 0.0:
        for c in range(3):
            ray[c] = AUREOLE * light[c] + out * (ray[c] - cosine * light[c]) / across


@inner
def ray(lens, u, v, place, ray):
    """A place about the camera and a direction, so that every ray stands for an equal part of the
    illuminance of an even sky; rays that would end in the sun's aureole end beside it."""
    row, column = int(u * 4096.0), int(v * 4096.0)
    place[0] = (2.0 * hash_unit(row, column, 1) - 1.0) * lens.half_width
    place[1] = (2.0 * hash_unit(row, column, 2) - 1.0) * lens.half_height
    azimuth, sine = 2.0 * math.pi * u, math.sqrt(v)
    ray[0], ray[1] = sine * math.sin(azimuth), sine * math.cos(azimuth)
    ray[2] = math.sqrt(max(1.0 - v, 0.0))
    _beside(lens.forward, ray)


@inner
def pixel(lens, width, height):
    """Radians of a ray."""
    return FALLING_RAD


def place(lens: Lens, direction: Direction) -> tuple[float, float] | None:
    """None: directions lie here and there."""
    return None


def lens(camera: Camera, frame: Frame) -> Lens:
    """Rays about the camera's foot; the sun stands overhead unless `forward` is replaced."""
    half = 0.5 * frame.extent_m
    return Lens(0, UP, EAST, NORTH, half, half, 0.0)


VIEW = View("", "Falling light", ray, pixel, place, lens, lambda camera: 1.0, 16)
