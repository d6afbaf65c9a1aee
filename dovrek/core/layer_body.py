"""Where one layer has cloud: its values as the field's parameters, and the field itself."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dovrek.core import cloud_cells, cloud_shapes, light_grid
from dovrek.core import density as d
from dovrek.core.cover_map import cover_of
from dovrek.core.media import PLANET_RADIUS_KM
from dovrek.core.noise import hash_unit
from dovrek.core.phase import COLUMNS_AT, ICE_AT, PHASES, Phase, droplets_at
from dovrek.core.tint import tint_factors
from dovrek.sky.genera import CELLS, HEAPS, SHEETS, VEILS
from dovrek.sky.layer import Layer

GENUS_KIND = (dict.fromkeys(HEAPS, d.CUMULUS) | dict.fromkeys(CELLS, d.CELLED)
              | dict.fromkeys(SHEETS, d.STRATUS) | dict.fromkeys(VEILS, d.CIRRUS)
              | {"slab": d.SLAB})
HEAPED_SPECIES = {"castellanus", "floccus", "fractus"}
EARTH_M = 1e3 * PLANET_RADIUS_KM
FARTHEST_M = 600_000.0
NOTHING, WHOLE = 1e3, -5.0  # levels of score above which there is no cloud, below which no gap
SIDES = {"everywhere": 0.0, "inside": 1.0, "outside": -1.0}
ENDINGS = ("evaporates", "tears", "subsides")
RAIN_PER_M = 1.6e-3  # extinction of the heaviest rain haze (about 1.9 km of sight)
STREET_CELLS, WAVE_CELLS = 3.2, 6.5  # spacing of rows in cells, unless set


@dataclass(frozen=True)
class LayerBody:
    """Where one layer has cloud: a field of its own, and what to know of it."""

    layer: Layer
    field: d.Field
    grid: light_grid.GridShape
    key: str
    made_of: tuple[str, str]  # keys of what the field's bytes, and its reals and links, hold

    @property
    def heaped(self) -> bool:
        """Separate clouds rather than a level sheet."""
        return int(self.field.layers[0][d.KIND]) == d.CUMULUS

    @property
    def veil(self) -> bool:
        """Thin ice, so that depth itself may be interpolated."""
        return int(self.field.layers[0][d.KIND]) == d.CIRRUS

    @property
    def phase(self) -> Phase:
        return PHASES[int(self.field.layers[0][d.PHASE])]

    @property
    def base(self) -> float:
        """Height of the base above the ground, metres."""
        return float(self.field.layers[0][d.BASE])

    @property
    def middle(self) -> float:
        return self.base + 0.5 * self.layer.thickness_m


def parameters_of(layer: Layer, kind: int, base: float, seed: int, sky_seed: int,
                  grid: light_grid.GridShape) -> NDArray[np.float64]:
    """Row of a layer's values in the field (dovrek.core.density), but for its level and shapes.

    `base` is in metres above the ground, `seed` is of the layer's own cells, `sky_seed` the sky's.
    """
    p = np.zeros(d.PARAMETERS)
    wind = math.radians(layer.wind.from_deg + 180.0)
    p[d.KIND], p[d.BASE], p[d.THICK] = kind, base, layer.thickness_m
    p[d.SIGMA], p[d.EDGE] = layer.body.density_per_km * 1e-3, layer.body.edge_m
    p[d.FRAY], p[d.LOBES], p[d.COMB] = layer.body.fray, layer.body.lobes, layer.wind.comb
    p[d.SIZE], p[d.CELL_SEED] = layer.cells.size_m, seed
    p[d.WIND_X], p[d.WIND_Y] = math.sin(wind), math.cos(wind)
    p[d.SHIFT_X] = 2.1e5 * hash_unit(seed, 1, 1)
    p[d.SHIFT_Y] = 2.1e5 * hash_unit(seed, 2, 1)
    p[d.CLEAR_SHARE], p[d.CLEAR_EDGE] = layer.clearings.share, layer.clearings.edge
    share = min(max(layer.clearings.share, 1e-3), 0.999)
    p[d.CLEAR_CENTRE] = quantile(share)
    p[d.CLEAR_SIZE] = layer.clearings.size_km * 1e3
    p[d.CLEAR_X] = 3e5 * hash_unit(layer.clearings.seed, seed, 3)
    p[d.CLEAR_Y] = 3e5 * hash_unit(layer.clearings.seed, seed, 4)
    p[d.Z_LOW] = 0.0 if kind == d.CIRRUS else -0.03 * layer.thickness_m
    p[d.Z_HIGH] = layer.thickness_m * (1.0 if kind == d.CIRRUS else 1.03)
    p[d.PHASE] = phase_of(layer)
    _arrange(p, layer, base, sky_seed)
    p[d.K_SCALED] = PHASES[int(p[d.PHASE])].k_scaled
    p[d.G_SCALED] = PHASES[int(p[d.PHASE])].g_scaled
    p[d.STEP] = march_step(kind, layer)
    if kind == d.CIRRUS and layer.body.lobes > d.TUFTED:
        p[d.STEP] *= 0.4  # tufts are small
    p[d.GRID_N], p[d.GRID_NZ], p[d.GRID_LEVELS] = grid.n, grid.nz, grid.levels
    p[d.GRID_DX], p[d.GRID_DZ], p[d.GRID_Z0] = grid.dx, grid.dz, grid.z0
    return p


def _arrange(p: NDArray[np.float64], layer: Layer, base: float, sky_seed: int) -> None:
    """Rows, form, falling rain and colours of a layer into its parameters."""
    kind = int(p[d.KIND])
    p[d.SPREAD], p[d.HUDDLE] = layer.cells.spread, layer.cells.huddle
    p[d.ROWS], p[d.PATCHY] = layer.rows.share, layer.rows.patchiness
    p[d.ROW_X], p[d.ROW_Y], p[d.ROW_SPACING] = rows_of(layer, kind)
    p[d.ROUND_BASE] = (1.0 - layer.body.base_flatness) / 0.3
    p[d.CURL], p[d.SLANT] = layer.body.curl, layer.wind.slant
    p[d.LEAN] = 1.0 / math.sqrt(1.0 + layer.wind.slant**2)
    p[d.ANVIL] = layer.body.anvil if kind == d.CUMULUS else 0.0
    p[d.ENDING] = ENDINGS.index(layer.life.ending)
    p[d.HALO] = layer.light.halo if kind == d.CIRRUS else 0.0
    if layer.fall.amount > 0.0 and kind != d.CIRRUS:
        p[d.FALL] = RAIN_PER_M * layer.fall.amount**1.5
        p[d.FALL_REACH] = layer.fall.reach * base
        share = layer.cover_oktas / 8.0
        p[d.RAIN_GROUND] = 1.0 / (1.0 - share + share * d.RAIN_SHADE)
        p[d.Z_LOW] = min(p[d.Z_LOW], -p[d.FALL_REACH])
    region = layer.region
    # `side` is set when the cover is known, which holds where the layer stands.
    p[d.REGION_SIZE], p[d.REGION_EDGE] = region.size_km * 1e3, region.edge
    p[d.REGION_CENTRE] = quantile(1.0 - region.share)
    p[d.REGION_X] = 3e5 * hash_unit(region.seed, sky_seed, 11)
    p[d.REGION_Y] = 3e5 * hash_unit(region.seed, sky_seed, 12)
    wash = layer.wash
    for at, colour in ((d.LIT, wash.lit), (d.SHADED, wash.body), (d.UNDER, wash.base)):
        p[at : at + 3] = tint_factors(colour, wash.strength)
    if layer.body.profile:
        heights, densities = zip(*layer.body.profile, strict=True)
        p[d.PROFILED] = 1.0
        p[d.PROFILE : d.PROFILE + d.PROFILE_NODES] = np.interp(
            np.linspace(0.0, 1.0, d.PROFILE_NODES), heights, densities)


def reach_m(top_m: float, camera_m: float) -> float:
    """Distance at which a cloud top sinks below the horizon: √(2Rh) from both sides."""
    r = EARTH_M
    reach = math.sqrt(2.0 * r * max(top_m, 50.0)) + math.sqrt(2.0 * r * max(camera_m, 0.0))
    return min(reach * 1.02, FARTHEST_M)


def told_m(top_m: float, camera_m: float, angle: float) -> float:
    """Distance, in steps of a tenth, up to which a cloud's top is seen at least so high (radians)
    above the level; it has no end for a top below the camera."""
    over = top_m - camera_m
    if over <= 0.0 or angle <= 0.0:
        return math.inf
    far = EARTH_M * (math.sqrt(angle * angle + 2.0 * over / EARTH_M) - angle)
    return float(1.1 ** math.ceil(math.log(far, 1.1)))


def kind_of(layer: Layer) -> int:
    """How a layer's body is made: by its genus, and by species that are built otherwise."""
    if layer.species == "lenticularis":
        return d.LENS
    if layer.species in HEAPED_SPECIES and layer.genus not in VEILS:
        return d.CUMULUS
    return int(GENUS_KIND[layer.genus])


def phase_of(layer: Layer) -> int:
    """Place of a layer's phase function in PHASES."""
    if layer.genus in VEILS:
        return ICE_AT if layer.light.crystal == "rough" else COLUMNS_AT
    return droplets_at(layer.light.droplet_radius_um)


def rows_of(layer: Layer, kind: int) -> tuple[float, float, float]:
    """Direction across a layer's rows (east, north) and their spacing in metres.

    Unless set: heaps in streets along the wind three cells apart (common practice), sheets in
    waves across it.
    """
    heaped = kind == d.CUMULUS
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
    return min(uneven / (layer.thickness_m * cloud_shapes.climbed(body.growth)), 0.5)


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


def march_step(kind: int, layer: Layer) -> float:
    """Basic step inside a layer, metres, at quality 1: soft edges need no short ones."""
    thick_m, size_m, edge = layer.thickness_m, layer.cells.size_m, layer.body.edge_m
    if kind == d.CUMULUS:
        soft = 0.25 * edge * (1.0 + 5.0 * layer.body.fray**2)
        return float(np.clip(max(min(0.013 * size_m, 0.05 * thick_m), soft), 3.0, 30.0))
    if kind in (d.STRATUS, d.SLAB):
        return float(np.clip(thick_m / 14.0, 4.0, max(60.0, 0.25 * edge)))
    if kind == d.CELLED:
        return float(np.clip(thick_m / 11.5, 4.0, 40.0))
    if kind == d.LENS:  # the rims of plates are thin
        return float(np.clip(thick_m / 14.0, 4.0, 20.0))
    return float(np.clip(thick_m / 12.0, 6.0, 150.0))


def quantile(share: float) -> float:
    """Value of the flat noise that a share of it exceeds (a bell of spread 0.4, by a logistic
    curve)."""
    return 0.22 * math.log((1.0 - share) / share)


def smooth(share: float) -> float:
    """Cubic step of a share held to 0 … 1."""
    u = min(max(share, 0.0), 1.0)
    return u * u * (3.0 - 2.0 * u)


def masked(field: d.Field, layer: Layer) -> d.Field:
    """The field with the layer's region and cover map, which the cover was measured without."""
    p = field.layers[0]
    p[d.REGION] = SIDES[layer.region.side]
    p[d.MASKED] = float(p[d.REGION] != 0.0)
    chart = layer.map
    cover = cover_of(chart.asset, chart.black, chart.white, chart.invert) if chart.asset else None
    if cover is None or chart.strength <= 0.0:
        return field
    turn = math.radians(chart.rotation_deg)
    p[d.MASKED], p[d.MAP_STRENGTH] = 1.0, chart.strength
    p[d.MAP_ROWS], p[d.MAP_COLUMNS] = cover.shape
    p[d.MAP_EXTENT] = chart.extent_km * 1e3
    p[d.MAP_COS], p[d.MAP_SIN] = math.cos(turn), math.sin(turn)
    p[d.MAP_AT] = len(field.bytes)
    return field._replace(bytes=np.concatenate([field.bytes, cover.ravel()]))


def live(p: NDArray[np.float64], layer: Layer) -> None:
    """Let a sheet or a veil live: it forms, thickens, thins out and goes by its ending."""
    life = layer.life
    if life.stage <= 0.0 or life.stage >= 1.0:
        p[d.LEVEL] = NOTHING
        return
    forming = smooth(life.stage / cloud_cells.GROWN)
    going = smooth((life.stage - cloud_cells.FALLING) / (1.0 - cloud_cells.FALLING))
    amount = min(forming, 1.0 - going)
    if amount >= 1.0:
        return
    p[d.STAGES_APART] = 1.6 * life.spread * (1.0 - amount)
    p[d.SIGMA] *= 0.08 + 0.92 * amount
    if p[d.LEVEL] < WHOLE:  # an unbroken sheet breaks up
        p[d.LEVEL] = -1.3
    p[d.LEVEL] += 0.95 * (1.0 - amount)
    if going > 0.0 and life.ending == "tears":
        p[d.FRAY] = min(p[d.FRAY] + going, 1.0)
    elif going > 0.0 and life.ending == "subsides":
        p[d.THICK] *= 1.0 - 0.6 * going
        p[d.LEVEL] -= 0.7 * going
        p[d.LOBES] *= 1.0 - 0.6 * going
    else:
        p[d.SIGMA] *= 1.0 - 0.5 * going
