"""Sun and moon as lights of their own, beside a dome without them."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.sources import sources
from dovrek.core.air.sun_place import Place
from dovrek.core.picture.probe import direct_normal
from dovrek.core.prepare.preparer import Prepared
from dovrek.core.transport.march import ray_depth
from dovrek.sky.document import Sky


class Beam(NamedTuple):
    """Light from one direction: a disc of a width, and what it gives on a plane turned to it."""

    name: str
    place: Place
    diameter_rad: float
    xyz_lux: tuple[float, float, float]  # as it comes through the clouds to the camera's foot

    @property
    def lux(self) -> float:
        return self.xyz_lux[1]


def with_discs(light: NDArray[np.float32], beams: Iterable[Beam], centre_rad: float = 0.0,
               first: int = 0, height: int = 0) -> NDArray[np.float32]:
    """Dome light (h, w, ≥3) with the beams' discs in it: however few pixels a disc has, what it
    gives on a plane turned to it is the beam's. `light` may be some rows from `first` on of a dome
    of a height."""
    count, width = light.shape[:2]
    height = height or count
    out = light.copy()
    for beam in beams:
        radius, place = 0.5 * beam.diameter_rad, beam.place
        top = int((0.5 - (place.elevation + radius) / math.pi) * height) - 1
        low = int((0.5 - (place.elevation - radius) / math.pi) * height) + 2
        rows = np.arange(max(top, 0), min(low, height))
        # Looks within a pixel, about thirty across the disc.
        fine = max(int(math.ceil(30.0 * math.pi / height / beam.diameter_rad)), 4)
        fine = min(fine, 64)
        y = (rows[:, None] * fine + np.arange(fine) + 0.5).ravel() / fine
        elevation = (0.5 - y / height) * math.pi
        half = radius / max(math.cos(place.elevation), 0.02)
        middle = ((place.azimuth - centre_rad) / (2.0 * math.pi) + 0.5) % 1.0 * width
        across = min(int(half / (2.0 * math.pi) * width) + 2, width // 2)
        columns = np.arange(int(middle) - across, int(middle) + across + 1)
        x = (columns[:, None] * fine + np.arange(fine) + 0.5).ravel() / fine
        azimuth = centre_rad + (x / width - 0.5) * 2.0 * math.pi
        apart = np.arccos(np.clip(
            np.sin(elevation)[:, None] * math.sin(place.elevation)
            + np.cos(elevation)[:, None] * math.cos(place.elevation)
            * np.cos(azimuth - place.azimuth)[None, :], -1.0, 1.0))
        inside = (apart < radius) * np.cos(elevation)[:, None]
        share = inside.reshape(len(rows), fine, len(columns), fine).sum(axis=(1, 3))
        share = share / share.sum()
        solid = np.cos((0.5 - (rows + 0.5) / height) * math.pi) * (
            2.0 * math.pi / width) * (math.pi / height)
        added = share[:, :, None] / solid[:, None, None] * np.array(beam.xyz_lux)
        here = (rows >= first) & (rows < first + count)
        for k, column in enumerate(columns):
            out[rows[here] - first, column % width, :3] += added[here, k].astype(np.float32)
    return out


def beams_of(sky: Sky, prepared: Prepared) -> list[Beam]:
    """The beams of a sky at the camera: of the sun, and at night of the moon."""
    found = []
    for k, (source, light) in enumerate(zip(sources(sky), prepared.lights, strict=False)):
        vector = source.place.vector
        if vector[2] <= 0.0:
            continue
        scene = light.scene
        normal = direct_normal(light, source.place, sky.camera.altitude_m)
        depth = ray_depth(scene.field, scene.radius, scene.height, *vector, 0.5, 0.5,
                          scene.clear.air_far_m)
        x, y, z = (float(n * w) * math.exp(-depth) for n, w in
                   zip(normal, source.weight, strict=True))
        sun = k == 0 and source.lit >= 1.0
        found.append(Beam("sun" if sun else "moon", source.place, 2.0 * source.radius, (x, y, z)))
    return found
