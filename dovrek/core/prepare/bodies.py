"""Stages of one layer's body: where it has cloud.

Heaps are in `heaped`; here are sheets and veils, whose level of score covers as asked, and the
record of either with life, region and map.
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
    gathered_record,
    gathering_of,
)
from dovrek.core.clouds.light.grid import GridShape, grid_shape
from dovrek.core.clouds.measure import MEASURED_M, sheet_scores
from dovrek.core.clouds.motion import STILL, Moving
from dovrek.core.clouds.phase import PHASES, Phase
from dovrek.core.clouds.placement.deal import (
    ALL_ROUND,
)
from dovrek.core.clouds.placement.stand import Cells
from dovrek.core.clouds.record import HEAPED, VEIL, Field, copied
from dovrek.core.clouds.shapes import Shapes
from dovrek.core.clouds.values import (
    NOTHING,
    SIDES,
    Chart,
    Face,
    Record,
    SheetLife,
    chart_of,
    density_record,
    drifted,
    lit_record,
    lived_record,
    masked_record,
    moved_record,
)
from dovrek.core.compile.noise import NOISE_BYTES, noise_volumes
from dovrek.core.geometry.planet import eye_step_m, lit_m, reach_m, told_m
from dovrek.core.land.forms import heights_of, shape_of
from dovrek.core.prepare.fields import covered, field_of, solids
from dovrek.core.prepare.fineness import Fineness
from dovrek.core.prepare.heaped import by_hand, heaped
from dovrek.core.prepare.heroes import (
    middle_of,
    placed_of,
)
from dovrek.core.run.maker import Maker
from dovrek.core.run.stage import Node, Tools, all_of_them, key_of, stage
from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer
from dovrek.sky.seen import placed_by_hand

LOWEST_BASE_M = 15.0
SHEET_RASTER = 200
FACE_REACH = 3.0  # systems to each side by which a whole face's cover is told
STORM_LEVEL = 1.6  # score between a storm of full cover and one of none


@stage("sheet level", wide=True, outlasts=all_of_them)
def sheet_level(tools: Tools, record: Record, cover: float,
                pull: NDArray[np.uint8] | None = None) -> float:
    """Score above which a sheet has cloud, so that its measured cover is as set; `pull` are the
    bytes of the land that it gathers by, behind the noise."""
    if cover <= 0.0:
        return NOTHING
    if cover >= 0.9995:
        return -9.0
    record = copied(record)
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
        share = covered(field, tools)
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


@stage("wide level", wide=True, outlasts=all_of_them)
def wide_level(tools: Tools, record: Record, cover: float, half_m: float) -> float:
    """Score above which weather over a whole face has cloud, by its scores as far as `half_m`."""
    if cover <= 0.0:
        return NOTHING
    scores = np.empty((SHEET_RASTER, SHEET_RASTER))
    sheet_scores(field_of(record, noise_volumes(), None), 0, half_m, SHEET_RASTER, scores)
    return float(np.quantile(scores, 1.0 - cover)) - (1.0 if cover >= 1.0 else 0.0)


@stage("sheet")
def sheet(tools: Tools, record: Record, level: float, life: SheetLife) -> Record:
    """The record of a sheet as it stands."""
    return lived_record(record, level, life)


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


def land_under(sky: Sky, layer: Layer) -> Node[Lift]:
    """The land as a layer follows it and gathers by it."""
    return lift(relief=shape_of(sky.relief), smooth_m=1e3 * layer.drape.smooth_km)


def body_of(sky: Sky, layer: Layer, fineness: Fineness, maker: Maker,
            moving: Moving = STILL) -> LayerBody:
    """The body of one layer as it has moved. Raises Cancelled."""
    build = build_of(layer)
    sky_seed = dealt_by(sky, layer)
    seed = (layer.seed * 7919 + sky_seed * 104_729) % 2_000_003
    base = max(layer.base_m - sky.site.elevation_m, LOWEST_BASE_M) if not build.grounded else 0.0
    top, eye = base + layer.thickness_m, sky.camera.altitude_m
    radius = sky.air.planet_m
    reach = reach_m(top, eye_step_m(eye), radius)
    grid = grid_shape(build, layer.cells.size_m, layer.thickness_m,
                      layer.body.density_per_km * 1e-3, fineness.far(lit_m(top, eye, radius)),
                      fineness.cells)
    grid = grid._replace(cx=moving.centre[0], cy=moving.centre[1])
    if placed_by_hand(layer):
        foot = (sky.camera.east_m, sky.camera.north_m)
        middle = middle_of(placed_of(layer.heroes), grid, foot)
        moving = moving._replace(centre=middle)
        grid = grid._replace(cx=middle[0], cy=middle[1])
    if layer.cyclone.stands:  # lit finely about its eye, wherever the camera is
        storm = layer.cyclone
        grid = grid._replace(cx=1e3 * storm.east_km, cy=1e3 * storm.north_km)
        moving = moving._replace(centre=(grid.cx, grid.cy))
    record = density_record(layer, build, base, seed, sky_seed,
                            Face(math.radians(sky.site.latitude), radius))
    cover, chart = layer.cover_oktas / 8.0, chart_of(layer)
    forms: Node[Shapes] | None = None
    stood: Node[Cells] | None = None
    gathering: Gathering | None = None
    if layer.drape.gather != 0.0 and len(heights_of(sky.relief)) > 1:
        gathering = gathering_of(maker.make(land_under(sky, layer)), sky.relief, layer.drape)
    if build.form == HEAPED:
        ahead = fineness.ahead
        if ahead != ALL_ROUND:
            ahead = ahead._replace(far=told_m(top, eye, fineness.least, radius))
        how = by_hand if placed_by_hand(layer) else heaped
        record, forms, stood = how(record, layer, seed, reach,
                                   replace(fineness, ahead=ahead), cover, maker, moving, gathering)
        gathering = None  # told by which clouds stand
    else:
        life = SheetLife(layer.life.stage, layer.life.spread, layer.life.ending)
        found: float | Node[float]
        if layer.cyclone.stands:  # its own arms say where it has cloud; cover fills or thins them
            found = STORM_LEVEL * (0.5 - cover) if cover > 0.0 else NOTHING
        elif layer.systems.stands:
            found = wide_level(record=record, cover=cover,
                               half_m=1e3 * FACE_REACH * layer.systems.size_km)
        elif gathering is None:
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
        risen = land_under(sky, layer)
        land = maker.make(risen)
        draped(field.layers[0], land, sky, layer.drape.amount, not build.grounded,
               len(field.clearances))
        field = field._replace(clearances=np.concatenate([field.clearances,
                                                          land.heights.ravel()]))
    return LayerBody(layer, field, grid, record, solid, forms, stood, chart, form_bytes, risen,
                     gathering.pull if gathering else None)
