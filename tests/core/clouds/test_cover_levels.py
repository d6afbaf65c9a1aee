"""The level of growth at which heaps cover as much as is asked: by search, held against the
plain definition.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
import pytest

from dovrek.core.clouds.placement import cover as by
from dovrek.core.clouds.placement.deal import CellParameters, deal_cells, lattice_of
from dovrek.core.clouds.placement.stand import Life, stand_cells
from dovrek.core.clouds.record import EVAPORATES
from dovrek.core.clouds.shapes import ShapeParameters, Shapes, build_shapes
from dovrek.core.prepare.heaped import NOMINAL_RADIUS

SIZE = 1500.0
COVERS = (0.02, 0.2, 0.5, 0.8, 0.95, 1.0)


def run(f: Callable[[int, int], None], count: int) -> None:
    f(0, count)


@pytest.fixture(scope="module")
def shapes() -> Shapes:
    return build_shapes(
        ShapeParameters(NOMINAL_RADIUS * SIZE, 900.0, 0.6, 3, 24, 0.6, 0.2, 0.0), run)


@pytest.fixture(scope="module")
def dealt() -> tuple[np.ndarray, float]:
    cells = CellParameters(SIZE, 0.5, 0.35, 0.0, 14e3, 0.5, 5, 18, lattice_of(1e3, SIZE), 0.0, 0.0,
                           1.0, 4800.0, 0.0)
    return deal_cells(cells, run), cells.lattice * SIZE


def covered(dealt: tuple[np.ndarray, float], shapes: Shapes, level: float) -> float:
    """Share of the measured square, every possible cloud walked in turn."""
    free = np.empty((by.RASTER, by.RASTER + 1), dtype=np.int16)
    count = by._raster_cover(dealt[0], level, dealt[1], shapes.half_width_m, shapes.footprints,
                                1.0, 0, by.RASTER, free)
    hit = int((free != np.arange(by.RASTER + 1)).sum())
    assert count == hit or count == by.RASTER**2
    return count / by.RASTER**2


@pytest.mark.parametrize("cover", COVERS)
def test_the_level_is_the_first_that_covers_enough(
    dealt: tuple[np.ndarray, float], shapes: Shapes, cover: float,
) -> None:
    levels = by.levels_of(*dealt, shapes)
    level = by.level_for_cover(levels, dealt[1], shapes, cover, 0.0, run)
    one = (by.HIGHEST_LEVEL - by.LOWEST_LEVEL) / by.LEVELS_TRIED
    wanted = min(cover, by.FULLEST)
    assert covered(dealt, shapes, level) >= wanted > covered(dealt, shapes, level - one)
    assert len(levels.shares) < 2.5 * math.log2(by.LEVELS_TRIED)


def test_what_is_known_changes_no_level(dealt: tuple[np.ndarray, float], shapes: Shapes) -> None:
    """Neighbours asked before make it quicker, not different."""
    shared = by.levels_of(*dealt, shapes)
    for cover in (*COVERS, 0.51, 0.49, 0.505):
        before = len(shared.shares)
        found = by.level_for_cover(shared, dealt[1], shapes, cover, 0.0, run)
        alone = by.levels_of(*dealt, shapes)
        assert found == by.level_for_cover(alone, dealt[1], shapes, cover, 0.0, run)
        assert len(shared.shares) - before <= len(alone.shares) + 4
    again = len(shared.shares)
    by.level_for_cover(shared, dealt[1], shapes, 0.5, 0.0, run)
    assert len(shared.shares) == again  # nothing was tried twice


def test_near_enough_takes_fewer_trials(dealt: tuple[np.ndarray, float], shapes: Shapes) -> None:
    """Covers within a thousandth, for half of the trials; what is known already for none."""
    exact, near = (by.levels_of(*dealt, shapes) for _ in range(2))
    for cover in (0.3, 0.42, 0.55, 0.61, 0.58):
        by.level_for_cover(exact, dealt[1], shapes, cover, 0.0, run)
        level = by.level_for_cover(near, dealt[1], shapes, cover, 0.0, run, close=0.001)
        assert covered(dealt, shapes, level) == pytest.approx(cover, abs=0.0011)
    assert len(near.shares) < 0.7 * len(exact.shares)
    tried = len(near.shares)
    by.level_for_cover(near, dealt[1], shapes, 0.5803, 0.0, run, close=0.001)
    assert len(near.shares) <= tried + 1
    before = len(near.shares)
    by.level_for_cover(near, dealt[1], shapes, 0.5803, 0.0, run, close=0.001)
    assert len(near.shares) == before


def test_more_cover_moves_no_cloud_and_takes_none_away(
    dealt: tuple[np.ndarray, float], shapes: Shapes,
) -> None:
    life = Life(0.5, 0.0, 0.0, EVAPORATES, False, 0.0, 1.0)
    levels = by.levels_of(*dealt, shapes)
    before: set[tuple[float, float]] = set()
    for cover in (0.1, 0.3, 0.6, 0.9):
        level = by.level_for_cover(levels, dealt[1], shapes, cover, 0.0, run)
        stood = stand_cells(dealt[0], dealt[1], SIZE, shapes, level, life, 0.0, run)
        now = {(float(c["x"]), float(c["y"])) for c in stood.instances}
        assert before <= now and len(now) > len(before)
        before = now


def test_no_cover_is_no_cloud(dealt: tuple[np.ndarray, float], shapes: Shapes) -> None:
    life = Life(0.5, 0.0, 0.0, EVAPORATES, False, 0.0, 1.0)
    level = by.level_for_cover(by.levels_of(*dealt, shapes), dealt[1], shapes, 0.0, 0.0, run)
    stood = stand_cells(dealt[0], dealt[1], SIZE, shapes, level, life, 0.0, run)
    assert len(stood.instances) == 0
    assert (stood.clearances > 0.0).all()


@pytest.mark.parametrize("cover", [0.2, 0.6])
def test_squares_list_every_cloud_that_touches_them(
    dealt: tuple[np.ndarray, float], shapes: Shapes, cover: float,
) -> None:
    """The index against all distances, on places drawn by chance."""
    life = Life(0.5, 0.0, 0.0, EVAPORATES, False, 0.0, 1.0)
    period = dealt[1]
    level = by.level_for_cover(by.levels_of(*dealt, shapes), period, shapes, cover, 0.0, run)
    stood = stand_cells(dealt[0], period, SIZE, shapes, level, life, 45.0, run)
    count = stood.squares
    at = stood.instances
    starts, members = stood.links[: count**2 + 1], stood.links[count**2 + 1:]
    for x, y in np.random.default_rng(7).uniform(0.0, period, (300, 2)):
        square = int(x / period * count) * count + int(y / period * count)
        listed = set(members[starts[square]:starts[square + 1]].tolist())
        dx, dy = (np.abs((at[k] - v + 0.5 * period) % period - 0.5 * period)
                  for k, v in (("x", x), ("y", y)))
        away = np.hypot(dx, dy) - at["reach"]
        assert set(np.flatnonzero(away < 0.0).tolist()) <= listed
        if not listed:  # how far a ray may go before it can meet a cloud
            assert stood.clearances[square] <= max(away.min(), 0.03 * SIZE)
