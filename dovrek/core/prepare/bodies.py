"""Stages of one layer's body: where it has cloud.

Heaps: shapes, clouds dealt, those that stand. Sheets and veils: the level of score that covers as
asked. Then the record, with life, region and map.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.builds import build_of
from dovrek.core.clouds.drape import Lift, draped, lift
from dovrek.core.clouds.gather import (
    Gathering,
    gather_land,
    gathered,
    gathered_record,
    gathering_of,
)
from dovrek.core.clouds.light.grid import GridShape, grid_shape
from dovrek.core.clouds.measure import EYE_DEPTH, MEASURED_M, column_depths, sheet_scores
from dovrek.core.clouds.motion import STILL, Moving
from dovrek.core.clouds.phase import PHASES, Phase
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
from dovrek.core.clouds.record import HEAPED, INSTANCE, VEIL, Field
from dovrek.core.clouds.shapes import ShapeParameters, Shapes, build_shapes, climbed
from dovrek.core.clouds.values import (
    ENDINGS,
    NOTHING,
    SIDES,
    Chart,
    Record,
    SheetLife,
    chart_of,
    density_record,
    drifted,
    edge_shift,
    lit_record,
    lived_record,
    masked_record,
    moved_record,
    rows_of,
    shredded,
)
from dovrek.core.compile.noise import NOISE_BYTES, noise_volumes
from dovrek.core.geometry.planet import eye_step_m, reach_m, told_m
from dovrek.core.land.forms import heights_of, shape_of
from dovrek.core.prepare.fineness import Fineness
from dovrek.core.prepare.heroes import (
    cleared,
    hero_forms,
    heroes_standing,
    middle_of,
    placed_of,
    room_of,
    wanted_of,
)
from dovrek.core.run.stage import Maker, Node, Tools, key_of, stage
from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer
from dovrek.sky.seen import placed_by_hand

LOWEST_BASE_M = 15.0
SHEET_RASTER = 200
SHREDS_TRIED = 4
# Of the whole: cover that a sketch may be off by, less than a step of the slider. What is kept
# is measured to the last pixel, and so does not depend on what was tried before.
SKETCH_CLOSE = 0.001
FULL_GROWN = 0.5  # stage of life
COARSE_PERIOD_M = 20_000.0  # steps in which the torus of heroes widens
NOMINAL_RADIUS = 0.46  # of a full-grown cloud, over the cell size


# -- stages -------------------------------------------------------------------------------


@stage("shapes", wide=True)
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


@stage("level", wide=True)
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
        share = _covered(field_of(record, solid, stood), tools)
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


@stage("sheet level", wide=True)
def sheet_level(tools: Tools, record: Record, cover: float,
                pull: NDArray[np.uint8] | None = None) -> float:
    """Score above which a sheet has cloud, so that its measured cover is as set; `pull` are the
    bytes of the land that it gathers by, behind the noise."""
    if cover <= 0.0:
        return NOTHING
    if cover >= 0.9995:
        return -9.0
    record = record.copy()
    solid = noise_volumes()
    if pull is not None:
        solid = np.concatenate([solid, pull.ravel()])
    field = field_of(record, solid, None)
    scores = np.empty((SHEET_RASTER, SHEET_RASTER))
    sheet_scores(field, 0, 0.5 * MEASURED_M, SHEET_RASTER, scores)
    flat = np.sort(scores.ravel())
    low, high = flat[0] - 1.5, flat[-1] + 0.2

    def score_of(share: float) -> float:
        return float(flat[int((1.0 - min(max(share, 0.0), 1.0)) * (len(flat) - 1))])

    found = score_of(cover)
    # The veil is thinner than 0.1 at its edges: walk the level until columns agree. What
    # those edges take off the score changes little on the way.
    for _ in range(9):
        record[0]["level"] = found
        share = _covered(field, tools)
        if abs(share - cover) < 0.004:
            break
        if share < cover:
            high = found
        else:
            low = found
        found += score_of(cover) - score_of(share)
        if not low < found < high:
            found = 0.5 * (low + high)
    return found


@stage("sheet")
def sheet(tools: Tools, record: Record, level: float, life: SheetLife) -> Record:
    """The record of a sheet as it stands."""
    return lived_record(record, level, life)


@stage("solids")
def solids(tools: Tools, forms: list[Shapes], charts: list[Chart],
           pulls: tuple[NDArray[np.uint8], ...] = ()) -> NDArray[np.uint8]:
    """Bytes of a field: noise, the forms of heaps, cover maps, lands that layers gather by."""
    own = [*(f.distance.ravel() for f in forms), *(c.cover.ravel() for c in charts),
           *(pull.ravel() for pull in pulls)]
    return np.concatenate([noise_volumes(), *own]) if own else noise_volumes()


@stage("joined cells")
def joined_cells(tools: Tools, stood: list[Cells], lands: list[Lift]) -> tuple[Any, Any, Any]:
    """Clearances, instances and links of all heaped layers, one behind the other; behind the
    clearances the lands that layers follow."""
    if len(stood) == 1 and not lands:
        return stood[0].clearances, stood[0].instances, stood[0].links
    none = Cells(np.zeros(0, np.float32), np.zeros(0, INSTANCE), np.zeros(0, np.int32), 0, 0.0)
    there = stood or [none]
    return (np.concatenate([*(c.clearances for c in there), *(x.heights.ravel() for x in lands)]),
            np.concatenate([c.instances for c in there]),
            np.concatenate([c.links for c in there]))


# -- one layer ----------------------------------------------------------------------------


def peopled(record: Record, stood: Cells | None) -> Record:
    """The record of a heaped layer with its clouds' places in a field of its own; others as is."""
    if stood is None:
        return record
    record = record.copy()
    p = record[0]
    p["squares"], p["period"], p["members_at"] = stood.squares, stood.period_m, stood.squares**2 + 1
    return record


def field_of(record: Record, solid: NDArray[np.uint8], stood: Cells | None) -> Field:
    """A field of one layer."""
    none = Cells(np.zeros(0, np.float32), np.zeros(0, INSTANCE), np.zeros(0, np.int32), 0, 0.0)
    there = stood or none
    return Field(peopled(record, stood), solid, there.clearances, there.instances, there.links)


def _covered(field: Field, tools: Tools) -> float:
    """Share of the measured square under cloud deep enough for the eye."""
    count, steps = 72, max(10, int(field.layers[0]["thickness"] / 110.0))
    depths, lengths = np.empty((count, count)), np.empty((count, count))
    tools.workers.over(tools.cancel, chunk=6)(lambda i0, i1: column_depths(
        field, 0, 0.5 * MEASURED_M, count, steps, i0, i1, depths, lengths), count)
    return float(np.mean(depths > EYE_DEPTH))


@dataclass(frozen=True)
class LayerBody:
    """Where one layer has cloud: a field of its own, and what to know of it."""

    layer: Layer
    field: Field  # of this layer alone, with what light hangs on
    grid: GridShape
    cloud: Record  # what density alone hangs on
    solid: Node[NDArray[np.uint8]]
    forms: Node[Shapes] | None  # of heaps
    stood: Node[Cells] | None
    chart: Chart | None
    form_bytes: int
    risen: Node[Lift] | None = None  # the land it follows
    pull: NDArray[np.uint8] | None = None  # of the land that a sheet gathers by

    @property
    def record(self) -> Any:
        return self.field.layers[0]

    @property
    def heaped(self) -> bool:
        """Separate clouds rather than a level sheet."""
        return int(self.record["form"]) == HEAPED

    @property
    def veil(self) -> bool:
        """Thin ice, so that depth itself may be interpolated."""
        return int(self.record["form"]) == VEIL

    @property
    def phase(self) -> Phase:
        return PHASES[int(self.record["phase"])]

    @property
    def base(self) -> float:
        """Height of the base above the ground, metres."""
        return float(self.record["base"])

    @property
    def middle(self) -> float:
        return self.base + 0.5 * self.layer.thickness_m

    @property
    def key(self) -> str:
        """Of all that it is made of."""
        return key_of(self.field.layers, self.solid, self.stood, self.risen)


def dealt_by(sky: Sky, layer: Layer) -> int:
    """The sky's seed as far as a layer heeds it: a frozen one keeps that of its freezing."""
    return sky.seed if layer.frozen is None else layer.frozen


def body_of(sky: Sky, layer: Layer, fineness: Fineness, maker: Maker,
            moving: Moving = STILL) -> LayerBody:
    """The body of one layer as it has moved. Raises Cancelled."""
    build = build_of(layer)
    sky_seed = dealt_by(sky, layer)
    seed = (layer.seed * 7919 + sky_seed * 104_729) % 2_000_003
    base = max(layer.base_m - sky.site.elevation_m, LOWEST_BASE_M) if not build.grounded else 0.0
    top, eye = base + layer.thickness_m, sky.camera.altitude_m
    grid = grid_shape(build, layer.cells.size_m, layer.thickness_m,
                      layer.body.density_per_km * 1e-3, reach_m(top, eye_step_m(eye)),
                      fineness.cells)._replace(cx=moving.centre[0], cy=moving.centre[1])
    if placed_by_hand(layer):
        foot = (sky.camera.east_m, sky.camera.north_m)
        middle = middle_of(placed_of(layer.heroes), grid, foot)
        moving = moving._replace(centre=middle)
        grid = grid._replace(cx=middle[0], cy=middle[1])
    record = density_record(layer, build, base, seed, sky_seed)
    cover, chart = layer.cover_oktas / 8.0, chart_of(layer)
    forms: Node[Shapes] | None = None
    stood: Node[Cells] | None = None
    gathering: Gathering | None = None
    if layer.gather.onto != "none" and len(heights_of(sky.relief)) > 1:
        shape = shape_of(sky.relief)
        gathering = gathering_of(maker.make(gather_land(shape, layer.gather)), sky.relief,
                                 layer.gather)
    if build.form == HEAPED:
        ahead = fineness.ahead
        if ahead != ALL_ROUND:
            ahead = ahead._replace(far=told_m(top, eye, fineness.least))
        how = _by_hand if placed_by_hand(layer) else _heaped
        record, forms, stood = how(record, layer, seed, reach_m(top, eye_step_m(eye)),
                                   replace(fineness, ahead=ahead), cover, maker, moving, gathering)
        gathering = None  # told by which clouds stand
    else:
        life = SheetLife(layer.life.stage, layer.life.spread, layer.life.ending)
        if gathering is None:
            found = sheet_level(record=record, cover=cover)
        else:
            record = gathered_record(record, gathering, NOISE_BYTES)
            found = sheet_level(record=record, cover=cover, pull=gathering.pull)
        record = maker.make(sheet(record=record, level=found, life=life))
    solid = solids(forms=[forms] if forms else [], charts=[chart] if chart else [],
                   pulls=(gathering.pull,) if gathering else ())
    form_bytes = maker.make(forms).distance.size if forms else 0
    if gathering is not None and chart is not None:  # its bytes lie behind the map's
        record = gathered_record(record, gathering, NOISE_BYTES + chart.cover.size)
    record = masked_record(record, SIDES[layer.region.side], layer.bounds, chart,
                           NOISE_BYTES + form_bytes)
    record = moved_record(record, moving)
    solid_bytes, *cells = maker.all([solid, *([stood] if stood else [])])
    field = field_of(record, solid_bytes, cells[0] if cells else None)
    field = field._replace(layers=lit_record(field.layers, layer, base, grid))
    drifted(field.layers[0], moving)
    risen: Node[Lift] | None = None
    if layer.drape.amount > 0.0 and len(heights_of(sky.relief)) > 1:
        risen = lift(relief=shape_of(sky.relief), smooth_m=1e3 * layer.drape.smooth_km)
        land = maker.make(risen)
        draped(field.layers[0], land, sky, layer.drape.amount, not build.grounded,
               len(field.clearances))
        field = field._replace(clearances=np.concatenate([field.clearances,
                                                          land.heights.ravel()]))
    return LayerBody(layer, field, grid, record, solid, forms, stood, chart, form_bytes, risen,
                     gathering.pull if gathering else None)


def _heaped(record: Record, layer: Layer, seed: int, reach: float, fineness: Fineness, cover: float,
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
    record = record.copy()
    p = record[0]
    p["shapes_at"] = NOISE_BYTES
    p["shape_n"], p["shape_nz"] = form.distance.shape[1], form.distance.shape[3]
    p["shape_half_width"], p["shape_voxel"] = form.half_width_m, form.voxel_m
    p["shape_reach"], p["shape_floor"] = form.reach_m, form.floor_m
    p["shape_squash"] = form.squash
    # Flat clouds have little room for lumps.
    p["skin"] = min(1.6 * high_m / (NOMINAL_RADIUS * size_m), 1.0)
    return record


def _by_hand(record: Record, layer: Layer, seed: int, reach: float, fineness: Fineness,
             cover: float, maker: Maker, moving: Moving, gathering: Gathering | None
             ) -> tuple[Record, Node[Shapes], Node[Cells]]:
    """Record, forms and clouds of what was placed by hand."""
    size = layer.cells.size_m
    placed = placed_of(layer.heroes)
    forms = hero_forms(wanted=wanted_of(layer.heroes, NOMINAL_RADIUS * size, layer.body.lobes,
                                        fineness.shape_grid))
    record = _shaped(record, maker.make(forms), max(p.top_m for p in placed), size)
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
