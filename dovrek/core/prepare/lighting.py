"""Stages of the light in clouds: extinction of cells, depth toward the sun, shade from above,
diffusion of sunlight and of sky light, all packed as the march reads them."""

from __future__ import annotations

import math
from functools import partial
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.builds import BUILDS
from dovrek.core.clouds.light import grid as light_grid
from dovrek.core.clouds.light.grid import Array32, GridShape, fill_extinction, fill_from_finer
from dovrek.core.clouds.light.land_shade import shade_from_land
from dovrek.core.clouds.light.solve import clear_below, solve_sky, solve_sun
from dovrek.core.clouds.light.sweep import (
    SHEET_LOWEST,
    all_passed,
    carry_depth_up,
    shade_from_above,
    sweep_depth,
    sweep_sheet,
)
from dovrek.core.clouds.phase import Phase, slab_transmittance
from dovrek.core.clouds.placement.stand import Cells
from dovrek.core.clouds.record import copied
from dovrek.core.clouds.values import Record
from dovrek.core.land.sky_share import Ready
from dovrek.core.prepare.bodies import LayerBody
from dovrek.core.prepare.fields import field_of
from dovrek.core.prepare.fineness import Fineness
from dovrek.core.run.stage import Node, Tools, stage

CLOSING_OKTAS = 6.0
IN_SHADE = 6.0  # depth, as it scatters, of the land before the sun
CHUNK, SHADED = 8, 24  # rows of a level that one task fills, that one shades

Vector = tuple[float, float, float]


class Upper(NamedTuple):
    """A layer above, as it shades."""

    base: float  # metres above the ground
    grid: GridShape
    veil: bool
    weight: float  # its depth over one of the shaded layer that scatters as widely
    east: float  # middle of the shaded layer's grid as this one has it, metres
    north: float


@stage("extinction", wide=True)
def extinction(tools: Tools, record: Record, solid: NDArray[np.uint8], stood: Cells | None,
               grid: GridShape, samples: int) -> Array32:
    """Mean extinction of cells, (levels, n, n, nz)."""
    field = field_of(record, solid, stood)
    sigma = np.zeros((grid.levels, grid.n, grid.n, grid.nz), dtype=np.float32)

    def rows(level: int, i0: int) -> None:
        fill_extinction(field, 0, grid, level, samples, tools.cancel.flag, i0,
                        min(i0 + CHUNK, grid.n), sigma[level])

    # All levels at once: no thread waits for the last rows of each.
    tools.workers.all(tools.cancel, [partial(rows, level, i0) for level in range(grid.levels)
                                     for i0 in range(0, grid.n, CHUNK)])
    for level in range(1, grid.levels):
        fill_from_finer(sigma[level - 1], sigma[level])
    return sigma


@stage("extinction as dense", kept=False)
def as_dense(tools: Tools, sigma: Array32, extinction: float) -> Array32:
    """Extinction of cells of a layer as dense as this, of that of one of 1 a metre."""
    return sigma * np.float32(extinction)


@stage("mean depth")
def mean_depth(tools: Tools, sigma: Array32, dz: float) -> float:
    """Mean vertical optical depth about the camera."""
    return float(sigma[min(1, len(sigma) - 1)].sum(axis=2).mean()) * dz


@stage("sun depth")
def sun_depth(tools: Tools, sigma: Array32, grid: GridShape, sun: Vector, level: bool) -> Array32:
    """Optical depth toward the sun within the layer; `level`: it is a sheet."""
    depth = np.zeros(sigma.shape, dtype=np.float32)
    sweep = sweep_sheet if level and sun[2] > SHEET_LOWEST else sweep_depth
    sweep(sigma, grid, *sun, tools.cancel.flag, depth, np.empty_like(depth[0]))
    return depth


def _from_above(tools: Tools, uppers: list[Array32], shading: list[Upper], grid: GridShape,
                base: float, sun: Vector, radius: float) -> Array32:
    """Optical depth toward the sun of the layers above a grid's cells."""
    total = np.zeros((grid.levels, grid.n, grid.n, grid.nz), dtype=np.float32)
    told = [depth if upper.veil else all_passed(depth)
            for depth, upper in zip(uppers, shading, strict=True)]

    def rows(level: int, i0: int) -> None:
        for light, upper in zip(told, shading, strict=True):
            shade_from_above(light, upper.weight, upper.veil, upper.grid, upper.base, upper.east,
                             upper.north, grid, base, level, *sun, radius, i0,
                             min(i0 + SHADED, grid.n), total)

    tools.workers.all(tools.cancel, [partial(rows, level, i0) for level in range(grid.levels)
                                     for i0 in range(0, grid.n, SHADED)])
    return total


# In a sketch it stays while the layer below changes; of a fine scene it would be a grid more.
SHADE = {rough: stage("shade", wide=True, kept=rough)(_from_above) for rough in (True, False)}


@stage("shaded depth", kept=False)
def shaded_depth(tools: Tools, own: Array32, above: Array32) -> Array32:
    """Optical depth toward the sun, layers above counted."""
    return own + above


@stage("land shade", wide=True, kept=False)
def land_shade(tools: Tools, depth: Array32, record: Record, solid: NDArray[np.uint8],
               stood: Cells | None, grid: GridShape, middle: tuple[float, float], base: float,
               land: Ready, land_at: np.void, sun: Vector, radius: float, thick: float) -> Array32:
    """Optical depth toward the sun, `thick` more where the land hides it."""
    total = depth.copy()
    field = field_of(record, solid, stood)
    for level in range(grid.levels):
        def rows(a: int, b: int, level: int = level) -> None:
            shade_from_land(field, grid, level, *middle, base, land_at, land.heights, land.peaks,
                            radius, *sun, thick, a, b, total)

        tools.workers.over(tools.cancel, chunk=16)(rows, grid.n)
    return total


@stage("sun light", kept=False)
def sun_light(tools: Tools, sigma: Array32, depth: Array32, grid: GridShape, sun: Vector,
              sweeps: tuple[int, int], level: bool, phase: Phase) -> Array32:
    """Scattered sunlight and its flux, (levels, n, n, nz, 4)."""
    found = solve_sun(sigma, depth, grid, sun, sweeps, level, tools.cancel.flag, phase)
    tools.cancel.check()
    return found


@stage("sky light")
def sky_light(tools: Tools, sigma: Array32, grid: GridShape, sweeps: tuple[int, int], level: bool,
              phase: Phase) -> Array32:
    """Share of sky light: it serves every sun."""
    found = solve_sky(sigma, grid, sweeps, level, tools.cancel.flag, phase)
    tools.cancel.check()
    return found


@stage("light")
def packed(tools: Tools, sigma: Array32, depth: Array32, sun_light: Array32, sky_light: Array32,
           level: bool) -> Array32:
    """All channels of a layer's light grid, flat."""
    store = np.empty((*sigma.shape, light_grid.CHANNELS), dtype=np.float32)
    if level:
        depth = depth.copy()
        carry_depth_up(sigma, depth, clear_below(sigma))
    store[..., light_grid.DEPTH] = depth
    store[..., light_grid.SKY_J] = sky_light
    store[..., light_grid.SUN_J] = sun_light[..., 0]
    store[..., light_grid.FLUX_X:] = sun_light[..., 1:]
    return store.ravel()


def extinction_node(body: LayerBody, fineness: Fineness) -> Node[Array32]:
    """The extinction of a body's cells. Where it grows evenly with the layer's own, another
    density asks for no other look at the clouds."""
    samples = fineness.samples[0 if body.heaped else 1]
    if fineness.rough and body.layer.cover_oktas > CLOSING_OKTAS:
        samples = min(samples, 2)  # heaps stand so close that most cells are full throughout
    one, dense = body.cloud, float(body.cloud[0]["extinction"])
    even = BUILDS[int(one[0]["build"])].even and one[0]["fall"] == 0.0
    if even:
        one = copied(one)
        one[0]["extinction"] = 1.0
    found = extinction(record=one, solid=body.solid, stood=body.stood, grid=body.grid,
                       samples=samples)
    return as_dense(sigma=found, extinction=fineness.dense(dense)) if even else found


def light_nodes(bodies: list[LayerBody], sun: Vector, radius: float, fineness: Fineness,
                land: Node[Ready], land_at: np.void) -> list[Node[Array32]]:
    """Light grids of all layers. Others shade one with all they have over its base, the highest
    first, and so does the land (placed as its record says) where it stands as high."""
    order = sorted(range(len(bodies)), key=lambda i: -bodies[i].layer.top_m)
    sigmas = [extinction_node(b, fineness) for b in bodies]
    depths = [sun_depth(sigma=s, grid=b.grid, sun=sun, level=not b.heaped)
              for s, b in zip(sigmas, bodies, strict=True)]
    found = []
    for i, body in enumerate(bodies):
        above = [u for u in order if u != i and _top(bodies[u]) > body.base]
        shading = [Upper(fineness.level(bodies[u].base), bodies[u].grid, bodies[u].veil,
                         bodies[u].phase.k_scaled / body.phase.k_scaled,
                         *_between(body, bodies[u])) for u in above]
        depth: Node[Array32] = depths[i]
        if above:
            depth = shaded_depth(own=depth, above=SHADE[fineness.rough](
                uppers=[depths[u] for u in above], shading=shading, grid=body.grid,
                base=fineness.level(body.base), sun=sun, radius=radius))
        if land_at["squares"] and sun[2] > 0.0 and body.base < float(land_at["highest"]):
            depth = land_shade(
                depth=depth, record=body.cloud, solid=body.solid, stood=body.stood, grid=body.grid,
                middle=(float(body.record["grid_x"]), float(body.record["grid_y"])),
                base=body.base, land=land, land_at=land_at, sun=sun, radius=radius,
                thick=IN_SHADE / body.phase.k_scaled)
        common: dict[str, Any] = {"sigma": sigmas[i], "grid": body.grid, "sweeps": fineness.sweeps,
                                  "level": not body.heaped, "phase": body.phase}
        found.append(packed(sigma=sigmas[i], depth=depth,
                            sun_light=sun_light(depth=depth, sun=sun, **common),
                            sky_light=sky_light(**common), level=not body.heaped))
    return found


def _top(body: LayerBody) -> float:
    """Height of a layer's top above the ground, metres."""
    return body.base + body.layer.thickness_m


def _between(own: LayerBody, upper: LayerBody) -> tuple[float, float]:
    """Middle of a layer's grid in the grid of another, metres east and north."""
    return (float(own.record["grid_x"]) - float(upper.record["grid_x"]),
            float(own.record["grid_y"]) - float(upper.record["grid_y"]))


def shares_of(bodies: list[LayerBody], means: list[float],
              mu: float) -> list[tuple[float, float]]:
    """Of each layer: share of light it passes over all (direct and diffuse), and direct."""
    found = []
    for body, depth in zip(bodies, means, strict=True):
        cover = body.layer.cover_oktas / 8.0
        mean = depth / max(cover, 0.02)
        through = float(slab_transmittance(mean, mu, body.phase))
        direct = math.exp(-body.phase.k_scaled * mean / max(mu, 0.03))
        found.append((1.0 - cover + cover * through, 1.0 - cover + cover * direct))
    return found
