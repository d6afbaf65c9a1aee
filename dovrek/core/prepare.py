"""From a sky document to a frozen scene, stage by stage.

Each stage is kept under a hash of what it depends on: turning the camera builds nothing,
moving the sun leaves shapes and densities alone, a layer's change leaves the others alone.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core import cloud_cells, cloud_shapes, light_grid
from dovrek.core import density as d
from dovrek.core.cover_map import cover_of
from dovrek.core.film import decode_srgb
from dovrek.core.media import AirParameters, Media, media_of
from dovrek.core.noise import NOISE_BYTES, hash_unit, noise_volumes
from dovrek.core.phase import (
    COLUMNS_AT,
    ICE_AT,
    PHASES,
    Phase,
    beam_tables,
    droplets_at,
    slab_transmittance,
)
from dovrek.core.scattering import COSINES, DRAFT, FULL, Scattered, column_of, solve_scattering
from dovrek.core.scene import (
    LIGHT_HEIGHTS,
    LIGHT_SPAN_RAD,
    LIGHT_SUNS,
    LIGHT_TOP_M,
    Scene,
    grain,
)
from dovrek.core.sky_view import (
    SHADE_NODES,
    SHADE_TOP_KM,
    Observer,
    SkyView,
    build_sky_view,
    hemispheres,
)
from dovrek.core.spectrum import RGB_TO_XYZ, WAVES, xyz_weights
from dovrek.core.stages import Cancel, StageCache, Workers, digest
from dovrek.core.sun_place import Place, moon_place, sun_place, toward
from dovrek.core.sun_table import SunTable, build_sun_table, sun_transmittance
from dovrek.sky.document import Sky
from dovrek.sky.genera import CELLS, HEAPS, SHEETS, VEILS
from dovrek.sky.layer import Layer

GENUS_KIND = (dict.fromkeys(HEAPS, d.CUMULUS) | dict.fromkeys(CELLS, d.CELLED)
              | dict.fromkeys(SHEETS, d.STRATUS) | dict.fromkeys(VEILS, d.CIRRUS)
              | {"slab": d.SLAB})
HEAPED_SPECIES = {"castellanus", "floccus", "fractus"}
LOWEST_BASE_M = 15.0
FARTHEST_M = 600_000.0
PLAN_ABOVE_M, PLAN_FAR = 500.0, 1.5
SHEET_RASTER = 200
NOTHING, WHOLE = 1e3, -5.0  # levels of score above which there is no cloud, below which no gap
SIDES = {"everywhere": 0.0, "inside": 1.0, "outside": -1.0}
ENDINGS = ("evaporates", "tears", "subsides")
RAIN_PER_M = 1.6e-3  # extinction of the heaviest rain haze (about 1.9 km of sight)
STREET_CELLS, WAVE_CELLS = 3.2, 6.5  # spacing of rows in cells, unless set
# The moon counts when the sun is so far down, and the sun no more when it is so far down.
MOONLIGHT_FROM, LAST_SUN = math.radians(-4.0), math.radians(-15.0)
MOON_RADIUS = math.radians(0.259)
MOON_COLOUR = (1.03, 1.0, 0.84)  # sunlight off a warm grey surface (about 4100 K; Krisciunas 1991)
# Airglow and stars of a dark site, about 22 magnitudes a square arcsecond (Leinert et al. 1998).
NIGHT_GLOW = (1.75e-4, 1.8e-4, 2.1e-4)
NOMINAL_RADIUS = 0.46  # of a full-grown cloud, over the cell size


@dataclass(frozen=True)
class Fineness:
    """How finely maps and light grids are made."""

    name: str
    shape_grid: int
    cells: int
    sweeps: tuple[int, int]
    samples: tuple[int, int]  # looks at the density in a cell, of heaps and of sheets


SKETCH = Fineness("sketch", cloud_shapes.SKETCH_GRID, light_grid.CELLS_SKETCH, (7, 4),
                  (3, 2))
FINE = Fineness("fine", cloud_shapes.FULL_GRID, light_grid.CELLS_FULL, (16, 8), (6, 3))


@dataclass(frozen=True)
class Atmosphere:
    """The air's tables, good for every sun."""

    media: Media
    sun: SunTable
    scattered: Scattered
    key: str


@dataclass(frozen=True)
class LayerBody:
    """Where one layer has cloud: a field of its own, and what to know of it."""

    layer: Layer
    field: d.Field
    grid: light_grid.GridShape
    key: str

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


@dataclass(frozen=True)
class Prepared:
    """A scene ready to march, with the numbers behind it."""

    scene: Scene
    sun: Place
    atmosphere: Atmosphere
    bodies: tuple[LayerBody, ...]
    shares: tuple[float, ...]
    shade: NDArray[np.float64]  # share of light that clouds leave in the air, by height
    key: str
    weight: tuple[float, float, float] = (1.0, 1.0, 1.0)  # of X, Y and Z of this light
    others: tuple[Prepared, ...] = ()  # the same sky under further lights, to be added

    @property
    def lights(self) -> tuple[Prepared, ...]:
        """Every light by itself: sun, moon."""
        return (self, *self.others)


@dataclass(frozen=True)
class Source:
    """A body that lights the sky: where it stands, how strong, how its disc looks."""

    place: Place
    weight: tuple[float, float, float]  # of X, Y and Z, over the sun's
    radius: float  # of its disc, radians
    lit: float = 1.0  # share of the disc
    limb: float = 0.0  # direction of its lit limb, clockwise from up


def sunlight_factor(sky: Sky) -> NDArray[np.float64]:
    """Of X, Y and Z: what the sky's sun gives over the real one."""
    if sky.sun.tint == "#ffffff":
        return np.full(3, sky.sun.strength)
    return wash_factors(sky.sun.tint, 1.0) * sky.sun.strength


def sources(sky: Sky) -> list[Source]:
    """Sun and moon, as far as each lights the sky."""
    sun = sun_place(sky)
    x, y, z = (float(v) for v in sunlight_factor(sky))
    found = [Source(sun, (x, y, z), math.radians(0.5 * sky.sun.diameter_deg))]
    if not sky.moon.visible or sun.elevation_true > MOONLIGHT_FROM:
        return found
    moon, lit, lux = moon_place(sky)
    if moon.elevation < math.radians(-0.3) or lit < 0.01:
        return found
    share = sky.moon.strength * lux / float(xyz_weights()[:, 1].sum())
    x, y, z = (share * c for c in MOON_COLOUR)
    moonlight = Source(moon, (x, y, z), MOON_RADIUS, min(lit, 0.999), toward(moon, sun))
    return [moonlight] if sun.elevation_true < LAST_SUN else [*found, moonlight]


def air_parameters(sky: Sky) -> AirParameters:
    return AirParameters(sky.air.haze, sky.air.haze_height_m, sky.air.ozone_du,
                         sky.air.ground_albedo, sky.air.ground_warmth, sky.site.elevation_m)


def seen_layers(sky: Sky) -> list[Layer]:
    """Layers that are shown and have any cloud."""
    return [x for x in sky.layers if x.visible and x.cover_oktas > 0.0]


def body_key(sky: Sky, layer: Layer, fineness: Fineness) -> str:
    """What a layer's body depends on."""
    own = layer.model_dump(exclude={"id", "name", "visible"})
    return digest(own, sky.seed, sky.site.elevation_m, fineness,
                  round(math.log2(sky.camera.altitude_m + 100.0)))


def scene_key(sky: Sky, air_key: str, source: Source, fineness: Fineness) -> str:
    """What a scene under one light depends on."""
    return digest(air_key, [body_key(sky, x, fineness) for x in seen_layers(sky)], source,
                  sky.camera.altitude_m, sky.air.shadow_rays)


class Preparer:
    """Builds scenes; one at a time, on shared worker threads."""

    def __init__(self, workers: Workers, cache: StageCache | None = None) -> None:
        self.workers = workers
        self.cache = cache or StageCache()

    # -- air ------------------------------------------------------------------------------

    def atmosphere(self, sky: Sky, cancel: Cancel, draft: bool = False) -> Atmosphere:
        """Tables of the air; a draft of the scattering unless the full one is at hand."""
        air = air_parameters(sky)
        key = digest(air)
        media = media_of(air)
        column = digest(air.haze_height_m, air.elevation_m)
        table = self.cache.get("sun table", column, lambda: build_sun_table(media))
        quality = DRAFT if draft and ("scattering", digest(key, FULL)) not in self.cache else FULL
        full = digest(key, quality)
        scattered = self.cache.get("scattering", full, lambda: solve_scattering(
            media, table, quality, self.workers.pool, cancel.check))
        return Atmosphere(media, table, scattered, full)

    # -- clouds ---------------------------------------------------------------------------

    def body(self, sky: Sky, layer: Layer, fineness: Fineness, cancel: Cancel) -> LayerBody:
        """Shapes, cells and cover of one layer."""
        key = body_key(sky, layer, fineness)
        return self.cache.get("layer", key, lambda: self._body(sky, layer, fineness, cancel, key),
                              keep=24)

    def _body(self, sky: Sky, layer: Layer, fineness: Fineness, cancel: Cancel,
              key: str) -> LayerBody:
        kind = kind_of(layer)
        seed = (layer.seed * 7919 + sky.seed * 104_729) % 2_000_003
        base = max(layer.base_m - sky.site.elevation_m, LOWEST_BASE_M)
        reach = reach_m(base + layer.thickness_m, sky.camera.altitude_m)
        grid = light_grid.grid_shape(kind, layer.cells.size_m, layer.thickness_m,
                                     layer.body.density_per_km * 1e-3, reach, fineness.cells)
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
        self._arrange(p, layer, base, sky.seed)
        p[d.K_SCALED] = PHASES[int(p[d.PHASE])].k_scaled
        p[d.G_SCALED] = PHASES[int(p[d.PHASE])].g_scaled
        p[d.STEP] = march_step(kind, layer)
        if kind == d.CIRRUS and layer.body.lobes > d.TUFTED:
            p[d.STEP] *= 0.4  # tufts are small
        p[d.GRID_N], p[d.GRID_NZ], p[d.GRID_LEVELS] = grid.n, grid.nz, grid.levels
        p[d.GRID_DX], p[d.GRID_DZ], p[d.GRID_Z0] = grid.dx, grid.dz, grid.z0
        empty = d.Field(p[None, :], noise_volumes(), np.zeros(0, np.float32),
                        np.zeros(0, np.int32))
        cover = layer.cover_oktas / 8.0
        if kind == d.CUMULUS:
            field = self._heaped(p, layer, seed, reach, fineness, cancel, empty)
        else:
            p[d.LEVEL] = self._sheet_level(p, layer, empty, cover, cancel)
            _live(p, layer)
            field = empty
        field = _masked(field, layer)
        return LayerBody(layer, field, grid, key)

    @staticmethod
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
            p[d.Z_LOW] = min(p[d.Z_LOW], -p[d.FALL_REACH])
        region = layer.region
        # `side` is set when the cover is known, which holds where the layer stands.
        p[d.REGION_SIZE], p[d.REGION_EDGE] = region.size_km * 1e3, region.edge
        p[d.REGION_CENTRE] = quantile(1.0 - region.share)
        p[d.REGION_X] = 3e5 * hash_unit(region.seed, sky_seed, 11)
        p[d.REGION_Y] = 3e5 * hash_unit(region.seed, sky_seed, 12)
        wash = layer.wash
        for at, colour in ((d.LIT, wash.lit), (d.SHADED, wash.body), (d.UNDER, wash.base)):
            p[at : at + 3] = wash_factors(colour, wash.strength)
        if layer.body.profile:
            heights, densities = zip(*layer.body.profile, strict=True)
            p[d.PROFILED] = 1.0
            p[d.PROFILE : d.PROFILE + d.PROFILE_NODES] = np.interp(
                np.linspace(0.0, 1.0, d.PROFILE_NODES), heights, densities)

    def _heaped(self, p: NDArray[np.float64], layer: Layer, seed: int, reach: float,
                fineness: Fineness, cancel: Cancel, empty: d.Field) -> d.Field:
        size = layer.cells.size_m
        wanted = cloud_shapes.ShapeParameters(NOMINAL_RADIUS * size, layer.thickness_m,
                                              layer.body.lobes, seed, fineness.shape_grid,
                                              layer.body.growth, layer.body.growth_spread,
                                              layer.body.anvil)
        run = self.workers.over(cancel, chunk=1)
        shapes = self.cache.get("shapes", digest(wanted),
                                lambda: cloud_shapes.build_shapes(wanted, run))
        cells = cloud_cells.CellParameters(
            size, layer.cells.spread, layer.cells.huddle, layer.clearings.share,
            layer.clearings.size_km * 1e3, layer.clearings.edge, seed,
            seed + 13 * layer.clearings.seed, reach, layer.rows.share,
            *rows_of(layer, d.CUMULUS), layer.rows.patchiness)
        life = cloud_cells.Life(
            layer.life.stage, layer.life.spread, layer.life.early_decay,
            ENDINGS.index(layer.life.ending), layer.body.anvil > 0.0, p[d.WIND_X], p[d.WIND_Y])
        dealt, period = self.cache.get("cells", digest(cells),
                                       lambda: cloud_cells.deal_cells(
                                           cells, self.workers.over(cancel, chunk=32)))
        cancel.check()

        def stand() -> cloud_cells.Cells:
            level = cloud_cells.level_for_cover(dealt, period, shapes, layer.cover_oktas / 8.0,
                                                edge_shift(layer),
                                                self.workers.over(cancel, chunk=200))
            cancel.check()
            return cloud_cells.stand_cells(dealt, period, size, shapes, level, life,
                                           0.03 * size, cancel.check)

        # Of the layer's own values only these move a cloud: another skin keeps all in place.
        stood = self.cache.get("standing", digest(wanted, cells, layer.cover_oktas, life), stand,
                               keep=12)
        p[d.SHAPE_N], p[d.SHAPE_NZ] = shapes.distance.shape[1], shapes.distance.shape[3]
        p[d.SHAPE_HALF], p[d.SHAPE_VOXEL] = shapes.half_width_m, shapes.voxel_m
        p[d.SHAPE_REACH], p[d.SHAPE_FLOOR] = shapes.reach_m, shapes.floor_m
        p[d.SHAPE_SQUASH] = shapes.squash
        # Flat clouds have little room for lumps.
        high = layer.thickness_m * cloud_shapes.climbed(layer.body.growth)
        p[d.RELIEF] = min(1.6 * high / (NOMINAL_RADIUS * size), 1.0)
        p[d.SQUARES], p[d.PERIOD] = stood.clearance.shape[0], stood.period_m
        instances, starts = stood.instances.ravel(), stood.starts
        p[d.SHAPE_AT], p[d.CELL_AT], p[d.START_AT] = NOISE_BYTES, 0, 0
        p[d.CLEAR_AT], p[d.MEMBER_AT] = len(instances), len(starts)
        return empty._replace(
            bytes=np.concatenate([empty.bytes, shapes.distance.ravel()]),
            reals=np.concatenate([instances, stood.clearance.ravel()]),
            links=np.concatenate([starts, stood.members]))

    def _sheet_level(self, p: NDArray[np.float64], layer: Layer, field: d.Field, cover: float,
                     cancel: Cancel) -> float:
        """Score above which a sheet has cloud, so that its measured cover is as set."""
        if cover <= 0.0:
            return NOTHING
        if cover >= 0.9995:
            return -9.0
        scores = np.empty((SHEET_RASTER, SHEET_RASTER))
        d.sheet_scores(field, 0, 0.5 * cloud_cells.MEASURED_M, SHEET_RASTER, scores)
        flat = np.sort(scores.ravel())
        run = self.workers.over(cancel, chunk=6)
        count, steps = 72, max(10, int(layer.thickness_m / 110.0))
        depths, lengths = np.empty((count, count)), np.empty((count, count))
        low, high = flat[0] - 1.5, flat[-1] + 0.2
        level = float(flat[int((1.0 - cover) * (len(flat) - 1))])
        # The veil is thinner than 0.1 at its edges: walk the level until columns agree.
        for _ in range(9):
            p[d.LEVEL] = level
            run(lambda i0, i1: d.column_depths(field, 0, 0.5 * cloud_cells.MEASURED_M, count,
                                               steps, i0, i1, depths, lengths), count)
            share = float(np.mean(depths > 0.1))
            if abs(share - cover) < 0.004:
                break
            if share < cover:
                high = level
            else:
                low = level
            level = 0.5 * (low + high)
        return level

    # -- light ----------------------------------------------------------------------------

    def extinction(self, body: LayerBody, fineness: Fineness, cancel: Cancel) -> Any:
        grid, samples = body.grid, fineness.samples[0 if body.heaped else 1]

        def build() -> Any:
            sigma = np.zeros((grid.levels, grid.n, grid.n, grid.nz), dtype=np.float32)
            run = self.workers.over(cancel, chunk=8)
            for level in range(grid.levels):
                def rows(i0: int, i1: int, level: int = level) -> None:
                    light_grid.fill_extinction(body.field, 0, grid, level, samples, cancel.flag, i0,
                                               i1, sigma[level])

                run(rows, grid.n)
            return sigma

        return self.cache.get("extinction", digest(body.key, grid), build, keep=18)

    def light(self, bodies: list[LayerBody], sun: Place, radius: float, fineness: Fineness,
              cancel: Cancel) -> list[Any]:
        """Flat light grids of all layers (six channels a cell), highest layer solved first."""
        vector = light_direction(sun)
        order = sorted(range(len(bodies)), key=lambda i: -bodies[i].layer.top_m)
        sigmas = [self.extinction(b, fineness, cancel) for b in bodies]
        depths: dict[int, Any] = {}
        keys: dict[int, str] = {}
        tasks: list[Callable[[], Any]] = []
        results: dict[tuple[int, str], Any] = {}
        sun_key = digest([round(v, 5) for v in vector])

        def own_depth(i: int) -> Any:
            grid = bodies[i].grid

            def build() -> Any:
                depth = np.zeros(sigmas[i].shape, dtype=np.float32)
                sheet = not bodies[i].heaped and vector[2] > light_grid.SHEET_LOWEST
                sweep = light_grid.sweep_sheet if sheet else light_grid.sweep_depth
                sweep(sigmas[i], grid, *vector, cancel.flag, depth)
                return depth

            return self.cache.get("sun depth", digest(bodies[i].key, grid, sun_key), build,
                                  keep=18)

        self.workers.all(cancel, [partial(own_depth, i) for i in order])
        above: list[str] = []
        for place, i in enumerate(order):
            keys[i] = digest(bodies[i].key, bodies[i].grid, sun_key, above, radius)
            above = [*above, bodies[i].key]
            uppers = order[:place]

            def shaded(i: int = i, uppers: list[int] = uppers) -> Any:
                total = own_depth(i).copy()
                run = self.workers.over(cancel, chunk=16)
                for u in uppers:
                    for level in range(bodies[i].grid.levels):
                        def rows(a: int, b: int, u: int = u, level: int = level) -> None:
                            weight = bodies[u].phase.k_scaled / bodies[i].phase.k_scaled
                            light_grid.shade_from_above(
                                own_depth(u), weight, bodies[u].veil, bodies[u].grid,
                                bodies[u].base, bodies[i].grid, bodies[i].base, level, *vector,
                                radius, a, b, total)

                        run(rows, bodies[i].grid.n)
                return total

            depths[i] = self.cache.get("shade", keys[i], shaded, keep=18)
        for i in order:
            grid = bodies[i].grid
            for name, key in (("sky light", digest(bodies[i].key, grid)),
                              ("sun light", keys[i])):
                def solve(i: int = i, name: str = name, key: str = key) -> None:
                    grid = bodies[i].grid

                    def build() -> Any:
                        if name == "sky light":
                            found = light_grid.solve_sky(sigmas[i], grid, fineness.sweeps,
                                                         cancel.flag, bodies[i].phase)
                        else:
                            found = light_grid.solve_sun(sigmas[i], depths[i], grid, vector,
                                                         fineness.sweeps, not bodies[i].heaped,
                                                         cancel.flag, bodies[i].phase)
                        cancel.check()
                        return found

                    results[i, name] = self.cache.get(name, key, build, keep=18)

                tasks.append(solve)
        self.workers.all(cancel, tasks)
        flat = []
        for i in range(len(bodies)):
            def pack(i: int = i) -> Any:
                store = np.empty((*sigmas[i].shape, light_grid.CHANNELS), dtype=np.float32)
                depth = depths[i]
                if not bodies[i].heaped:
                    depth = depth.copy()
                    light_grid.carry_depth_up(sigmas[i], depth, light_grid.clear_below(sigmas[i]))
                store[..., light_grid.DEPTH] = depth
                store[..., light_grid.SUN_J] = results[i, "sun light"][..., 0]
                store[..., light_grid.SKY_J] = results[i, "sky light"]
                store[..., light_grid.FLUX_X:] = results[i, "sun light"][..., 1:]
                return store.ravel()

            flat.append(self.cache.get("light", keys[i], pack, keep=8))
        return flat

    def shares(self, bodies: list[LayerBody], sigmas: list[Any],
               mu: float) -> list[tuple[float, float]]:
        """Of each layer: share of light it passes over all (direct and diffuse), and direct."""
        found = []
        for body, sigma in zip(bodies, sigmas, strict=True):
            cover = body.layer.cover_oktas / 8.0
            columns = np.sum(sigma[min(1, len(sigma) - 1)], axis=2) * body.grid.dz
            mean = float(columns.mean()) / max(cover, 0.02)
            through = float(slab_transmittance(mean, mu, body.phase))
            direct = math.exp(-body.phase.k_scaled * mean / max(mu, 0.03))
            found.append((1.0 - cover + cover * through, 1.0 - cover + cover * direct))
        return found

    # -- scene ----------------------------------------------------------------------------

    def scene(self, sky: Sky, fineness: Fineness, cancel: Cancel) -> Prepared:
        """Everything a march needs. Raises Cancelled when superseded."""
        atmosphere = self.atmosphere(sky, cancel, draft=fineness is SKETCH)
        bodies = [self.body(sky, layer, fineness, cancel) for layer in seen_layers(sky)]
        lit = []
        for place, source in enumerate(sources(sky)):
            key = scene_key(sky, atmosphere.key, source, fineness)
            built = self.cache.get("scene", key, partial(
                self._scene, sky, source, atmosphere, bodies, fineness, cancel, key), keep=4)
            lit.append(replace(built, scene=built.scene._replace(
                glow=np.array(NIGHT_GLOW) / source.weight if place == 0 else np.zeros(3))))
        return replace(lit[0], others=tuple(lit[1:]), key=digest([p.key for p in lit]))

    def holds_scene(self, sky: Sky, fineness: Fineness) -> bool:
        """Whether the scene is already built."""
        air = digest(digest(air_parameters(sky)), FULL)
        return all(("scene", scene_key(sky, air, source, fineness)) in self.cache
                   for source in sources(sky))

    def _scene(self, sky: Sky, source: Source, atmosphere: Atmosphere, bodies: list[LayerBody],
               fineness: Fineness, cancel: Cancel, key: str) -> Prepared:
        sun = source.place
        media, table, scattered = atmosphere.media, atmosphere.sun, atmosphere.scattered
        radius = media.radius_km * 1e3
        flat = self.light(bodies, sun, radius, fineness, cancel)
        sigmas = [self.extinction(b, fineness, cancel) for b in bodies]
        mu = max(math.sin(sun.elevation_true), 0.03)
        shares = self.shares(bodies, sigmas, mu)
        shade = np.ones(SHADE_NODES)
        heights = np.linspace(0.0, SHADE_TOP_KM * 1e3, SHADE_NODES)
        for body, (share, _) in zip(bodies, shares, strict=True):
            base = body.base
            inside = np.clip((heights - base) / max(body.layer.thickness_m, 1.0), 0.0, 1.0)
            shade *= share + (1.0 - share) * inside
        far = max([reach_m(b.base + b.layer.thickness_m,
                           sky.camera.altitude_m) for b in bodies] + [60_000.0])
        shadow_rays = sky.air.shadow_rays and bool(bodies)
        observer = Observer(sky.camera.altitude_m, sun.elevation_true, sun.azimuth, far,
                            not shadow_rays)
        run = self.workers.over(cancel, chunk=3)
        view = self.cache.get("sky view", digest(atmosphere.key, observer, shade.tolist()),
                              lambda: build_sky_view(media, table, scattered, observer, shade, run))
        light_key = digest(atmosphere.key, sun)
        sunlight = self.cache.get("sunlight", light_key,
                                  lambda: sunlight_table(media, table, sun))
        total_share = float(np.prod([s for s, _ in shares])) if shares else 1.0
        direct_share = float(np.prod([s for _, s in shares])) if shares else 1.0
        albedo = media.albedo @ xyz_weights() / xyz_weights().sum(axis=0)
        # Light that goes to and fro between the ground and the clouds above it.
        again = 1.0 / (1.0 - albedo * (1.0 - total_share))
        ambient = self._ambient(bodies, shares, atmosphere, sun, shade,
                                total_share * float(again[1]))
        columns, trans = np.empty(4), np.empty(WAVES)
        sun_transmittance(table, media, sky.camera.altitude_m * 1e-3,
                          math.sin(sun.elevation_true), media.haze_per_km, columns, trans)
        flat_disc = float(np.clip(columns[3], 0.6, 1.0)) if columns[3] > 0 else 0.8
        disc_radius = source.radius
        # The table fades the disc as it sets; behind the horizon the ground hides it instead.
        disc = _disc_light(atmosphere, sun) / (math.pi * disc_radius**2 * flat_disc)
        ground_sun, ground_sky = ground_light(media, table, scattered, sun)
        lower = max(total_share - direct_share, 0.0)
        diffuse = total_share * ground_sky + lower * ground_sun
        ground = np.array([ground_sun, diffuse + (again - 1.0) * total_share * (
            ground_sun + ground_sky)])
        scene = Scene(
            field=_joined(bodies),
            beam=beam_tables(),
            clear=view,
            light=np.concatenate(flat) if flat else np.zeros(8, np.float32),
            sunlight=sunlight,
            ambient=ambient,
            once_share=np.array([1.0 if b.heaped or b.veil else
                                 light_grid.sheet_shares(light_direction(sun)[2])[1]
                                 for b in bodies] or [1.0]),
            ground=ground,
            albedo=albedo,
            sun=np.array(sun.vector),
            sun_disc=np.array([sun.elevation, sun.azimuth, disc_radius, flat_disc, source.lit,
                               source.limb]),
            sun_radiance=disc,
            glow=np.zeros(3),
            lobes=np.array([p.flat() for p in PHASES]),
            grain=grain(),
            radius=radius,
            height=max(sky.camera.altitude_m, 0.2),
            shadow_rays=shadow_rays,
        )
        return Prepared(scene, sun, atmosphere, tuple(bodies), tuple(s for s, _ in shares), shade,
                        key, source.weight)

    def surroundings(self, prepared: Prepared, cancel: Cancel) -> list[SkyView]:
        """Sky and air as seen from the middle of each layer and from the ground, for the
        reference."""
        run = self.workers.over(cancel, chunk=3)
        air, sun = prepared.atmosphere, prepared.sun
        return [build_sky_view(air.media, air.sun, air.scattered, Observer(
            height, sun.elevation_true, sun.azimuth, prepared.scene.clear.air_far_m),
            prepared.shade, run) for height in [b.middle for b in prepared.bodies] + [2.0]]

    def from_above(self, prepared: Prepared, cancel: Cancel) -> Prepared:
        """The same scene for a plan: seen straight down from above its highest cloud."""
        height = max([b.base + 1.1 * b.layer.thickness_m for b in prepared.bodies]
                     + [0.0]) + PLAN_ABOVE_M
        lit = []
        for light in prepared.lights:
            air, sun = light.atmosphere, light.sun
            observer = Observer(height, sun.elevation_true, sun.azimuth, PLAN_FAR * height,
                                not light.scene.shadow_rays)
            view = self.cache.get("plan view", digest(air.key, observer, light.shade.tolist()),
                                  partial(build_sky_view, air.media, air.sun, air.scattered,
                                          observer, light.shade,
                                          self.workers.over(cancel, chunk=3)))
            cancel.check()
            lit.append(replace(light, scene=light.scene._replace(height=height, clear=view)))
        return replace(lit[0], others=tuple(lit[1:]))

    def _ambient(self, bodies: list[LayerBody], shares: list[tuple[float, float]],
                 atmosphere: Atmosphere,
                 sun: Place, shade: NDArray[np.float64],
                 ground_share: float) -> NDArray[np.float64]:
        """Light on each layer from the sky and clouds above, the ground and clouds below."""
        out = np.zeros((max(len(bodies), 1), 2, 3))
        media, table, scattered = atmosphere.media, atmosphere.sun, atmosphere.scattered
        mu = max(math.sin(sun.elevation_true), 0.0)
        columns, trans = np.empty(4), np.empty(WAVES)
        for i, body in enumerate(bodies):
            middle = body.middle
            both = hemispheres(media, table, scattered, shade, middle, sun.elevation_true,
                               ground_share)
            # A level sheet sees the sky as a level plate does, a heap as a ball does.
            above, below = (both[2], both[3]) if body.heaped else (both[0], both[1])
            sun_transmittance(table, media, middle * 1e-3, math.sin(sun.elevation_true),
                              media.haze_per_km, columns, trans)
            direct = mu * (trans @ xyz_weights()) / math.pi
            for k, other in enumerate(bodies):
                if k == i:
                    continue
                other_base = other.base
                cover = other.layer.cover_oktas / 8.0
                through, straight = ((s - 1.0 + cover) / max(cover, 1e-3) for s in shares[k])
                if other_base > middle:  # what it passes straight on is still the sun's beam
                    above = (1.0 - cover) * above + cover * (
                        through * above + (through - straight) * direct)
                elif other_base + other.layer.thickness_m < middle:
                    below = (1.0 - cover) * below + cover * (1.0 - through) * (direct + above)
            out[i, 0], out[i, 1] = above, below
        return out


def _joined(bodies: list[LayerBody]) -> d.Field:
    """One field of all layers, with every layer's offsets into the joined arrays."""
    noise = noise_volumes()
    if not bodies:
        return d.Field(np.zeros((0, d.PARAMETERS)), noise, np.zeros(0, np.float32),
                       np.zeros(0, np.int32))
    layers = np.array([b.field.layers[0] for b in bodies])
    parts: tuple[list[NDArray[Any]], ...] = (
        [b.field.bytes[NOISE_BYTES:] for b in bodies], [b.field.reals for b in bodies],
        [b.field.links for b in bodies])
    places = ((d.SHAPE_AT, d.MAP_AT), (d.CELL_AT, d.CLEAR_AT), (d.START_AT, d.MEMBER_AT))
    for arrays, columns in zip(parts, places, strict=True):
        before = np.cumsum([0] + [len(a) for a in arrays[:-1]])
        for column in columns:
            layers[:, column] += before
    sizes = [b.grid.levels * b.grid.n**2 * b.grid.nz * light_grid.CHANNELS for b in bodies]
    layers[:, d.GRID_AT] = np.cumsum([0, *sizes[:-1]])
    return d.Field(layers, np.concatenate([noise, *parts[0]]), np.concatenate(parts[1]),
                   np.concatenate(parts[2]))


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


def wash_factors(colour: str, strength: float) -> NDArray[np.float64]:
    """What a wash multiplies X, Y and Z by: the colour's own over white's, brightness kept.

    Black has no colour of its own and changes nothing.
    """
    encoded = np.array([int(colour[k : k + 2], 16) for k in (1, 3, 5)]) / 255.0
    xyz = np.array([decode_srgb(v) for v in encoded]) @ RGB_TO_XYZ.T
    white = RGB_TO_XYZ.sum(axis=1)
    if xyz[1] <= 0.0:
        return np.ones(3)
    ratio = xyz / white / float(xyz[1])
    found: NDArray[np.float64] = 1.0 + strength * (ratio - 1.0)
    return found


def _masked(field: d.Field, layer: Layer) -> d.Field:
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


def _live(p: NDArray[np.float64], layer: Layer) -> None:
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
    p[d.LEVEL] += 1.5 * (1.0 - amount)
    if going > 0.0 and life.ending == "tears":
        p[d.FRAY] = min(p[d.FRAY] + going, 1.0)
    elif going > 0.0 and life.ending == "subsides":
        p[d.THICK] *= 1.0 - 0.6 * going
        p[d.LEVEL] -= 0.7 * going
        p[d.LOBES] *= 1.0 - 0.6 * going
    else:
        p[d.SIGMA] *= 1.0 - 0.5 * going


def quantile(share: float) -> float:
    """Value of the flat noise that a share of it exceeds (a bell of spread 0.4, by a logistic
    curve)."""
    return 0.22 * math.log((1.0 - share) / share)


def smooth(share: float) -> float:
    """Cubic step of a share held to 0 … 1."""
    u = min(max(share, 0.0), 1.0)
    return u * u * (3.0 - 2.0 * u)


def reach_m(top_m: float, camera_m: float) -> float:
    """Distance at which a cloud top sinks below the horizon: √(2Rh) from both sides."""
    r = 6.371e6
    reach = math.sqrt(2.0 * r * max(top_m, 50.0)) + math.sqrt(2.0 * r * max(camera_m, 0.0))
    return min(reach * 1.02, FARTHEST_M)


def march_step(kind: int, layer: Layer) -> float:
    """Basic step inside a layer, metres, at quality 1: soft edges need no short ones."""
    thick_m, size_m, edge = layer.thickness_m, layer.cells.size_m, layer.body.edge_m
    if kind == d.CUMULUS:
        soft = 0.25 * edge * (1.0 + 5.0 * layer.body.fray**2)
        return float(np.clip(max(min(0.013 * size_m, 0.05 * thick_m), soft), 3.0, 30.0))
    if kind in (d.STRATUS, d.SLAB):
        return float(np.clip(thick_m / 14.0, 4.0, max(60.0, 0.25 * edge)))
    if kind in (d.CELLED, d.LENS):
        return float(np.clip(thick_m / 14.0, 4.0, 40.0))
    return float(np.clip(thick_m / 8.0, 8.0, 220.0))


def edge_shift(layer: Layer) -> float:
    """How far the skin carries the edge of a full-grown heap outward, metres (measured)."""
    body = layer.body
    rounded = max(1.0 - body.base_flatness / 0.7, 0.0)
    torn = max(body.fray - 0.5, 0.0)
    return -layer.cells.size_m * (0.012 + 0.025 * rounded + 0.025 * (1.0 - body.growth)
                                  + 0.03 * torn)


def light_direction(sun: Place) -> tuple[float, float, float]:
    """Where cloud light comes from: never steeper below the horizon than 4°, where the last
    direct light ends anyway."""
    elevation = max(sun.elevation, math.radians(-4.0))
    c = math.cos(elevation)
    return (c * math.sin(sun.azimuth), c * math.cos(sun.azimuth), math.sin(elevation))


def sunlight_table(media: Media, table: SunTable, sun: Place) -> NDArray[np.float64]:
    """(41, 49, 3) irradiance by height and by the change of sun elevation over distance."""
    weights = xyz_weights()
    out = np.empty((LIGHT_HEIGHTS, LIGHT_SUNS, 3))
    columns, trans = np.empty(4), np.empty(WAVES)
    for i in range(LIGHT_HEIGHTS):
        height = LIGHT_TOP_M * 1e-3 * i / (LIGHT_HEIGHTS - 1)
        for j in range(LIGHT_SUNS):
            offset = LIGHT_SPAN_RAD * (2.0 * j / (LIGHT_SUNS - 1) - 1.0)
            elevation = min(sun.elevation_true + offset, 0.5 * math.pi)
            sun_transmittance(table, media, height, math.sin(elevation), media.haze_per_km,
                              columns, trans)
            out[i, j] = trans @ weights
    return out


def _disc_light(atmosphere: Atmosphere, sun: Place) -> NDArray[np.float64]:
    """XYZ irradiance of the whole disc as if no horizon cut it (the picture cuts it)."""
    media, table = atmosphere.media, atmosphere.sun
    columns, trans = np.empty(4), np.empty(WAVES)
    lowest = math.asin(table.horizon[0]) + 0.0047
    if sun.elevation_true < lowest - 0.012:
        return np.zeros(3)
    elevation = max(sun.elevation_true, lowest)
    sun_transmittance(table, media, 0.0, math.sin(elevation), media.haze_per_km, columns, trans)
    return trans @ xyz_weights()


def illuminances(media: Media, table: SunTable, scattered: Scattered,
                 sun: Place) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """XYZ illuminance (lx) of level ground by the clear sky's direct and diffuse light."""
    white = media._replace(albedo=np.full(WAVES, math.pi))
    return ground_light(white, table, scattered, sun)


def ground_light(media: Media, table: SunTable, scattered: Scattered,
                 sun: Place) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Radiance (XYZ) of the ground from the clear sky's direct and diffuse light."""
    mu = math.sin(sun.elevation_true)
    columns, trans = np.empty(4), np.empty(WAVES)
    sun_transmittance(table, media, 0.0, mu, media.haze_per_km, columns, trans)
    weights = xyz_weights()
    returned = media.albedo / math.pi
    direct = max(mu, 0.0) * (returned * trans) @ weights
    c = column_of(mu)
    j = min(int(c), COSINES - 2)
    f = c - j
    low, high = np.maximum(scattered.ground[j], 1e-30), np.maximum(scattered.ground[j + 1], 1e-30)
    diffuse = (returned * np.exp((1 - f) * np.log(low) + f * np.log(high))) @ weights
    return direct, diffuse

