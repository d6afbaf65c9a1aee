"""What a dome and its beams give on ground and walls."""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

Vector = tuple[float, float, float]

FACES: dict[str, Vector] = {  # planes by where they look
    "ground": (0.0, 0.0, 1.0), "north wall": (0.0, 1.0, 0.0), "east wall": (1.0, 0.0, 0.0),
    "south wall": (0.0, -1.0, 0.0), "west wall": (-1.0, 0.0, 0.0),
}


def directions(width: int, height: int, centre_rad: float = 0.0
               ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Unit vectors (h, w, 3) of a dome's pixels, x east, y north, z up, and their solid angles
    (h,): row 0 is the zenith, the bearing `centre_rad` stands in the middle."""
    azimuth = centre_rad + ((np.arange(width) + 0.5) / width - 0.5) * 2.0 * math.pi
    elevation = (0.5 - (np.arange(height) + 0.5) / height) * math.pi
    flat = np.cos(elevation)[:, None]
    found = np.stack([flat * np.sin(azimuth), flat * np.cos(azimuth),
                      np.broadcast_to(np.sin(elevation)[:, None], (height, width))], axis=2)
    edges = (0.5 - np.arange(height + 1) / height) * math.pi
    return found, (np.sin(edges[:-1]) - np.sin(edges[1:])) * 2.0 * math.pi / width


def face_lux(luminance: NDArray[np.float32], normal: Vector, centre_rad: float = 0.0) -> float:
    """Illuminance (lx) of a plane by a dome of luminance (h, w) in cd/m², by its solid angles: of
    the ground by the upper half, of walls by what lies before them, ground included."""
    total = 0.0
    height, width = luminance.shape
    vectors, solid = directions(width, height, centre_rad)
    for row in range(height):  # by rows: a large dome's vectors are many
        cosine = np.maximum(vectors[row] @ np.array(normal), 0.0)
        total += float(solid[row] * (cosine @ luminance[row].astype(np.float64)))
    return total


def beams_lux(beams: Iterable[tuple[Vector, float]], normal: Vector) -> float:
    """Illuminance (lx) of a plane by beams: directions they come from, and what each gives on a
    plane turned to it."""
    return sum(lux * max(float(np.dot(vector, normal)), 0.0) for vector, lux in beams)
