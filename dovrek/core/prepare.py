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
from dovrek.core.ground import fallen_light, lit_from_below, over_mean
from dovrek.core.layer_body import (
    ENDINGS,
    NOTHING,
    LayerBody,
    edge_shift,
    kind_of,
    live,
    masked,
    parameters_of,
    reach_m,
    rows_of,
    shredded,
    told_m,
)
from dovrek.core.lens import Lens, bearings_of, pixel_size
from dovrek.core.media import AirParameters, Media, media_of
from dovrek.core.noise import NOISE_BYTES, noise_volumes
from dovrek.core.phase import (
    PHASES,
    beam_tables,
    slab_transmittance,
)
from dovrek.core.scattering import DRAFT, FULL, Scattered, solve_scattering
from dovrek.core.scene import (
    Scene,
    grain,
)
from dovrek.core.sky_view import (
    SHADE_NODES,
    SHADE_TOP_KM,
    Observer,
    SkyView,
    between,
    build_sky_view,
    hemispheres,
)
from dovrek.core.spectrum import WAVES, xyz_weights
from dovrek.core.stages import Cancel, StageCache, Workers, digest
from dovrek.core.sun_place import Place
from dovrek.core.sun_table import SunTable, build_sun_table, sun_transmittance
from dovrek.core.sunlight import (
    Source,
    disc_light,
    ground_light,
    illuminances,
    light_direction,
    sources,
    sunlight_table,
)
from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer

LOWEST_BASE_M = 15.0
PLAN_ABOVE_M, PLAN_FAR = 500.0, 1.5
FAR_APART = 0.1  # of the light that a layer leaves in the air, for views to reckon with
NEAR_GROUND_M = 200.0  # a camera below sees the sky as the ground does
SHEET_RASTER = 200
WEDGE_STEP, WEDGE_WIDEST = math.radians(15.0), math.radians(80.0)
SKETCH_WIDTH, LEAST_PIXELS = 240, 4.0
EYE_DEPTH = 0.1  # a column this deep is cloud to the eye (common practice)
SHREDS_TRIED = 4
CLOSING_OKTAS = 6.0
# Of the whole: cover that a sketch may be off by, less than a step of the slider. What is kept
# is measured to the last pixel, and so does not depend on what was tried before.
SKETCH_CLOSE = 0.001
FULL_GROWN = 0.5  # stage of life
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
    ahead: cloud_cells.Ahead = cloud_cells.ALL_ROUND  # heaps that stand
    least: float = 0.0  # angle over the level below which no far heap ahead stands

    @property
    def rough(self) -> bool:
        """Whether it is for sketches."""
        return self.name == "sketch"

    def toward(self, lens: Lens) -> Fineness:
        """The same for one picture alone, if it is rough: heaps stand near the camera and within
        what the lens sees, up to where a few pixels over the level hold all of them; in steps
        wide enough that a small turn needs no others."""
        seen = bearings_of(lens) if self.rough else None
        if seen is None:
            return self
        middle = WEDGE_STEP * round(seen[0] / WEDGE_STEP)
        half = WEDGE_STEP * math.ceil((seen[1] + abs(seen[0] - middle)) / WEDGE_STEP)
        if half > WEDGE_WIDEST:
            return self
        pixels = LEAST_PIXELS * pixel_size(lens, SKETCH_WIDTH, 1)
        return replace(self, least=2.0 ** math.floor(math.log2(pixels)), ahead=cloud_cells.Ahead(
            round(math.sin(middle), 6), round(math.cos(middle), 6), round(math.cos(half), 6)))


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


def air_parameters(sky: Sky) -> AirParameters:
    return AirParameters(sky.air.haze, sky.air.haze_height_m, sky.air.ozone_du,
                         sky.air.ground_albedo, sky.air.ground_warmth, sky.site.elevation_m)


def seen_layers(sky: Sky) -> list[Layer]:
    """Layers that are shown and have any cloud."""
    return [x for x in sky.layers if x.visible and x.cover_oktas > 0.0]


def dealt_by(sky: Sky, layer: Layer) -> int:
    """The sky's seed as far as a layer heeds it: a frozen one keeps that of its freezing."""
    return sky.seed if layer.frozen is None else layer.frozen


def body_key(sky: Sky, layer: Layer, fineness: Fineness) -> str:
    """What a layer's body depends on."""
    own = layer.model_dump(exclude={"id", "name", "visible", "locked", "frozen"})
    if kind_of(layer) != d.CUMULUS:
        fineness = replace(fineness, ahead=cloud_cells.ALL_ROUND, least=0.0)
    return digest(own, dealt_by(sky, layer), sky.site.elevation_m, fineness,
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
        seed = (layer.seed * 7919 + dealt_by(sky, layer) * 104_729) % 2_000_003
        base = max(layer.base_m - sky.site.elevation_m, LOWEST_BASE_M)
        reach = reach_m(base + layer.thickness_m, sky.camera.altitude_m)
        grid = light_grid.grid_shape(kind, layer.cells.size_m, layer.thickness_m,
                                     layer.body.density_per_km * 1e-3, reach, fineness.cells)
        p = parameters_of(layer, kind, base, seed, dealt_by(sky, layer), grid)
        empty = d.Field(p[None, :], noise_volumes(), np.zeros(0, np.float32),
                        np.zeros(0, np.int32))
        cover = layer.cover_oktas / 8.0
        made_of = ("", "")
        if kind == d.CUMULUS:
            ahead = fineness.ahead
            if ahead != cloud_cells.ALL_ROUND:
                ahead = ahead._replace(far=told_m(base + layer.thickness_m, sky.camera.altitude_m,
                                                  fineness.least))
            field, made_of = self._heaped(p, layer, seed, reach, replace(fineness, ahead=ahead),
                                          cancel, empty)
        else:
            p[d.LEVEL] = self._sheet_level(p, empty, cover, cancel)
            live(p, layer)
            field = empty
        field = masked(field, layer)
        made_of = (digest(made_of[0], layer.map), made_of[1])
        return LayerBody(layer, field, grid, key, made_of)

    def _heaped(self, p: NDArray[np.float64], layer: Layer, seed: int, reach: float,
                fineness: Fineness, cancel: Cancel,
                empty: d.Field) -> tuple[d.Field, tuple[str, str]]:
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
        ahead = fineness.ahead
        near = cells._replace(ahead=ahead)
        if ("cells", digest(cells)) in self.cache:  # all round, but at hand
            near = cells
        life = cloud_cells.Life(
            layer.life.stage, layer.life.spread, layer.life.early_decay,
            ENDINGS.index(layer.life.ending), layer.body.anvil > 0.0, p[d.WIND_X], p[d.WIND_Y])
        again = ("cells", digest(near)) in self.cache
        dealt, period = self.cache.get("cells", digest(near),
                                       lambda: cloud_cells.deal_cells(
                                           near, self.workers.over(cancel, chunk=32)))
        cancel.check()
        there = dealt
        if again and ahead != cloud_cells.ALL_ROUND:  # worth while for what is asked again
            there = self.cache.get("ahead", digest(near, ahead), lambda: cloud_cells.only_ahead(
                dealt, period, size, ahead))

        def stood(cover: float, life: cloud_cells.Life) -> cloud_cells.Cells:
            def stand() -> cloud_cells.Cells:
                # What levels cover is remembered: a slider asks for neighbours of known ones.
                levels = self.cache.get("levels", digest(wanted, cells, edge_shift(layer)),
                                        lambda: cloud_cells.levels_of(dealt, period, shapes),
                                        keep=6)
                level = cloud_cells.level_for_cover(
                    levels, period, shapes, cover, edge_shift(layer),
                    self.workers.over(cancel, chunk=200),
                    SKETCH_CLOSE if ahead != cloud_cells.ALL_ROUND else 0.0)
                cancel.check()
                return cloud_cells.stand_cells(there, period, size, shapes, level, life,
                                               0.03 * size, self.workers.over(cancel, chunk=1),
                                               ahead)

            # Of the layer's own values only these move a cloud: another skin keeps all in place.
            return self.cache.get("standing", digest(wanted, cells, cover, life, ahead), stand,
                                  keep=12)

        p[d.SHAPE_N], p[d.SHAPE_NZ] = shapes.distance.shape[1], shapes.distance.shape[3]
        p[d.SHAPE_HALF], p[d.SHAPE_VOXEL] = shapes.half_width_m, shapes.voxel_m
        p[d.SHAPE_REACH], p[d.SHAPE_FLOOR] = shapes.reach_m, shapes.floor_m
        p[d.SHAPE_SQUASH] = shapes.squash
        # Flat clouds have little room for lumps.
        high = layer.thickness_m * cloud_shapes.climbed(layer.body.growth)
        p[d.RELIEF] = min(1.6 * high / (NOMINAL_RADIUS * size), 1.0)
        own = empty._replace(bytes=self.cache.get("solids", digest(wanted), lambda: np.concatenate(
            [empty.bytes, shapes.distance.ravel()])))
        cover = layer.cover_oktas / 8.0
        if shredded(layer) and cover > 0.0:
            grown = life._replace(stage=FULL_GROWN, spread=0.0)
            cover = self.cache.get("shreds", digest(wanted, cells, cover, layer.body), lambda: (
                self._cover_below_skin(own, cover, lambda aim: stood(aim, grown), cancel)))
        return (_peopled(own, stood(cover, life)),
                (digest(wanted), digest(wanted, cells, cover, life, ahead)))

    def _cover_below_skin(self, field: d.Field, cover: float,
                          stood: Callable[[float], cloud_cells.Cells], cancel: Cancel) -> float:
        """Cover to ask of the bare shapes so that shreds, whose skin is much of them, cover as
        set."""
        aim = cover
        for _ in range(SHREDS_TRIED):
            share = self._covered(_peopled(field, stood(aim)), cancel)
            if abs(share - cover) < 0.015:
                break
            aim = min(max(aim + cover - share, 0.3 * cover), 0.99)
        return aim

    def _covered(self, field: d.Field, cancel: Cancel) -> float:
        """Share of the measured square under cloud deep enough for the eye."""
        count, steps = 72, max(10, int(field.layers[0][d.THICK] / 110.0))
        depths, lengths = np.empty((count, count)), np.empty((count, count))
        self.workers.over(cancel, chunk=6)(lambda i0, i1: d.column_depths(
            field, 0, 0.5 * cloud_cells.MEASURED_M, count, steps, i0, i1, depths, lengths), count)
        return float(np.mean(depths > EYE_DEPTH))

    def _sheet_level(self, p: NDArray[np.float64], field: d.Field, cover: float,
                     cancel: Cancel) -> float:
        """Score above which a sheet has cloud, so that its measured cover is as set."""
        if cover <= 0.0:
            return NOTHING
        if cover >= 0.9995:
            return -9.0
        scores = np.empty((SHEET_RASTER, SHEET_RASTER))
        d.sheet_scores(field, 0, 0.5 * cloud_cells.MEASURED_M, SHEET_RASTER, scores)
        flat = np.sort(scores.ravel())
        low, high = flat[0] - 1.5, flat[-1] + 0.2

        def score_of(share: float) -> float:
            return float(flat[int((1.0 - min(max(share, 0.0), 1.0)) * (len(flat) - 1))])

        level = score_of(cover)
        # The veil is thinner than 0.1 at its edges: walk the level until columns agree. What
        # those edges take off the score changes little on the way.
        for _ in range(9):
            p[d.LEVEL] = level
            share = self._covered(field, cancel)
            if abs(share - cover) < 0.004:
                break
            if share < cover:
                high = level
            else:
                low = level
            level += score_of(cover) - score_of(share)
            if not low < level < high:
                level = 0.5 * (low + high)
        return level

    def _joined(self, bodies: list[LayerBody]) -> d.Field:
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
        # Another skin changes none of these: what was joined stays.
        solids = self.cache.get("joined solids", digest([b.made_of[0] for b in bodies]),
                                lambda: _end_to_end([noise, *parts[0]]), keep=3)
        reals, links = self.cache.get("joined cells", digest([b.made_of[1] for b in bodies]),
                                      lambda: (_end_to_end(parts[1]), _end_to_end(parts[2])),
                                      keep=3)
        return d.Field(layers, solids, reals, links)

    # -- light ----------------------------------------------------------------------------

    def extinction(self, body: LayerBody, fineness: Fineness, cancel: Cancel) -> Any:
        grid, samples = body.grid, fineness.samples[0 if body.heaped else 1]
        if fineness.rough and body.layer.cover_oktas > CLOSING_OKTAS:
            samples = min(samples, 2)  # heaps stand so close that most cells are full throughout

        def build() -> Any:
            sigma = np.zeros((grid.levels, grid.n, grid.n, grid.nz), dtype=np.float32)
            chunk = 8

            def rows(level: int, i0: int) -> None:
                light_grid.fill_extinction(body.field, 0, grid, level, samples, cancel.flag, i0,
                                           min(i0 + chunk, grid.n), sigma[level])

            # All levels at once: no thread waits for the last rows of each.
            self.workers.all(cancel, [partial(rows, level, i0) for level in range(grid.levels)
                                      for i0 in range(0, grid.n, chunk)])
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
        skylight: dict[int, Any] = {}
        sunlight: dict[int, Any] = {}
        sun_key = digest([round(v, 5) for v in vector])

        def own_depth(i: int) -> Any:
            grid = bodies[i].grid

            def build() -> Any:
                depth = np.zeros(sigmas[i].shape, dtype=np.float32)
                sheet = not bodies[i].heaped and vector[2] > light_grid.SHEET_LOWEST
                sweep = light_grid.sweep_sheet if sheet else light_grid.sweep_depth
                sweep(sigmas[i], grid, *vector, cancel.flag, depth, np.empty_like(depth[0]))
                return depth

            return self.cache.get("sun depth", digest(bodies[i].key, grid, sun_key), build,
                                  keep=18)

        # The longest work first: no thread is left with it at the end.
        by_size = sorted(order, key=lambda i: -sigmas[i].size)
        self.workers.all(cancel, [partial(own_depth, i) for i in by_size])
        above: list[str] = []
        for i in order:
            keys[i] = digest(bodies[i].key, bodies[i].grid, sun_key, above, radius)
            above = [*above, bodies[i].key]
        # What is not at hand as a whole; of its parts the sky's alone serves another sun as well.
        wanted = [i for i in order if ("light", keys[i]) not in self.cache]
        for i in wanted:
            uppers = order[: order.index(i)]

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

            depths[i] = self.cache.once("shade", shaded)

        def sky_light(i: int) -> None:
            def build() -> Any:
                found = light_grid.solve_sky(sigmas[i], bodies[i].grid, fineness.sweeps,
                                             not bodies[i].heaped, cancel.flag, bodies[i].phase)
                cancel.check()
                return found

            skylight[i] = self.cache.get("sky light", digest(bodies[i].key, bodies[i].grid), build,
                                         keep=18)

        def sun_light(i: int) -> None:
            def build() -> Any:
                found = light_grid.solve_sun(sigmas[i], depths[i], bodies[i].grid, vector,
                                             fineness.sweeps, not bodies[i].heaped, cancel.flag,
                                             bodies[i].phase)
                cancel.check()
                return found

            sunlight[i] = self.cache.once("sun light", build)

        self.workers.all(cancel, [partial(solve, i) for i in by_size if i in wanted
                                  for solve in (sun_light, sky_light)])

        def pack(i: int) -> Any:
            store = np.empty((*sigmas[i].shape, light_grid.CHANNELS), dtype=np.float32)
            depth = depths.pop(i)
            if not bodies[i].heaped:
                light_grid.carry_depth_up(sigmas[i], depth, light_grid.clear_below(sigmas[i]))
            store[..., light_grid.DEPTH] = depth
            store[..., light_grid.SKY_J] = skylight.pop(i)
            lit = sunlight.pop(i)
            store[..., light_grid.SUN_J] = lit[..., 0]
            store[..., light_grid.FLUX_X:] = lit[..., 1:]
            return store.ravel()

        # What is at hand is taken first: packing another may push it out.
        flat = {i: self.cache.get("light", keys[i], partial(pack, i), keep=18)
                for i in sorted(order, key=wanted.__contains__)}
        return [flat[i] for i in range(len(bodies))]

    def shares(self, bodies: list[LayerBody], sigmas: list[Any],
               mu: float) -> list[tuple[float, float]]:
        """Of each layer: share of light it passes over all (direct and diffuse), and direct."""
        found = []
        for body, sigma in zip(bodies, sigmas, strict=True):
            cover = body.layer.cover_oktas / 8.0

            def depth_of(body: LayerBody = body, sigma: Any = sigma) -> float:
                return float(sigma[min(1, len(sigma) - 1)].sum(axis=2).mean()) * body.grid.dz

            mean = self.cache.get("mean depth", digest(body.key, body.grid), depth_of,
                                  keep=24) / max(cover, 0.02)
            through = float(slab_transmittance(mean, mu, body.phase))
            direct = math.exp(-body.phase.k_scaled * mean / max(mu, 0.03))
            found.append((1.0 - cover + cover * through, 1.0 - cover + cover * direct))
        return found

    # -- scene ----------------------------------------------------------------------------

    def scene(self, sky: Sky, fineness: Fineness, cancel: Cancel) -> Prepared:
        """Everything a march needs. Raises Cancelled when superseded."""
        atmosphere = self.atmosphere(sky, cancel, draft=fineness.rough)
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
        shade, left = np.ones(SHADE_NODES), []
        heights = np.linspace(0.0, SHADE_TOP_KM * 1e3, SHADE_NODES)
        for body, (share, _) in zip(bodies, shares, strict=True):
            base = body.base
            if fineness.rough:  # the sky behind stays while a cloud's own skin is tried
                share = round(share, 2)
            left.append(share)
            inside = np.clip((heights - base) / max(body.layer.thickness_m, 1.0), 0.0, 1.0)
            shade *= share + (1.0 - share) * inside
        far = max([reach_m(b.base + b.layer.thickness_m,
                           sky.camera.altitude_m) for b in bodies] + [60_000.0])
        shadow_rays = sky.air.shadow_rays and bool(bodies)
        observer = Observer(sky.camera.altitude_m, sun.elevation_true, sun.azimuth, far,
                            not shadow_rays)
        view = self._view(atmosphere, observer, shade, bodies, left, fineness.rough, cancel)
        light_key = digest(atmosphere.key, sun)
        sunlight = self.cache.get("sunlight", light_key,
                                  lambda: sunlight_table(media, table, sun))
        total_share = float(np.prod([s for s, _ in shares])) if shares else 1.0
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
        disc = disc_light(media, table, sun) / (math.pi * disc_radius**2 * flat_disc)
        ground = np.array([*ground_light(media, table, scattered, sun), np.zeros(3)])
        scene = Scene(
            field=self._joined(bodies),
            beam=beam_tables(),
            clear=view,
            light=np.concatenate(flat) if flat else np.zeros(8, np.float32),
            sunlight=sunlight,
            ambient=ambient,
            below=np.ones((1, 2, 2), np.float32),
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
        lit, mean = lit_from_below(scene, [b.base for b in bodies], self.workers, cancel)
        scene = scene._replace(below=over_mean(lit, mean, ground))
        ground[1:] = self._ground_by_sky(
            self._near_ground(scene, atmosphere, observer, shade, cancel), atmosphere, sun, cancel)
        scene = scene._replace(below=over_mean(lit, mean, ground))
        return Prepared(scene, sun, atmosphere, tuple(bodies), tuple(s for s, _ in shares), shade,
                        key, source.weight)

    def _ground_by_sky(self, scene: Scene, atmosphere: Atmosphere, sun: Place,
                       cancel: Cancel) -> NDArray[np.float64]:
        """(2, 3) radiance of the ground by all but the sun's own light, and by the aureole."""
        fallen = fallen_light(scene, self.workers, cancel)
        falling = np.sum(illuminances(atmosphere.media, atmosphere.sun, atmosphere.scattered, sun),
                         axis=0)
        returned = scene.ground.sum(axis=0) / np.maximum(falling, 1e-30) * math.pi
        around = np.maximum(returned * fallen.around - fallen.twice * scene.ground[0],
                            0.1 * returned * fallen.around)
        return np.array([around, returned * fallen.aureole])

    def _near_ground(self, scene: Scene, atmosphere: Atmosphere, observer: Observer,
                     shade: NDArray[np.float64], cancel: Cancel) -> Scene:
        """The scene as seen from the ground, if its camera stands high above it."""
        if observer.height_m <= NEAR_GROUND_M:
            return scene
        low = observer._replace(height_m=2.0)
        return scene._replace(height=2.0, clear=self._built_view(atmosphere, low, shade, cancel))

    def _built_view(self, atmosphere: Atmosphere, observer: Observer, shade: NDArray[np.float64],
                    cancel: Cancel) -> SkyView:
        """Sky and air for an observer."""
        return self.cache.get("sky view", digest(atmosphere.key, observer, shade.tolist()),
                              partial(build_sky_view, atmosphere.media, atmosphere.sun,
                                      atmosphere.scattered, observer, shade,
                                      self.workers.over(cancel, chunk=3)))

    def _view(self, atmosphere: Atmosphere, observer: Observer, shade: NDArray[np.float64],
              bodies: list[LayerBody], left: list[float], rough: bool, cancel: Cancel) -> SkyView:
        """Sky and air for an observer under layers that leave shares of light in the air; for a
        sketch reckoned from two views known, if one layer alone leaves more or less than there."""
        built = ("sky view", digest(atmosphere.key, observer, shade.tolist())) in self.cache
        places = [(b.base, b.layer.thickness_m) for b in bodies]
        known: list[dict[float, SkyView]] = [
            self.cache.get("views by share", digest(
                atmosphere.key, observer, places, k, left[:k], left[k + 1:]), dict, keep=24)
            for k in range(len(bodies))]
        if rough and not built:
            for share, views in zip(left, known, strict=True):
                low, high = min(views, default=0.0), max(views, default=0.0)
                if high - low >= FAR_APART:
                    return between(views[low], views[high], (share - low) / (high - low))
        view = self._built_view(atmosphere, observer, shade, cancel)
        for share, views in zip(left, known, strict=True):
            views[share] = view
            for other in sorted(views)[1:-1]:
                del views[other]
        return view

    def surroundings(self, prepared: Prepared, cancel: Cancel) -> list[SkyView]:
        """Sky and air as seen from the middle of each layer and from the ground, for the
        reference."""
        run = self.workers.over(cancel, chunk=3)
        air, sun = prepared.atmosphere, prepared.sun
        return [build_sky_view(air.media, air.sun, air.scattered, Observer(
            height, sun.elevation_true, sun.azimuth, prepared.scene.clear.air_far_m),
            prepared.shade, run) for height in [b.middle for b in prepared.bodies] + [2.0]]

    def in_shade(self, prepared: Prepared, low_m: float, high_m: float, cancel: Cancel) -> Prepared:
        """The same scene with no light left in the air below `low_m`, all above `high_m`."""
        heights = np.linspace(0.0, SHADE_TOP_KM * 1e3, SHADE_NODES)
        shade = np.clip((heights - low_m) / (high_m - low_m), 0.0, 1.0)
        sun, scene = prepared.sun, prepared.scene
        observer = Observer(scene.height, sun.elevation_true, sun.azimuth, scene.clear.air_far_m)
        view = self._built_view(prepared.atmosphere, observer, shade, cancel)
        return replace(prepared, scene=scene._replace(clear=view), shade=shade)

    def from_above(self, prepared: Prepared, cancel: Cancel) -> Prepared:
        """The same scene for a plan: seen straight down from above its highest cloud."""
        height = max([b.base + 1.1 * b.layer.thickness_m for b in prepared.bodies]
                     + [0.0]) + PLAN_ABOVE_M
        lit = []
        for light in prepared.lights:
            air, sun = light.atmosphere, light.sun
            observer = Observer(height, sun.elevation_true, sun.azimuth, PLAN_FAR * height,
                                not light.scene.shadow_rays)
            view = self._built_view(air, observer, light.shade, cancel)
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


def _peopled(field: d.Field, stood: cloud_cells.Cells) -> d.Field:
    """A heaped field with its standing clouds; its parameters are set in place."""
    p, count = field.layers[0], stood.squares**2
    p[d.SQUARES], p[d.PERIOD] = stood.squares, stood.period_m
    p[d.SHAPE_AT], p[d.CLEAR_AT], p[d.START_AT] = NOISE_BYTES, 0, 0
    p[d.CELL_AT], p[d.MEMBER_AT] = count, count + 1
    return field._replace(reals=stood.reals, links=stood.links)


def _end_to_end(arrays: list[NDArray[Any]]) -> NDArray[Any]:
    """Arrays joined; the only one that holds anything is taken as it is."""
    full = [a for a in arrays if a.size]
    return full[0] if len(full) == 1 else np.concatenate(arrays)
