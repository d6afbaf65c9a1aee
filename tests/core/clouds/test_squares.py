"""Clear air between heaps is clear: no ray is led past the edge of a cloud that lies in another
square of the lattice."""

from __future__ import annotations

import math

import numpy as np

from dovrek.core.clouds.density import density
from dovrek.core.clouds.placement.stand import _clear
from dovrek.core.clouds.squares import ENDLESS, known_ahead, known_around
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.scene import Scene
from tests.conftest import free_sun

LOOK_M = 4.0  # along a ray


def scene_of(studio: Studio) -> Scene:
    sky = free_sun(50, layers=[{"id": "a", "genus": "cumulus", "cover_oktas": 2.25, "seed": 4}])
    return studio.prepare(sky, Wish(96, 54, "draft"), Cancel())[0].scene


def test_distances_hold_up_to_the_border_of_a_square(studio: Studio) -> None:
    """From 30000 random places in clear air along level rays: without the border some distances
    lead into cloud, with it none does."""
    scene = scene_of(studio)
    draw = np.random.default_rng(8)
    wrong_alone = wrong = tried = 0
    for _ in range(30_000):
        x, y = draw.uniform(-20e3, 20e3, 2)
        z, bearing = draw.uniform(100.0, 500.0), draw.uniform(0.0, 2.0 * math.pi)
        dx, dy = math.sin(bearing), math.cos(bearing)
        clear, _ = density(scene.field, 0, x, y, z, 1.0, 0.0)
        if clear > -200.0:
            continue
        known = known_ahead(scene.field, 0, x, y, dx, dy)
        if known > -0.9 * clear:
            continue
        tried += 1
        for t in np.arange(LOOK_M, -0.9 * clear, LOOK_M):
            f, _ = density(scene.field, 0, x + t * dx, y + t * dy, z, 1.0, 0.0)
            if f > 0.0:
                wrong_alone += 1
                wrong += t < known
                break
    assert tried > 100 and wrong_alone > 0 and wrong == 0


def test_around_is_the_least_of_ahead(studio: Studio) -> None:
    scene, draw = scene_of(studio), np.random.default_rng(3)
    met = 0
    for _ in range(300):
        x, y = draw.uniform(-20e3, 20e3, 2)
        around = known_around(scene.field, 0, x, y)
        ways = [known_ahead(scene.field, 0, x, y, math.sin(a), math.cos(a))
                for a in np.radians(np.arange(0.0, 360.0, 90.0))]
        if around < ENDLESS:
            met += 1
            assert min(ways) == around
        else:
            assert min(ways) == ENDLESS
    assert met > 50


def test_rings_about_squares_with_members_go_around_the_torus() -> None:
    """Against every pair of squares, by the larger of the ways east and north."""
    draw = np.random.default_rng(3)
    for n, share in ((6, 0.03), (31, 0.002), (40, 0.01), (24, 0.3), (9, 0.0)):
        counts = (draw.random(n * n) < share).astype(np.int32)
        if share and not counts.any():
            counts[n * n - 3] = 1
        found = np.empty(n * n, dtype=np.float32)
        _clear(counts, 50.0, np.empty((n, n), dtype=np.float32), found)
        i, j = np.divmod(np.arange(n * n), n)

        def apart(a: np.ndarray, n: int = n) -> np.ndarray:
            way = np.abs(a[:, None] - a[None, :])
            return np.minimum(way, n - way)

        rings = np.maximum(apart(i), apart(j))[:, counts > 0].min(axis=1, initial=n)
        wanted = np.where(rings == 0, 0.0, np.maximum((rings - 1) * 50.0, 1.0))
        np.testing.assert_allclose(found, wanted, rtol=1e-6)
