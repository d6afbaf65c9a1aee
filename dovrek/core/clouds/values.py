"""What the document says of a layer, as the values of its record."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds import shapes
from dovrek.core.clouds.bank import bounded
from dovrek.core.clouds.builds import BUILDS
from dovrek.core.clouds.builds.build import Build
from dovrek.core.clouds.cover_map import cover_of
from dovrek.core.clouds.light.grid import GridShape
from dovrek.core.clouds.motion import STILL, Moving
from dovrek.core.clouds.phase import COLUMNS_AT, ICE_AT, PHASES, droplets_at
from dovrek.core.clouds.placement.stand import FALLING, GROWN
from dovrek.core.clouds.rain import RAIN_PER_M, RAIN_SHADE
from dovrek.core.clouds.record import HEAPED, LAYER, PROFILE_NODES, VEIL, copied
from dovrek.core.colour.tint import tint_factors
from dovrek.core.compile.noise import hash_unit
from dovrek.sky.cyclone import Cyclone
from dovrek.sky.genera import VEILS
from dovrek.sky.keeping import Bounds
from dovrek.sky.layer import Layer
from dovrek.sky.seen import placed_by_hand
from dovrek.sky.wash import Wash

Record = NDArray[np.void]

NOTHING, WHOLE = 1e3, -5.0  # levels of score above which there is no cloud, below which no gap
SIDES = {"everywhere": 0.0, "inside": 1.0, "outside": -1.0}
ENDINGS = ("evaporates", "tears", "subsides")
WIDEST_WALL, WIDEST_EYE = 0.4, 0.8  # of a storm's radius, of its eyewall
EDGE_STOPS = 1.5  # by which thin edges of a wash are brighter at most
STREET_CELLS, WAVE_CELLS = 3.2, 6.5  # spacing of rows in cells, unless set



class SheetLife(NamedTuple):
    """How far a sheet or a veil has lived."""

    stage: float
    spread: float
    ending: str


class Face(NamedTuple):
    """Where on a planet the layer's field has its middle."""

    latitude: float  # radians
    radius_m: float


NOWHERE = Face(0.0, 6.371e6)


class Chart(NamedTuple):
    """A cover map as a layer uses it."""

    cover: NDArray[np.uint8]  # (rows, columns), 255 all cloud
    extent_m: float
    rotation_deg: float
    strength: float


def density_record(layer: Layer, build: Build, base: float, seed: int, sky_seed: int,
                   face: Face = NOWHERE) -> Record:
    """(1,) LAYER: what density hangs on, but for the level of score and the shapes of heaps.

    `base` is in metres above the ground, `seed` is of the layer's own cells, `sky_seed` the sky's.
    What only light hangs on is nought, the base too unless rain falls from it.
    """
    record = np.zeros(1, LAYER)
    p = record[0]
    wind = math.radians(layer.wind.from_deg + 180.0)
    p["build"], p["form"], p["thickness"] = BUILDS.index(build), build.form, layer.thickness_m
    p["extinction"], p["edge"] = layer.body.density_per_km * 1e-3, layer.body.edge_m
    p["fray"], p["lobes"], p["comb"] = layer.body.fray, layer.body.lobes, layer.wind.comb
    p["cell_size"], p["cell_seed"] = layer.cells.size_m, seed
    p["wind_x"], p["wind_y"] = math.sin(wind), math.cos(wind)
    p["shift_x"] = 2.1e5 * hash_unit(seed, 1, 1)
    p["shift_y"] = 2.1e5 * hash_unit(seed, 2, 1)
    p["lowest"], p["highest"] = (share * layer.thickness_m for share in (build.lowest,
                                                                         build.highest))
    p["step"], p["level_step"] = build.step_m(layer), build.level_step_m(layer)
    p["coarsest"] = build.coarsest * layer.cells.size_m
    p["spread"], p["huddle"] = layer.cells.spread, layer.cells.huddle
    p["rows"], p["patchiness"] = layer.rows.share, layer.rows.patchiness
    p["row_x"], p["row_y"], p["row_spacing"] = rows_of(layer, build)
    p["round_base"] = (1.0 - layer.body.base_flatness) / 0.3
    p["curl"], p["slant"] = layer.body.curl, layer.wind.slant
    p["lean"] = 1.0 / math.sqrt(1.0 + layer.wind.slant**2)
    p["anvil"] = layer.body.anvil if build.form == HEAPED else 0.0
    p["ending"] = ENDINGS.index(layer.life.ending)
    if layer.body.profile:
        heights, densities = zip(*layer.body.profile, strict=True)
        p["profiled"] = 1.0
        p["profile"] = np.interp(np.linspace(0.0, 1.0, PROFILE_NODES), heights, densities)
    if layer.cyclone.stands:
        _storm(p, layer.cyclone)
    if layer.systems.stands:
        p["face_size"], p["face_fronts"] = 1e3 * layer.systems.size_km, layer.systems.fronts
        p["face_bands"], p["face_cells"] = layer.systems.bands, layer.systems.cells
        p["face_latitude"], p["face_per_m"] = face.latitude, 1.0 / face.radius_m
    _open(p, layer, seed, sky_seed)
    if layer.fall.amount > 0.0 and build.form != VEIL:
        p["base"] = base
        p["fall"] = RAIN_PER_M * layer.fall.amount**1.5
        p["fall_reach"] = layer.fall.reach * base
        p["lowest"] = min(p["lowest"], -p["fall_reach"])
    return record


def _storm(p: Any, storm: Cyclone) -> None:
    """A turning storm, as it stands at the start of the clip; its eye stays within its wall."""
    p["storm_x"], p["storm_y"] = 1e3 * storm.east_km, 1e3 * storm.north_km
    p["storm_sign"] = 1.0 if storm.hemisphere == "north" else -1.0
    p["storm_radius"] = 1e3 * storm.radius_km
    p["storm_wall"] = 1e3 * min(storm.wall_km, WIDEST_WALL * storm.radius_km)
    p["storm_eye"] = min(1e3 * storm.eye_km, WIDEST_EYE * p["storm_wall"])
    p["storm_arms"], p["storm_pitch"] = storm.arms, math.tan(math.radians(storm.pitch_deg))
    p["storm_width"], p["storm_ragged"] = storm.width, storm.ragged
    p["storm_shield"], p["storm_high"], p["storm_sea"] = (
        storm.shield, storm.outer_height, storm.sea)


def _open(p: Any, layer: Layer, seed: int, sky_seed: int) -> None:
    """Where clearings and regions lie; which side of a region is `masked`'s."""
    clearings, region = layer.clearings, layer.region
    p["clearing_share"], p["clearing_edge"] = clearings.share, clearings.edge
    p["clearing_centre"] = quantile(min(max(clearings.share, 1e-3), 0.999))
    p["clearing_size"] = clearings.size_km * 1e3
    p["clearing_x"] = 3e5 * hash_unit(clearings.seed, seed, 3)
    p["clearing_y"] = 3e5 * hash_unit(clearings.seed, seed, 4)
    p["region_size"], p["region_edge"] = region.size_km * 1e3, region.edge
    p["region_centre"] = quantile(1.0 - region.share)
    p["region_x"] = 3e5 * hash_unit(region.seed, sky_seed, 11)
    p["region_y"] = 3e5 * hash_unit(region.seed, sky_seed, 12)


def lit_record(record: Record, layer: Layer, base: float, grid: GridShape) -> Record:
    """The record with what light hangs on as well."""
    record = copied(record)
    p = record[0]
    p["base"], p["phase"] = base, phase_of(layer)
    phase = PHASES[int(p["phase"])]
    p["k_scaled"], p["g_scaled"] = phase.k_scaled, phase.g_scaled
    p["halo"] = layer.light.halo if p["form"] == VEIL else 0.0
    p["most"] = BUILDS[int(p["build"])].most(p)
    if placed_by_hand(layer):
        p["most"] *= max([1.0, *(h.density for h in layer.heroes)])
    if p["fall"] > 0.0:
        share = layer.cover_oktas / 8.0
        p["rain_ground"] = 1.0 / (1.0 - share + share * RAIN_SHADE)
    _wash(p, layer.wash)
    p["grid_n"], p["grid_nz"], p["grid_levels"] = grid.n, grid.nz, grid.levels
    p["grid_dx"], p["grid_dz"], p["grid_z0"] = grid.dx, grid.dz, grid.z0
    return record


def _wash(p: Any, wash: Wash) -> None:
    """The tones of a wash; without strength it has none."""
    p["tint_lit"], p["tint_body"], p["tint_base"] = (
        tint_factors(colour, wash.strength) for colour in (wash.lit, wash.body, wash.base))
    p["body_from"], p["lit_from"], p["tones_soft"] = wash.body_from, wash.lit_from, wash.soft
    p["edged"] = int(wash.edge != 0.0)
    p["tint_edge"] = tint_factors(wash.edge_tint, wash.strength * abs(wash.edge)) * 2.0 ** (
        EDGE_STOPS * wash.strength * wash.edge)
    p["blotches"] = wash.blotches
    p["tint_blotch"] = tint_factors(wash.blotch_tint, wash.strength)
    p["blotch_centre"] = quantile(min(max(wash.blotches, 1e-3), 0.999))
    p["blotch_size"] = wash.blotch_size_m
    p["blotch_x"] = 3e5 * hash_unit(wash.blotch_seed, 5, 11)
    p["blotch_y"] = 3e5 * hash_unit(wash.blotch_seed, 5, 12)
    p["styled"] = int(wash.strength > 0.0 and (
        wash.body_from > 0.0 or wash.lit_from > 0.0 or wash.edge != 0.0 or wash.blotches > 0.0))


def lived_record(record: Record, level: float, life: SheetLife) -> Record:
    """The record of a sheet or a veil at a level of score and a stage of life: it forms, thickens,
    thins out and goes by its ending."""
    record = copied(record)
    p = record[0]
    p["level"] = level
    if life.stage <= 0.0 or life.stage >= 1.0:
        p["level"] = NOTHING
        return record
    forming = smooth(life.stage / GROWN)
    going = smooth((life.stage - FALLING) / (1.0 - FALLING))
    amount = min(forming, 1.0 - going)
    if amount >= 1.0:
        return record
    p["stages_apart"] = 1.6 * life.spread * (1.0 - amount)
    p["extinction"] *= 0.08 + 0.92 * amount
    if p["level"] < WHOLE:  # an unbroken sheet breaks up
        p["level"] = -1.3
    p["level"] += 0.95 * (1.0 - amount)
    if going > 0.0 and life.ending == "tears":
        p["fray"] = min(p["fray"] + going, 1.0)
    elif going > 0.0 and life.ending == "subsides":
        p["thickness"] *= 1.0 - 0.6 * going
        p["level"] -= 0.7 * going
        p["lobes"] *= 1.0 - 0.6 * going
    else:
        p["extinction"] *= 1.0 - 0.5 * going
    return record


def moved_record(record: Record, moving: Moving) -> Record:
    """The record with the change of its shape and, in a loop, its second copy, in the frame of its
    own field."""
    if moving._replace(drift=(0.0, 0.0), other=(0.0, 0.0), centre=(0.0, 0.0)) == STILL:
        return record
    record = copied(record)
    p = record[0]
    p["churn_slow"], p["churn"], p["churn_fine"] = moving.churn
    p["back_x"], p["back_y"] = moving.back
    p["fade"] = moving.fade
    p["storm_angle"], p["storm_phase"], p["storm_other"], p["storm_share"] = moving.spin
    if moving.fade > 0.0:
        p["fade_x"], p["fade_y"] = (b - a for a, b in zip(moving.drift, moving.other, strict=True))
    return record


def drifted(p: Any, moving: Moving) -> None:
    """Set in a layer's record where its field and its grids lie about the camera."""
    p["drift_x"], p["drift_y"] = moving.drift
    p["fade_x"] += moving.drift[0]
    p["fade_y"] += moving.drift[1]
    p["grid_x"], p["grid_y"] = (a + b for a, b in zip(moving.drift, moving.centre, strict=True))


def masked_record(record: Record, side: float, bounds: Bounds, chart: Chart | None,
                  at: int) -> Record:
    """The record with the layer's region, bounds and cover map, which the cover was measured
    without; the map's bytes begin `at` among the field's."""
    record = copied(record)
    p = record[0]
    p["region_side"] = side
    p["masked"] = float(side != 0.0)
    bounded(p, bounds)
    if chart is not None:
        turn = math.radians(chart.rotation_deg)
        p["masked"], p["map_strength"] = 1.0, chart.strength
        p["map_rows"], p["map_columns"] = chart.cover.shape
        p["map_extent"] = chart.extent_m
        p["map_cos"], p["map_sin"], p["map_at"] = math.cos(turn), math.sin(turn), at
    return record


def chart_of(layer: Layer) -> Chart | None:
    """The layer's cover map; None without one that can be read and counts."""
    given = layer.map
    if not given.asset or given.strength <= 0.0:
        return None
    cover = cover_of(given.asset, given.black, given.white, given.invert)
    if cover is None:
        return None
    return Chart(cover, given.extent_km * 1e3, given.rotation_deg, given.strength)


def phase_of(layer: Layer) -> int:
    """Place of a layer's phase function in PHASES."""
    if layer.genus in VEILS:
        return ICE_AT if layer.light.crystal == "rough" else COLUMNS_AT
    return droplets_at(layer.light.droplet_radius_um)


def rows_of(layer: Layer, build: Build) -> tuple[float, float, float]:
    """Direction across a layer's rows (east, north) and their spacing in metres.

    Unless set: heaps in streets along the wind three cells apart (common practice), sheets in
    waves across it.
    """
    heaped = build.form == HEAPED
    wind = math.radians(layer.wind.from_deg + 180.0)
    across = wind + 0.5 * math.pi if heaped else wind
    if layer.rows.bearing_deg is not None:
        across = math.radians(layer.rows.bearing_deg) + 0.5 * math.pi
    elif "radiatus" in layer.varieties:
        across = wind + 0.5 * math.pi
    spacing = (STREET_CELLS if heaped else WAVE_CELLS) * layer.cells.size_m
    if layer.rows.spacing_km is not None:
        spacing = layer.rows.spacing_km * 1e3
    return math.sin(across), math.cos(across), spacing


def _rounded(layer: Layer) -> float:
    """How far a heap's base is rounder than usual: 0 for flat ones, 1 at the most."""
    return max(1.0 - layer.body.base_flatness / 0.7, 0.0)


def _eaten(layer: Layer) -> float:
    """Share of a full-grown heap's height that a ragged base is uneven by, at most a half."""
    body = layer.body
    uneven = (0.04 * layer.cells.size_m + 14.0 + 26.0 * body.fray) * 2.3 * _rounded(layer)
    return min(uneven / (layer.thickness_m * shapes.climbed(body.growth)), 0.5)


def shredded(layer: Layer) -> bool:
    """Whether a heap's skin is so much of it that only its columns tell what it covers."""
    return _eaten(layer) > 0.1


def edge_shift(layer: Layer) -> float:
    """How far the skin carries the edge of a full-grown heap outward, metres (measured)."""
    body = layer.body
    torn = max(body.fray - 0.5, 0.0)
    # A ragged base eats into shreds that are hardly higher than it is uneven.
    return -layer.cells.size_m * (0.012 + 0.025 * _rounded(layer) + 0.025 * (1.0 - body.growth)
                                  + 0.03 * torn + 0.4 * _eaten(layer) ** 2)


def quantile(share: float) -> float:
    """Value of the flat noise that a share of it exceeds (a bell of spread 0.4, by a logistic
    curve)."""
    return 0.22 * math.log((1.0 - share) / share)


def smooth(share: float) -> float:
    """Cubic step of a share held to 0 … 1."""
    u = min(max(share, 0.0), 1.0)
    return u * u * (3.0 - 2.0 * u)
