"""A homogeneous slab: the case that plane-parallel theory knows exactly.

Shared by the accuracy table and the tests. Nothing but a cloud layer of even extinction over
black ground, flat and without air, lit by a sun of unit irradiance.
"""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np

from dovrek.core.clouds.phase import DROPLETS
from dovrek.core.compile.kernels import solver
from dovrek.core.geometry.lens import dome_lens
from dovrek.core.picture.render import QUALITIES, render_frame
from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.fineness import FINE
from dovrek.core.prepare.preparer import Prepared
from dovrek.core.run.workers import Cancel
from dovrek.core.transport import paths as walking
from dovrek.core.transport import reference
from dovrek.core.transport.reference import trace_frame, tracing_of
from dovrek.core.transport.sample import ALPHA
from dovrek.core.transport.scene import GROUND
from dovrek.core.transport.scratch import PATH, SPANS
from dovrek.sky.reading import sky_from_data

FLAT_M = 1e10  # a radius that leaves no curvature and still resolves micrometres
BASE_M, THICK_M = 1000.0, 500.0
STREAMS = 48


def slab(studio: Studio, depth: float, sun_deg: float) -> Prepared:
    """Scene of a slab of an optical depth under a sun."""
    sky = sky_from_data({
        "dovrek": 1, "sun": {"mode": "free", "elevation_deg": sun_deg, "azimuth_deg": 180},
        "layers": [{"genus": "stratus", "id": "slab", "cover_oktas": 8, "base_m": BASE_M,
                    "thickness_m": THICK_M,
                    "body": {"density_per_km": depth / THICK_M * 1e3}}]})
    even = sky.layers[0].model_copy(update={"genus": "slab"})
    prepared = studio.preparer.scene(sky.model_copy(update={"layers": [even]}), FINE, Cancel())
    scene = prepared.scene
    clear = scene.clear._replace(sky=np.full_like(scene.clear.sky, -80.0),
                                 air=np.zeros_like(scene.clear.air))
    clear.air[..., 6:] = 1.0
    sun = math.radians(sun_deg)
    body = scene.sun.copy()
    body["direction"] = 0.0, -math.cos(sun), math.sin(sun)
    bare = scene._replace(
        clear=clear, sunlight=np.ones_like(scene.sunlight), radius=FLAT_M,
        ambient=np.zeros_like(scene.ambient), ground=np.zeros(1, GROUND)[0], sun=body)
    return replace(prepared, scene=bare)


def _flux(frame: Any, up: bool) -> float:
    """Cosine-weighted integral over the upper or lower half of a dome."""
    height, width = frame.shape
    edges = np.linspace(0.5 * math.pi, -0.5 * math.pi, height + 1)
    top, bottom = edges[:-1], edges[1:]
    weight = 0.5 * np.abs(np.sin(top) ** 2 - np.sin(bottom) ** 2) * 2.0 * math.pi / width
    half = slice(0, height // 2) if up else slice(height // 2, None)
    return float(np.sum(frame[half].astype(np.float64) * weight[half, None]))


def fluxes(studio: Studio, depth: float, sun_deg: float, paths: int = 0,
           size: tuple[int, int] = (192, 96)) -> tuple[float, float]:
    """Reflectance and transmittance by the march, or by `paths` traced paths a pixel."""
    prepared = slab(studio, depth, sun_deg)
    mu = math.sin(math.radians(sun_deg))
    found = []
    for height, up in ((4000.0, False), (2.0, True)):
        seen = replace(prepared, scene=prepared.scene._replace(height=height))
        if paths:
            view = prepared.scene.clear
            tracing = tracing_of([view, view], sky=False)
            frame, _ = trace_frame(seen.scene, tracing, dome_lens(), size, paths, studio.workers,
                                   Cancel())
        else:
            every = replace(QUALITIES["final"], samples=2, spread=0.0)
            frame = render_frame(seen, dome_lens(), size, every, studio.workers, Cancel(), False)
        found.append(_flux(frame[..., 1], up) / mu)
        assert np.all(frame[..., ALPHA] >= 0)
    return found[0], found[1] + math.exp(-depth / mu)


@solver
def _photons(scene, count, seed, top):
    """Shares of photons from the sun that leave an even slab upward and downward."""
    at, ray = np.empty(3), np.empty(3)
    state = np.empty(1, dtype=np.uint64)
    state[0] = np.uint64(seed)
    up, down = 0, 0
    paths, all_spans = np.zeros(1, PATH), np.zeros(1, SPANS)
    for _ in range(count):
        for k in range(3):
            ray[k] = -scene.sun.direction[k]
        at[0], at[1], at[2] = 0.0, 0.0, top + 1.0
        while True:
            t = reference._flight(scene, at, ray, 1e9, 0, state, paths[0], all_spans[0])
            if t < 0.0:
                break
            for k in range(3):
                at[k] += t * ray[k]
            walking.turn_by(scene.lobes[0], ray, state)
        if ray[2] > 0.0:
            up += 1
        else:
            down += 1
    return up / count, down / count


def photons(studio: Studio, depth: float, sun_deg: float, count: int) -> tuple[float, float]:
    """Reflectance and transmittance by following photons from the sun (free flights and turns
    of the path tracer alone)."""
    scene = slab(studio, depth, sun_deg).scene
    return _photons(scene, count, 11, BASE_M + THICK_M)


def exact(depth: float, sun_deg: float) -> tuple[float, float]:
    """Reflectance and transmittance by discrete ordinates. Source: Stamnes et al. 1988."""
    from PythonicDISORT.pydisort import pydisort

    moments = np.sum([w * g ** np.arange(400) for w, g in DROPLETS.lobes], axis=0)
    mu = math.sin(math.radians(sun_deg))
    _, up, down, *_ = pydisort(np.array([depth]), np.array([1.0 - 1e-9]), STREAMS,
                               moments[None, :], mu, 1.0, 0.0, only_flux=True,
                               f_arr=np.array([moments[STREAMS]]))
    return float(up(0.0)) / mu, float(sum(down(depth))) / mu
