"""From pixels to rays: a rectilinear lens, the whole dome, a plan from above, light that falls."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.kernels import inner, kernel
from dovrek.core.noise import hash_unit
from dovrek.sky.document import Camera

PICTURE, DOME, PLAN, FALLING = 0, 1, 2, 3
FALLING_RAD = 0.03  # as wide as a ray of falling light is taken
AUREOLE_RAD = math.radians(12.0)  # light that falls from nearer to the sun counts as the sun's
AUREOLE = math.cos(AUREOLE_RAD)
HIGH_SINE = math.sin(math.radians(70.0))


class Lens(NamedTuple):
    """From pixels to directions (and, for a plan, places)."""

    projection: int
    forward: NDArray[np.float64]
    right: NDArray[np.float64]
    up: NDArray[np.float64]
    half_width: float  # tangent of half the angle of view; metres for a plan
    half_height: float
    centre: float  # azimuth of a dome's middle column, radians


def picture_lens(camera: Camera, aspect: float | None = None) -> Lens:
    """The rectilinear lens of a camera; `aspect` overrides the document's (width held)."""
    heading, pitch = math.radians(camera.heading_deg), math.radians(camera.pitch_deg)
    roll = math.radians(camera.roll_deg)
    forward = np.array([math.cos(pitch) * math.sin(heading), math.cos(pitch) * math.cos(heading),
                        math.sin(pitch)])
    right = np.array([math.cos(heading), -math.sin(heading), 0.0])
    up = np.cross(right, forward)
    turned_right = math.cos(roll) * right - math.sin(roll) * up
    turned_up = math.sin(roll) * right + math.cos(roll) * up
    half = math.tan(0.5 * camera.fov_h_rad)
    return Lens(0, forward, turned_right, turned_up, half, half / (aspect or camera.aspect), 0.0)


def dome_lens(centre_deg: float = 0.0) -> Lens:
    """The whole sphere, equirectangular, zenith at the top."""
    axis = np.array([0.0, 1.0, 0.0])
    return Lens(1, axis, np.array([1.0, 0.0, 0.0]), np.array([0.0, 0.0, 1.0]), math.pi,
                math.pi / 2, math.radians(centre_deg))


def plan_lens(extent_m: float, aspect: float = 1.0) -> Lens:
    """A level plan, north up, `extent_m` across, centred on the camera's ground point."""
    half = 0.5 * extent_m
    return Lens(PLAN, np.array([0.0, 0.0, -1.0]), np.array([1.0, 0.0, 0.0]),
                np.array([0.0, 1.0, 0.0]), half, half / aspect, 0.0)


def falling_lens(extent_m: float, light: NDArray[np.float64]) -> Lens:
    """Rays to where light comes from that falls on level ground, `extent_m` across about the
    camera: every ray stands for an equal part of the illuminance of an even sky, and starts at a
    place of its own. `light` (3,) points to the sun; rays that would end in its aureole end beside
    it."""
    half = 0.5 * extent_m
    return Lens(FALLING, light, np.array([1.0, 0.0, 0.0]), np.array([0.0, 1.0, 0.0]), half, half,
                0.0)


@kernel
def pixel_size(lens, width, height):
    """Angle of a pixel (radians), or its width in metres on a plan."""
    if lens.projection == DOME:
        return math.pi / height
    if lens.projection == FALLING:
        return FALLING_RAD
    return 2.0 * lens.half_width / width


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


@kernel
def ray_of(lens, u, v, place, ray):
    """Start (east, north: m) and unit direction (east, north, up) of a place in the frame, u and
    v from 0 to 1 rightward and downward."""
    place[0], place[1] = 0.0, 0.0
    if lens.projection == DOME:
        azimuth = lens.centre + (u - 0.5) * 2.0 * math.pi
        elevation = (0.5 - v) * math.pi
        ce = math.cos(elevation)
        ray[0], ray[1], ray[2] = ce * math.sin(azimuth), ce * math.cos(azimuth), math.sin(elevation)
        return
    if lens.projection == FALLING:
        row, column = int(u * 4096.0), int(v * 4096.0)
        place[0] = (2.0 * hash_unit(row, column, 1) - 1.0) * lens.half_width
        place[1] = (2.0 * hash_unit(row, column, 2) - 1.0) * lens.half_height
        azimuth, sine = 2.0 * math.pi * u, math.sqrt(v)
        ray[0], ray[1] = sine * math.sin(azimuth), sine * math.cos(azimuth)
        ray[2] = math.sqrt(max(1.0 - v, 0.0))
        _beside(lens.forward, ray)
        return
    a = (2.0 * u - 1.0) * lens.half_width
    b = (1.0 - 2.0 * v) * lens.half_height
    if lens.projection == PLAN:
        place[0], place[1] = a, b
        ray[0], ray[1], ray[2] = 0.0, 0.0, -1.0
        return
    norm = 1.0 / math.sqrt(1.0 + a * a + b * b)
    for c in range(3):
        ray[c] = (lens.forward[c] + a * lens.right[c] + b * lens.up[c]) * norm


def bearings_of(lens: Lens) -> tuple[float, float] | None:
    """Bearings that a picture sees: the middle and half of their range, radians; None when it sees
    more than half of the compass, as a dome, a plan and a view up high do."""
    if lens.projection != PICTURE:
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
    """Place in the frame (u, v from 0 to 1 inside it) of a direction; None behind the lens.

    The inverse of `ray_of`; a plan, which has no directions of its own, gives None.
    """
    if lens.projection == DOME:
        azimuth = math.atan2(direction[0], direction[1])
        elevation = math.asin(min(max(direction[2] / float(np.linalg.norm(direction)), -1.0), 1.0))
        u = ((azimuth - lens.centre) / (2.0 * math.pi) + 0.5) % 1.0
        return u, 0.5 - elevation / math.pi
    ahead = float(direction @ lens.forward)
    if lens.projection == PLAN or ahead <= 1e-6:
        return None
    a = float(direction @ lens.right) / ahead / lens.half_width
    b = float(direction @ lens.up) / ahead / lens.half_height
    return 0.5 * (a + 1.0), 0.5 * (1.0 - b)
