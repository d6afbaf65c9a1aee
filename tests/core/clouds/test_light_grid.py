"""The light grid alone, on bodies whose light is known."""

from __future__ import annotations

import math

import numpy as np
import pytest
from numpy.typing import NDArray

from dovrek.core.clouds.light.couplings import _fill_hollows
from dovrek.core.clouds.light.grid import GridShape
from dovrek.core.clouds.light.solve import clear_below, solve_sky, solve_sun
from dovrek.core.clouds.light.sweep import sweep_depth, sweep_sheet
from dovrek.core.clouds.phase import DROPLETS
from dovrek.core.run.workers import Cancelled

N, NZ, DX, DZ = 24, 22, 100.0, 50.0
SHAPE = GridShape(N, NZ, 1, DX, DZ, -DZ, 1e5)
NONE, STOP = np.zeros(1, dtype=np.uint8), np.ones(1, dtype=np.uint8)
SIGMA = 0.02  # 1/m
CORE = slice(8, 16)  # columns far from the grid's rim


def even() -> NDArray[np.float32]:
    """A level slab of 20 cells between clear planes, (1, N, N, NZ)."""
    sigma = np.zeros((1, N, N, NZ), dtype=np.float32)
    sigma[..., 1:-1] = SIGMA
    return sigma


def lumpy(depth: int = 8) -> NDArray[np.float32]:
    """The same slab, every second row of columns cut away up to `depth` cells from below."""
    sigma = even()
    sigma[:, ::2, :, : 1 + depth] = 0.0
    return sigma


def sun(height: float) -> tuple[float, float, float]:
    e = math.radians(height)
    return math.cos(e), 0.0, math.sin(e)


def depths(sigma: NDArray[np.float32], height: float, sheet: bool) -> NDArray[np.float32]:
    out = np.zeros_like(sigma)
    sweep = sweep_sheet if sheet else sweep_depth
    sweep(sigma, SHAPE, *sun(height), NONE, out, np.zeros_like(sigma[0]))
    return out


@pytest.mark.parametrize(("height", "sheet"), [(80, True), (40, True), (15, True), (80, False),
                                               (40, False)])
def test_depth_toward_the_sun_through_an_even_slab(height: float, sheet: bool) -> None:
    """σ · way, way = depth below the face over the sine of the sun's height (geometry)."""
    found = depths(even(), height, sheet)[0, CORE, CORE, 1:-1].mean(axis=(0, 1))
    below = (np.arange(NZ - 2)[::-1] + 0.5) * DZ
    true = SIGMA * below / math.sin(math.radians(height))
    assert found[-4:] == pytest.approx(true[-4:], rel=0.08, abs=0.4)
    assert np.all(np.diff(found) < 0.0)


def test_sky_and_ground_share_an_even_slab_alike() -> None:
    """With unit light from above alone, cells as far from the upper face as others from the lower
    share it with them: J(z) + J(H − z) = 1, for the slab absorbs nothing."""
    share = solve_sky(even(), SHAPE, (120, 120), True, NONE)[0, CORE, CORE, 1:-1].mean(axis=(0, 1))
    assert share + share[::-1] == pytest.approx(1.0, abs=0.01)
    assert np.all(np.diff(share) > 0.0) and share[0] < 0.25 < 0.75 < share[-1]


@pytest.mark.parametrize("height", [70, 35])
def test_light_flows_through_an_even_slab_undiminished(height: float) -> None:
    """Droplets absorb nothing, so beam and diffuse flux together are the same at every depth."""
    depth = depths(even(), height, True)
    light = solve_sun(even(), depth, SHAPE, sun(height), (160, 160), False, NONE)[0, CORE, CORE]
    mu = math.sin(math.radians(height))
    diffuse = -light[..., 1:-1, 3].mean(axis=(0, 1)) * 4.0 * math.pi  # kept over 4π, upward
    beam = mu * np.exp(-DROPLETS.k_scaled * depth[0, CORE, CORE, 1:-1]).mean(axis=(0, 1))
    flow = (beam + diffuse)[2:-2]
    assert flow == pytest.approx(flow.mean(), rel=0.08)
    assert 0.05 < flow.mean() < mu


def filled(sigma: NDArray[np.float32], climb: float) -> NDArray[np.float32]:
    out = np.empty_like(sigma)
    edges = (np.empty((N, N), dtype=np.float32) for _ in range(2))
    _fill_hollows(sigma, clear_below(sigma), 1e-3, climb, *edges, out)
    return out


def test_hollows_are_filled_and_clouds_left_alone() -> None:
    """Narrow hollows steeper than the line that closes them are filled as far as it runs; an even
    slab, flat hollows and wide gaps stay as they are."""
    assert np.array_equal(filled(even()[0], 2.0), even()[0])
    cut = lumpy(8)[0]
    found = filled(cut, 2.0)
    cloud = cut > 0.0
    assert np.array_equal(found[cloud], cut[cloud])
    assert np.all(found[2, 5, 3:9] == np.float32(1e-3))  # two cells of climb are left open
    assert not found[2, 5, :3].any() and not found[..., 0].any()
    assert np.array_equal(filled(cut, 30.0), cut)  # a steep line closes nothing
    gap = even()[0]
    gap[6:18] = 0.0
    assert not filled(gap, 3.0)[12].any()  # 12 columns wide, 20 cells high: it stays open


def test_hollows_below_take_no_light_from_the_sky() -> None:
    """Sides of lumps under a deep sheet see each other, not the sky: they share its light no more
    than the sheet does at their height, and lose no more than they take."""
    sigma = lumpy(8)
    whole = solve_sky(even(), SHAPE, (120, 120), True, NONE)[0]
    share = solve_sky(sigma, SHAPE, (120, 120), True, NONE)[0]
    sides = share[9:16:2, CORE, 2:8].mean(axis=(0, 1))
    assert np.all(sides < whole[9:16:2, CORE, 2:8].mean(axis=(0, 1)) + 0.03)
    top = [s[CORE, CORE, -3].mean() for s in (whole, share)]
    assert top[1] == pytest.approx(top[0], abs=0.03)  # hollows below hardly dim the top


@pytest.mark.parametrize("sheet", [True, False])
def test_light_is_never_negative_nor_unbounded(sheet: bool) -> None:
    """Noise of cells, clear ones among them, at a low sun."""
    sigma = np.random.default_rng(5).uniform(-0.03, 0.05, (1, N, N, NZ)).astype(np.float32)
    sigma = np.maximum(sigma, 0.0)
    light = solve_sun(sigma, depths(sigma, 6, False), SHAPE, sun(6), (20, 20), sheet, NONE)
    share = solve_sky(sigma, SHAPE, (20, 20), sheet, NONE)
    for found in (light, share):
        assert np.all(np.isfinite(found))
    assert light[..., 0].min() >= 0.0 and light[..., 0].max() < 1.0
    assert share.min() > -0.05 and share.max() < 1.3  # over-relaxed; the march bounds it


def test_a_solve_stops_when_told() -> None:
    with pytest.raises(Cancelled):
        solve_sky(even(), SHAPE, (50, 50), True, STOP)
    with pytest.raises(Cancelled):
        solve_sun(even(), np.zeros_like(even()), SHAPE, sun(40), (50, 50), True, STOP)
