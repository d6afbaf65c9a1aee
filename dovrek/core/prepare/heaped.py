"""Stages of heaped clouds: shapes, clouds dealt, those that stand, and those placed by hand."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.builds import build_of
from dovrek.core.clouds.gather import (
    Gathering,
    gathered,
)
from dovrek.core.clouds.motion import Moving
from dovrek.core.clouds.placement.cover import Levels, level_for_cover, levels_of
from dovrek.core.clouds.placement.deal import (
    ALL_ROUND,
    Ahead,
    CellParameters,
    deal_cells,
    lattice_of,
    only_ahead,
)
from dovrek.core.clouds.placement.stand import Cells, Life, stand_cells
from dovrek.core.clouds.record import copied
from dovrek.core.clouds.shapes import FULL_GRID, ShapeParameters, Shapes, build_shapes, climbed
from dovrek.core.clouds.values import (
    ENDINGS,
    Record,
    edge_shift,
    rows_of,
    shredded,
)
from dovrek.core.compile.noise import NOISE_BYTES
from dovrek.core.prepare.fields import covered, field_of, solids
from dovrek.core.prepare.fineness import Fineness
from dovrek.core.prepare.heroes import (
    cleared,
    hero_forms,
    heroes_standing,
    placed_of,
    room_of,
    wanted_of,
)
from dovrek.core.run.maker import Maker
from dovrek.core.run.stage import Node, Tools, all_of_them, stage
from dovrek.sky.layer import Layer

SHREDS_TRIED = 4
# Of the whole: cover that a sketch may be off by, less than a step of the slider. What is kept
# is measured to the last pixel, and so does not depend on what was tried before.
SKETCH_CLOSE = 0.001
FULL_GROWN = 0.5  # stage of life
COARSE_PERIOD_M = 20_000.0  # steps in which the torus of heroes widens
NOMINAL_RADIUS = 0.46  # of a full-grown cloud, over the cell size


@stage("shapes", wide=True, outlasts=lambda given: given["parameters"].grid == FULL_GRID)
def shapes(tools: Tools, parameters: ShapeParameters) -> Shapes:
    """Forms of single heaps, of which every cloud of the layer is one."""
    return build_shapes(parameters, tools.workers.over(tools.cancel, chunk=1))


@stage("cells", wide=True)
def dealt(tools: Tools, cells: CellParameters) -> NDArray[np.void]:
    """Every cloud that could stand, or those ahead."""
    found = deal_cells(cells, tools.workers.over(tools.cancel, chunk=32))
    tools.cancel.check()
    return found


@stage("levels")
def levels(tools: Tools, clouds: NDArray[np.void], shapes: Shapes, period_m: float,
           outward_m: float) -> Levels:
    """The clouds about the measured square, and a note of what levels of growth cover of it: a
    slider asks for neighbours of known ones."""
    return levels_of(clouds, period_m, shapes)


@stage("level", wide=True, outlasts=all_of_them)
def level(tools: Tools, levels: Levels, shapes: Shapes, period_m: float, cover: float,
          outward_m: float, close: float) -> float:
    """Level of growth that covers as asked."""
    return level_for_cover(levels, period_m, shapes, cover, outward_m,
                           tools.workers.over(tools.cancel, chunk=200), close)


@stage("shreds", wide=True)
def cover_of_shreds(tools: Tools, record: Record, solid: NDArray[np.uint8], levels: Levels,
                    clouds: NDArray[np.void], shapes: Shapes, period_m: float, cover: float,
                    outward_m: float, life: Life, ahead: Ahead, close: float) -> float:
    """Cover to ask of the bare shapes so that shreds, whose skin is much of them, cover as set."""
    aim, size = cover, float(record[0]["cell_size"])
    for _ in range(SHREDS_TRIED):
        found = level_for_cover(levels, period_m, shapes, aim, outward_m,
                                tools.workers.over(tools.cancel, chunk=200), close)
        tools.cancel.check()
        stood = stand_cells(clouds, period_m, size, shapes, found, life, 0.03 * size,
                            tools.workers.over(tools.cancel, chunk=1), ahead)
        share = covered(field_of(record, solid, stood), tools)
        if abs(share - cover) < 0.015:
            break
        aim = min(max(aim + cover - share, 0.3 * cover), 0.99)
    return aim


@stage("standing", wide=True)
def standing(tools: Tools, clouds: NDArray[np.void], shapes: Shapes, period_m: float, size_m: float,
             level: float, life: Life, ahead: Ahead,
             then: NDArray[np.void] | None) -> Cells:
    """The clouds that stand; `then` are those of the next turn of lives."""
    return stand_cells(clouds, period_m, size_m, shapes, level, life, 0.03 * size_m,
                       tools.workers.over(tools.cancel, chunk=1), ahead, then)


def heaped(record: Record, layer: Layer, seed: int, reach: float, fineness: Fineness, cover: float,
            maker: Maker, moving: Moving, gathering: Gathering | None
            ) -> tuple[Record, Node[Shapes], Node[Cells]]:
    """Record, forms and standing clouds of a heaped layer."""
    size, ahead = layer.cells.size_m, fineness.ahead
    wanted = ShapeParameters(NOMINAL_RADIUS * size, layer.thickness_m, layer.body.lobes, seed,
                             fineness.shape_grid, layer.body.growth, layer.body.growth_spread,
                             layer.body.anvil)
    forms = shapes(parameters=wanted)
    every = CellParameters(
        size, layer.cells.spread, layer.cells.huddle, layer.clearings.share,
        layer.clearings.size_km * 1e3, layer.clearings.edge, seed,
        seed + 13 * layer.clearings.seed, lattice_of(reach, size), layer.rows.share,
        *rows_of(layer, build_of(layer)), layer.rows.patchiness)
    period = every.lattice * size
    clouds, turned = dealt(cells=every), clouds_of(every, moving)
    if ahead != ALL_ROUND:
        near = dealt(cells=every._replace(ahead=ahead))
        if not maker.holds(near) and maker.holds(clouds):  # what lies ahead of all round
            maker.cache.put(near.place, only_ahead(maker.make(clouds), period, size, ahead))
        clouds = near
    if gathering is not None:
        clouds = gathered(clouds=clouds, gathering=gathering, period_m=period)
        if turned:
            turned = (gathered(clouds=turned[0], gathering=gathering, period_m=period),
                      gathered(clouds=turned[1], gathering=gathering, period_m=period))
    outward, close = edge_shift(layer), SKETCH_CLOSE if ahead != ALL_ROUND else 0.0
    near_square = levels(clouds=clouds, shapes=forms, period_m=period, outward_m=outward)
    p = record[0]
    life = Life(layer.life.stage, layer.life.spread, layer.life.early_decay,
                ENDINGS.index(layer.life.ending), layer.body.anvil > 0.0, float(p["wind_x"]),
                float(p["wind_y"]))
    record = _shaped(record, maker.make(forms), layer.thickness_m * climbed(layer.body.growth),
                     size)
    wish: float | Node[float] = cover
    if shredded(layer) and cover > 0.0:
        wish = cover_of_shreds(
            record=record, solid=solids(forms=[forms], charts=[]), levels=near_square,
            clouds=clouds, shapes=forms, period_m=period, cover=cover, outward_m=outward,
            life=life._replace(stage=FULL_GROWN, spread=0.0), ahead=ahead, close=close)
    if turned:  # lives turn: one cloud gives way to the next
        life = life._replace(turned=moving.turned, back_x=moving.back[0], back_y=moving.back[1])
    now, then = turned or (clouds, None)
    grown = level(levels=near_square, shapes=forms, period_m=period, cover=wish, outward_m=outward,
                  close=close)
    stood = standing(clouds=now, shapes=forms, period_m=period, size_m=size, level=grown, life=life,
                     ahead=ahead, then=then)
    room = room_of(layer.heroes)
    return record, forms, cleared(stood=stood, room=room) if room else stood


def _shaped(record: Record, form: Shapes, high_m: float, size_m: float) -> Record:
    """The record of a heaped layer with the grids of its forms, the highest of which is so high."""
    record = copied(record)
    p = record[0]
    p["shapes_at"] = NOISE_BYTES
    p["shape_n"], p["shape_nz"] = form.distance.shape[1], form.distance.shape[3]
    p["shape_half_width"], p["shape_voxel"] = form.half_width_m, form.voxel_m
    p["shape_reach"], p["shape_floor"] = form.reach_m, form.floor_m
    p["shape_squash"] = form.squash
    # Flat clouds have little room for lumps.
    p["skin"] = min(1.6 * high_m / (NOMINAL_RADIUS * size_m), 1.0)
    return record


def by_hand(record: Record, layer: Layer, seed: int, reach: float, fineness: Fineness,
             cover: float, maker: Maker, moving: Moving, gathering: Gathering | None
             ) -> tuple[Record, Node[Shapes], Node[Cells]]:
    """Record, forms and clouds of what was placed by hand."""
    size = layer.cells.size_m
    placed = placed_of(layer.heroes)
    forms = hero_forms(wanted=wanted_of(layer.heroes, NOMINAL_RADIUS * size, layer.body.lobes,
                                        fineness.shape_grid))
    # What was dealt keeps the skin of a full-grown cloud of its form.
    high = max(h.taken.aspect * NOMINAL_RADIUS * size if h.taken else h.top_m
               for h in layer.heroes)
    record = _shaped(record, maker.make(forms), high, size)
    life = Life(FULL_GROWN, 0.0, 0.0, ENDINGS.index(layer.life.ending), False, 0.0, 0.0)
    # None is seen twice: the torus is wider than all that can be seen of any.
    far = max(max(abs(p.x), abs(p.y)) + p.radius_m for p in placed)
    period = 2.0 * (reach + far) + math.hypot(*moving.drift)
    return record, forms, heroes_standing(
        forms=forms, placed=placed, size_m=size, period_m=COARSE_PERIOD_M * math.ceil(
            period / COARSE_PERIOD_M), life=life)


def clouds_of(every: CellParameters, moving: Moving
              ) -> tuple[Node[NDArray[np.void]], Node[NDArray[np.void]]] | None:
    """The possible clouds of the present turn of lives and of the next; None where none turn, and
    at the clip's start, which is the still."""
    if moving.turned < 0.0 or (moving.turned == 0.0 and moving.turn == 0):
        return None
    turns = [t % moving.turns if moving.turns else t for t in (moving.turn, moving.turn + 1)]
    one, other = (dealt(cells=every._replace(turn=t)) for t in turns)
    return one, other
