"""Shapes of single heaped clouds: signed distances on small grids, made of turrets.

A layer of cumulus owns a few shapes in metres at full size; every cloud of the layer is one
of them, turned, mirrored and scaled. A far cloud is then as well drawn as a near one.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, solver
from dovrek.core.compile.noise import hash_unit

SHAPES = 12
BOX = 1.34  # half width of a shape's grid over its nominal radius
SPHERES = 4000
LEAST_CLIMB = 0.06
FLAT_BELOW = 0.55  # height over radius below which a cloud is pressed flat
ANVIL_PARTS, DOME_PARTS = 18, 4
RANGE_VOXELS = 9.0  # distances are held to ± this many voxels
NEAR_VOXELS = 4.6  # outside, so near they are of spheres; farther they are carried on
CARRIED = 0.92  # of a distance by steps to neighbours: never more than the straight one
FULL_GRID, SKETCH_GRID = 96, 52


class ShapeParameters(NamedTuple):
    """What a layer's shapes depend on."""

    radius_m: float  # nominal radius of a full-grown cloud
    height_m: float  # thickness of the layer
    lobes: float
    seed: int
    grid: int  # voxels across
    growth: float  # how far up the layer the highest reach
    growth_spread: float  # how much lower the lowest stay
    anvil: float


class Shapes(NamedTuple):
    """Shapes of a layer; distance = (value/127.5 − 1) · reach_m."""

    distance: NDArray[np.uint8]  # (SHAPES, n, n, nz)
    tops: NDArray[np.float64]  # (SHAPES,) height of each, metres before squash
    radii: NDArray[np.float64]  # (SHAPES,) farthest column of each from its axis, metres
    footprints: NDArray[np.bool_]  # (SHAPES, n, n) columns that hold cloud
    half_width_m: float
    voxel_m: float
    reach_m: float
    floor_m: float  # height of the lowest voxel's centre
    squash: float  # real heights are grid heights times this


@inner
def _random(state):
    state[0] += 1
    return hash_unit(state[0], state[1], 17)


@inner
def _spread_out(radius, height, anvil, state, spheres, count):
    """Add an anvil: lenses below the top, running out toward +x, thick by the tower and thin at
    their far end, and the dome in which the tower overshoots it; returns how many."""
    for n in range(ANVIL_PARTS):
        u, v = _random(state), _random(state)
        away = (n / (ANVIL_PARTS - 1.0)) ** 0.8
        r = radius * (0.34 + 0.28 * u) * (0.6 + 0.6 * anvil) * (1.0 - 0.25 * away)
        flat = 0.42 - 0.33 * away
        top = height * (0.95 - 0.015 * v - 0.02 * away)
        spheres[count, 0] = radius * (-0.22 + 1.12 * away * anvil)
        spheres[count, 1] = radius * 0.75 * (v - 0.5) * (0.35 + away)
        spheres[count, 2], spheres[count, 3] = top - r * flat, r
        spheres[count, 4] = flat
        count += 1
    for n in range(DOME_PARTS):
        u, v = _random(state), _random(state)
        r = radius * (0.15 + 0.09 * u) * (1.0 - 0.3 * n / DOME_PARTS)
        spheres[count, 0] = radius * (-0.14 + 0.22 * (v - 0.5))
        spheres[count, 1] = radius * 0.24 * (u - 0.5)
        spheres[count, 2], spheres[count, 3] = height * (1.0 - 0.03 * n) - r, r
        spheres[count, 4] = 1.0
        count += 1
    return count


@inner
def _turrets(radius, height, lobes, anvil, state, spheres):
    """Fill `spheres` (x, y, z, r, flatness) of one cloud; returns how many."""
    count = 0
    spheres[:, 4] = 1.0
    # A flat cloud is a higher one pressed flat: its turrets then still run together.
    flat = min(height / (FLAT_BELOW * radius), 1.0)
    height /= flat
    wide = radius  # towers stand closer where an anvil is to spread above them
    radius *= 1.0 - 0.3 * anvil
    vigour = 0.55 + 0.45 * _random(state)  # how high this cloud grows within the layer
    if anvil > 0.0:
        vigour = max(vigour, 0.9)
    top = height * vigour
    turn = 2.0 * math.pi * _random(state)
    ratio = 0.55 + 0.4 * _random(state)
    ct, st = math.cos(turn), math.sin(turn)
    turrets = 9 + int(7 * _random(state))
    for n in range(turrets):
        q = 0.0 if n == 0 else math.sqrt((n - 0.5 * _random(state)) / turrets)
        phi = 2.399963 * n + 0.9 * _random(state)
        ex, ey = 0.86 * radius * q * math.cos(phi), 0.86 * radius * ratio * q * math.sin(phi)
        x, y = ct * ex - st * ey, st * ex + ct * ey
        reach = top * (1.0 - 0.72 * q * q) * (0.42 + 0.58 * _random(state))
        if n == 0:
            reach = top * 0.94
        r0 = radius * (0.24 + 0.22 * _random(state)) * (1.12 - 0.48 * q)
        r0 = max(min(r0, 0.52 * reach + 0.06 * radius), 0.10 * radius)
        z = 0.12 * r0
        while count < SPHERES - 60:
            share = clamp(z / max(reach, 1.0), 0.0, 1.0)
            r = r0 * (1.0 - 0.42 * share) * (0.74 + 0.5 * _random(state))
            last = z + r >= reach
            if last and z > 0.3 * r0:
                r = max(min(r, reach - z + 0.25 * r), 0.4 * r)
            spheres[count, 0], spheres[count, 1] = x, y
            spheres[count, 2], spheres[count, 3] = z, r
            count += 1
            heads = 7 + int(5 * _random(state))
            for _ in range(heads):
                u = -0.25 + 1.25 * _random(state) ** 0.8
                a = 2.0 * math.pi * _random(state)
                s = math.sqrt(max(1.0 - u * u, 0.0))
                rh = r * (0.22 + 0.26 * _random(state)) * (0.75 + 0.5 * lobes)
                d = r * (0.78 + 0.18 * _random(state))
                hx, hy, hz = x + d * s * math.cos(a), y + d * s * math.sin(a), z + d * u
                spheres[count, 0], spheres[count, 1] = hx, hy
                spheres[count, 2], spheres[count, 3] = hz, rh
                count += 1
                if rh > 0.30 * r and count < SPHERES - 60:
                    for _ in range(3):
                        u2 = -0.1 + 1.1 * _random(state)
                        a2 = 2.0 * math.pi * _random(state)
                        s2 = math.sqrt(max(1.0 - u2 * u2, 0.0))
                        r2 = rh * (0.34 + 0.2 * _random(state))
                        spheres[count, 0] = hx + 0.86 * rh * s2 * math.cos(a2)
                        spheres[count, 1] = hy + 0.86 * rh * s2 * math.sin(a2)
                        spheres[count, 2], spheres[count, 3] = hz + 0.86 * rh * u2, r2
                        count += 1
            if last:
                break
            z += 0.62 * r
            x += 0.34 * r * (2.0 * _random(state) - 1.0) + 0.05 * r
            y += 0.34 * r * (2.0 * _random(state) - 1.0)
    if anvil > 0.0:
        count = _spread_out(wide, top, anvil, state, spheres, count)
    # Hold everything inside the box and below the top: pull centres in, never cut.
    for k in range(count):
        r = spheres[k, 3]
        d = math.hypot(spheres[k, 0], spheres[k, 1])
        limit = wide * 1.22 - r
        if d > limit:
            pull = max(limit, 0.0) / d
            spheres[k, 0] *= pull
            spheres[k, 1] *= pull
        if spheres[k, 2] + r * spheres[k, 4] > height:
            spheres[k, 2] = height - r * spheres[k, 4]
        spheres[k, 2] *= flat
        spheres[k, 4] *= flat
    return count


@inner
def _carry_outward(field, voxel, known):
    """Go on with distances below `known` by steps to neighbours, in two sweeps.

    Source: chamfer distances (Borgefors 1986).
    """
    n, _, nz = field.shape
    one = np.float32(CARRIED * voxel)
    two, three = np.float32(1.41421 * one), np.float32(1.73205 * one)
    for sweep in range(2):
        d = -1 if sweep == 0 else 1
        for a in range(n):
            i = a if sweep == 0 else n - 1 - a
            back = 0 <= i + d < n
            for b in range(n):
                j = b if sweep == 0 else n - 1 - b
                left, right = 0 <= j + d < n, 0 <= j - d < n
                for c in range(nz):
                    k = c if sweep == 0 else nz - 1 - c
                    best = field[i, j, k]
                    if best > known:
                        continue
                    under, over = 0 <= k + d < nz, 0 <= k - d < nz
                    if under:
                        best = max(best, field[i, j, k + d] - one)
                    if left:
                        best = max(best, field[i, j + d, k] - one)
                        if under:
                            best = max(best, field[i, j + d, k + d] - two)
                        if over:
                            best = max(best, field[i, j + d, k - d] - two)
                    if back:
                        best = max(best, field[i + d, j, k] - one)
                        if under:
                            best = max(best, field[i + d, j, k + d] - two)
                        if over:
                            best = max(best, field[i + d, j, k - d] - two)
                        if left:
                            best = max(best, field[i + d, j + d, k] - two)
                            if under:
                                best = max(best, field[i + d, j + d, k + d] - three)
                            if over:
                                best = max(best, field[i + d, j + d, k - d] - three)
                        if right:
                            best = max(best, field[i + d, j - d, k] - two)
                            if under:
                                best = max(best, field[i + d, j - d, k + d] - three)
                            if over:
                                best = max(best, field[i + d, j - d, k - d] - three)
                    field[i, j, k] = best


@solver
def _shape(radius, height, lobes, anvil, seed, index, half_width, voxel, floor, reach, out,
           footprint):
    """Signed distance (metres, positive inside) of one cloud; returns its top and radius."""
    spheres = np.empty((SPHERES, 5))
    state = np.array([1000 * index, seed + 7919])
    count = _turrets(radius, height, lobes, anvil, state, spheres)
    n, _, nz = out.shape
    field = np.full((n, n, nz), -reach, dtype=np.float32)
    near = NEAR_VOXELS * voxel
    top = 0.0
    for k in range(count):
        x, y, z, r = spheres[k, 0], spheres[k, 1], spheres[k, 2], spheres[k, 3]
        if r < 0.8 * voxel:
            continue
        flat = spheres[k, 4]
        top = max(top, z + r * flat)
        grown = r + near
        i0 = max(int((x - grown + half_width) / voxel), 0)
        i1 = min(int((x + grown + half_width) / voxel) + 1, n)
        j0 = max(int((y - grown + half_width) / voxel), 0)
        j1 = min(int((y + grown + half_width) / voxel) + 1, n)
        k0 = max(int((z - grown - floor) / voxel), 0)
        k1 = min(int((z + grown - floor) / voxel) + 2, nz)
        blend = 0.16 * r
        for i in range(i0, i1):
            dx = (i + 0.5) * voxel - half_width - x
            for j in range(j0, j1):
                dy = (j + 0.5) * voxel - half_width - y
                d2 = dx * dx + dy * dy
                if d2 > grown * grown:
                    continue
                for c in range(k0, k1):
                    dz = (floor + c * voxel - z) / flat
                    f = r - math.sqrt(d2 + dz * dz)
                    if flat < 1.0:  # about the distance: true above and below, less at the rim
                        f *= flat + 0.4 * (1.0 - flat) * d2 / (d2 + dz * dz + 1.0)
                    if f < -near:
                        continue
                    old = field[i, j, c]
                    h = max(blend - abs(old - f), 0.0)
                    field[i, j, c] = max(old, f) + h * h / (4.0 * blend)
    _carry_outward(field, voxel, -near)
    for i in range(n):
        for j in range(n):
            covered = False
            for c in range(nz):
                v = clamp(field[i, j, c] / reach, -1.0, 1.0)
                out[i, j, c] = np.uint8(127.5 + 127.5 * v)
                if v > 0.0 and floor + c * voxel > 0.0:
                    covered = True
            footprint[i, j] = covered
    widest = 0.0
    for i in range(n):
        for j in range(n):
            if footprint[i, j]:
                dx, dy = (i + 0.5) * voxel - half_width, (j + 0.5) * voxel - half_width
                widest = max(widest, dx * dx + dy * dy)
    return top, math.sqrt(widest) + voxel


def climbed(growth: float) -> float:
    """Share of the layer's thickness that a cloud of a growth (0 … 1) climbs."""
    return LEAST_CLIMB + (1.0 - LEAST_CLIMB) * growth**1.3


def forms_of(parameters: ShapeParameters) -> tuple[list[float], list[float], float, float]:
    """Heights in metres at which a layer's forms are made, how far each spreads out at its top,
    the highest of the heights, and what the highest cloud's is over it."""
    radius = parameters.radius_m
    growths = [parameters.growth * (1.0 - parameters.growth_spread * (1.0 - (k + 1) / SHAPES))
               for k in range(SHAPES)]
    highest = parameters.height_m * climbed(parameters.growth)
    height = min(max(highest, 0.22 * radius), 5.0 * radius)
    return ([height * climbed(g) / climbed(parameters.growth) for g in growths],
            [parameters.anvil * min(max((g - 0.72) / 0.2, 0.0), 1.0) for g in growths],
            height, highest / height)


def build_shapes(
    parameters: ShapeParameters, run: Callable[[Callable[[int, int], None], int], None]
) -> Shapes:
    """The shapes of one layer; `run` spreads a function over index ranges."""
    heights, anvils, height, squash = forms_of(parameters)
    return shapes_of_heights(parameters.radius_m, heights, anvils, parameters.lobes,
                             [parameters.seed] * SHAPES, list(range(SHAPES)), parameters.grid,
                             squash, run, height)


def shapes_of_heights(radius: float, heights: list[float], anvils: list[float], lobes: float,
                      seeds: list[int], numbers: list[int], grid: int, squash: float,
                      run: Callable[[Callable[[int, int], None], int], None],
                      highest: float | None = None) -> Shapes:
    """A shape for each height (metres before squash), by its seed and number; `highest` is what
    the grids have room for (unsaid: for the highest of them)."""
    count, half_width = len(heights), BOX * radius
    voxel = 2.0 * half_width / grid
    reach = RANGE_VOXELS * voxel
    floor = -2.0 * voxel
    nz = int(math.ceil(((max(heights) if highest is None else highest) - floor) / voxel)) + 3
    distance = np.empty((count, grid, grid, nz), dtype=np.uint8)
    footprints = np.empty((count, grid, grid), dtype=np.bool_)
    tops, radii = np.empty(count), np.empty(count)

    def piece(first: int, last: int) -> None:
        for k in range(first, last):
            tops[k], radii[k] = _shape(radius, heights[k], lobes, anvils[k], seeds[k], numbers[k],
                                       half_width, voxel, floor, reach, distance[k],
                                       footprints[k])

    run(piece, count)
    return Shapes(distance, tops, radii, footprints, half_width, voxel, reach, floor, squash)
