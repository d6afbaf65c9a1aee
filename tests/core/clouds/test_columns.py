"""Columns: what is looked up once for all heights says what a look at each height says, and a
light grid holds as much cloud on its coarse levels as on its fine ones."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from dovrek.core.clouds.builds import BUILDS, PLANNED
from dovrek.core.clouds.density import density, density_on, planned
from dovrek.core.clouds.light.grid import fill_from_finer, finer_part
from dovrek.core.compile.kernels import kernel
from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.fineness import FINE, SKETCH
from dovrek.core.prepare.lighting import extinction_node
from dovrek.core.run.workers import Cancel
from tests.conftest import sky_of

HEIGHTS = np.linspace(-0.1, 1.1, 40)


@kernel
def _columns(field, x, y, z, footprint, out):  # type: ignore[no-untyped-def]
    """(columns, heights, 4): distance and extinction by themselves, and with the column's plan."""
    for i in range(len(x)):
        plan = planned(field, 0, x[i], y[i], footprint)
        for k in range(len(z)):
            out[i, k, 0], out[i, k, 1] = density(field, 0, x[i], y[i], z[k], footprint, 0.0)
            out[i, k, 2], out[i, k, 3] = density_on(field, 0, x[i], y[i], z[k], plan, footprint,
                                                    0.0)


STORM = {"stands": True, "sea": 0.6, "shield": 0.7}
LAYERS: dict[str, dict[str, Any]] = {
    "heaps": {"genus": "cumulus"},
    "old heaps": {"genus": "cumulus", "life": {"stage": 0.8}},
    "masked heaps": {"genus": "cumulus", "region": {"side": "inside", "size_km": 20.0}},
    "leaning heaps": {"genus": "cumulus", "wind": {"slant": 0.6}},
    "cells": {"genus": "stratocumulus"}, "rolls": {"genus": "altocumulus", "rows": {"share": 0.8}},
    "sheet": {"genus": "altostratus", "cover_oktas": 5},
    "raining sheet": {"genus": "nimbostratus", "fall": {"amount": 0.7}},
    "veil": {"genus": "cirrus"},
    "storm": {"genus": "cumulonimbus", "base_m": 600, "thickness_m": 13_000, "cyclone": STORM},
    "face": {"genus": "stratocumulus", "systems": {"stands": True}},
}


@pytest.mark.parametrize("name", LAYERS)
def test_a_column_with_its_plan_is_the_column(name: str, studio: Studio) -> None:
    """Extinctions are the same; where it is clear, a plan leads no farther."""
    sky = sky_of(layers=[{"id": "a", **LAYERS[name]}])
    layer = sky.layers[0]
    body = studio.preparer.body(sky, layer, SKETCH, Cancel())
    places = np.random.default_rng(3).uniform(-1.0, 1.0, (2, 600))
    x, y = places * (4e5 if name in ("storm", "face") else 12_000.0)
    z = HEIGHTS * layer.thickness_m
    for footprint in (0.0, 60.0):
        out = np.empty((len(x), len(z), 4))
        _columns(body.field, x, y, z, footprint, out)
        own, on_plan = out[..., 1], out[..., 3]
        assert own.max() > 0.0 and np.allclose(on_plan, own, rtol=1e-9, atol=1e-12)
        clear = out[..., 0] < 0.0
        assert np.array_equal(out[..., 2] < 0.0, clear)
        # A plan may know less of how far it is, never more.
        assert np.all(out[..., 2][clear] >= out[..., 0][clear] - 1e-6)


def test_builds_with_a_plan_come_first() -> None:
    """Kernels tell by a build's place whether it has one."""
    assert [b.plan is not None for b in BUILDS] == [k < PLANNED for k in range(len(BUILDS))]
    assert all((b.plan is None) == (b.on_plan is None) for b in BUILDS)


@pytest.mark.parametrize("n", [24, 27, 36, 96, 128])
def test_a_level_takes_its_middle_from_the_finer_one(n: int) -> None:
    """A cell is the mean of the nine that lie in it: a slope over the ground stays that slope."""
    first, last = finer_part(n)
    across = np.arange(n) + 0.5 - 0.5 * n
    finer = (across[:, None, None] + 2.0 * across[None, :, None]
             + np.zeros(2)[None, None, :]).astype(np.float32)
    out = np.full((n, n, 2), np.nan, dtype=np.float32)
    fill_from_finer(finer, out)
    known = slice(first, last)
    wanted = 3.0 * (across[:, None] + 2.0 * across[None, :])
    assert np.allclose(out[known, known, 0], wanted[known, known], atol=1e-3)
    assert np.isnan(out).sum() == 2 * (n * n - (last - first) ** 2)
    assert 3 * first - n >= 0 and 3 * (last - 1) - n + 2 < n and last - first >= n // 3 - 1


@pytest.mark.parametrize("genus", ["cumulus", "stratocumulus", "altocumulus", "cirrus"])
def test_coarse_levels_hold_as_much_cloud_as_fine_ones(genus: str, studio: Studio) -> None:
    """Beyond the finer level, what a level's own looks find is what fine ones would: by cells of
    a genus spread evenly over the land, within what chance leaves."""
    sky = sky_of(layers=[{"genus": genus, "id": "a", "cover_oktas": 5}])
    body = studio.preparer.body(sky, sky.layers[0], FINE, Cancel())
    sigma = studio.preparer.all([extinction_node(body, FINE)], Cancel())[0]
    within = [level for level in range(1, body.grid.levels)
              if 0.5 * body.grid.n * body.grid.dx * 3.0**level < body.grid.range_m]
    means = [float(sigma[level].mean()) for level in within]
    assert len(means) > 1 and max(means) < 1.2 * min(means)
