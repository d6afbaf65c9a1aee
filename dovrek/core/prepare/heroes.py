"""Stages of the clouds placed by hand: a form for each, where they stand, who makes room.

The heroes of a layer are a body of their own, built as its dealt clouds are; they stand on a torus
so wide that none is seen twice.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from dovrek.core.clouds.light.grid import GridShape
from dovrek.core.clouds.placement.stand import SMALLEST, Cells, Life, indexed, lived
from dovrek.core.clouds.record import INSTANCE
from dovrek.core.clouds.shapes import Shapes, shapes_of_heights
from dovrek.core.run.stage import Tools, stage
from dovrek.sky.hero import Hero

SQUARES_MOST = 1024
TAKEN_M = 3.0  # about where a dealt cloud stood, within which its axis lies
FLATTEST, STEEPEST = 0.22, 5.0  # height over radius that forms are made at
GRID_SHARE = 0.3  # of the innermost grid, within which heroes lie about its middle


class Wanted(NamedTuple):
    """What forms of heroes depend on: those of full size, of one radius."""

    radius_m: float
    lobes: float
    grid: int  # voxels across
    heights_m: tuple[float, ...]
    anvils: tuple[float, ...]
    seeds: tuple[int, ...]
    numbers: tuple[int, ...]  # of the forms that a seed makes


class Placed(NamedTuple):
    """A hero as it stands."""

    x: float  # metres in the layer's field
    y: float
    radius_m: float
    top_m: float
    turn: float  # radians
    stage: float
    density: float


def wanted_of(heroes: list[Hero], radius_m: float, lobes: float, grid: int) -> Wanted:
    """The forms that heroes need."""
    heights = [radius_m * (h.taken.aspect if h.taken else h.top_m / (0.5 * h.width_m))
               for h in heroes]
    return Wanted(radius_m, lobes, grid,
                  tuple(min(max(round(h, 1), FLATTEST * radius_m), STEEPEST * radius_m)
                        for h in heights),
                  tuple(h.anvil for h in heroes), tuple(h.seed for h in heroes),
                  tuple(h.taken.form if h.taken else 0 for h in heroes))


def placed_of(heroes: list[Hero]) -> list[Placed]:
    """Where heroes stand and how large they are."""
    return [Placed(h.east_m, h.north_m, 0.5 * h.width_m, h.top_m, math.radians(h.turn_deg),
                   h.stage, h.density) for h in heroes]


@stage("hero forms", wide=True)
def hero_forms(tools: Tools, wanted: Wanted) -> Shapes:
    """One form for every hero."""
    return shapes_of_heights(wanted.radius_m, list(wanted.heights_m), list(wanted.anvils),
                             wanted.lobes, list(wanted.seeds), list(wanted.numbers),
                             wanted.grid, 1.0, tools.workers.over(tools.cancel, chunk=1))


@stage("heroes", wide=True)
def heroes_standing(tools: Tools, forms: Shapes, placed: list[Placed], size_m: float,
                    period_m: float, life: Life) -> Cells:
    """The heroes that are there at their stages of life."""
    found = np.zeros(len(placed), INSTANCE)
    own, count = np.empty(4), 0
    for k, hero in enumerate(placed):
        lived(0.5, life._replace(stage=hero.stage, spread=0.0, turned=-1.0), 0.0, False, own)
        # Its farthest column lies as far from its axis as it is wide.
        scale = hero.radius_m / float(forms.radii[k]) * float(own[0])
        if own[0] <= 0.0 or scale <= SMALLEST * own[0] * 0.05:
            continue
        one = found[count]
        one["x"], one["y"] = hero.x % period_m, hero.y % period_m
        one["scale"], one["shape"], one["age"] = scale, k, own[2]
        one["turn_cos"], one["turn_sin"] = math.cos(-hero.turn), math.sin(-hero.turn)
        one["reach"] = scale * min(float(forms.radii[k]) + 0.03 * size_m, forms.half_width_m)
        one["top"] = hero.top_m * float(own[1])
        one["tall"] = one["top"] / max(min(scale, 1.0) * float(forms.tops[k]), 1e-3)
        one["dense"] = hero.density
        count += 1
    squares = min(max(int(round(period_m / (0.5 * size_m))), 6), SQUARES_MOST)
    return indexed(found[:count], period_m, squares, tools.workers.over(tools.cancel, chunk=1))


@stage("cleared")
def cleared(tools: Tools, stood: Cells, room: list[tuple[float, float, float]]) -> Cells:
    """Dealt clouds without those whose axis lies within a distance of a place (x, y, metres)."""
    instances, period = stood.instances.copy(), stood.period_m
    for x, y, far in room:
        dx = (instances["x"] - x + 0.5 * period) % period - 0.5 * period
        dy = (instances["y"] - y + 0.5 * period) % period - 0.5 * period
        instances["reach"][dx * dx + dy * dy < far * far] = -period  # as good as nowhere
    return stood._replace(instances=instances)


def room_of(heroes: list[Hero]) -> list[tuple[float, float, float]]:
    """Places and distances up to which dealt clouds make room for heroes, and those that heroes
    were."""
    return [(h.east_m, h.north_m, 0.5 * h.width_m + h.clear_m) for h in heroes
            if h.clear_m > 0.0] + [(h.taken.east_m, h.taken.north_m, TAKEN_M) for h in heroes
                                   if h.taken]


def middle_of(placed: list[Placed], grid: GridShape, foot: tuple[float, float]
              ) -> tuple[float, float]:
    """Where the light grids of heroes have their middle: amid them, if the finest grid holds them
    all, else at the one nearest to the camera's foot."""
    xs, ys = np.array([p.x for p in placed]), np.array([p.y for p in placed])
    amid = 0.5 * float(xs.min() + xs.max()), 0.5 * float(ys.min() + ys.max())
    held = GRID_SHARE * grid.n * grid.dx
    if max(np.ptp(xs), np.ptp(ys)) < 2.0 * held:
        return amid
    near = int(np.argmin(np.hypot(xs - foot[0], ys - foot[1])))
    return float(xs[near]), float(ys[near])

