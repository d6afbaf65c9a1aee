"""From bodies, light grids and air to the scene that rays meet under one light."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.media import AirParameters, Media, media_of
from dovrek.core.air.scattering import Scattered
from dovrek.core.air.sky_view import SHADE_NODES, SHADE_TOP_KM, SkyView, hemispheres
from dovrek.core.air.sources import Source
from dovrek.core.air.sun_place import Place
from dovrek.core.air.sun_table import SunTable, sun_transmittance
from dovrek.core.air.sunlight import (
    LIGHT_SUNS,
    day_table,
    disc_light,
    ground_light,
    illuminances,
    light_direction,
)
from dovrek.core.air.sunlight import (
    SKY as DAY_SKY,
)
from dovrek.core.air.sunlight import (
    SUN as DAY_SUN,
)
from dovrek.core.clouds.light import grid as light_grid
from dovrek.core.clouds.light.solve import sheet_shares
from dovrek.core.clouds.phase import PHASES, beam_tables
from dovrek.core.clouds.record import LAYER, Field
from dovrek.core.clouds.values import Record, quantile
from dovrek.core.colour.backdrop import Around, light_of, read_backdrop
from dovrek.core.colour.film import automatic_white
from dovrek.core.colour.spectrum import WAVES, xyz_weights
from dovrek.core.compile.noise import NOISE_BYTES, hash_unit
from dovrek.core.geometry.travel import foot_on
from dovrek.core.land.meeting import no_land
from dovrek.core.land.sky_share import Ready
from dovrek.core.land.tones import Tones
from dovrek.core.land.world import World
from dovrek.core.prepare.atmosphere import Atmosphere
from dovrek.core.prepare.bodies import LayerBody
from dovrek.core.prepare.fields import joined_cells, solids
from dovrek.core.prepare.fineness import Fineness
from dovrek.core.prepare.lighting import shares_of
from dovrek.core.run.stage import Node, Tools, stage
from dovrek.core.transport.ground import fallen_light, lit_from_below, over_mean
from dovrek.core.transport.scene import GROUND, SUN, Scene, grain
from dovrek.core.transport.water import slope_variance
from dovrek.sky.document import Sky
from dovrek.sky.seen import owner_of, owners_of

FLATTEST_DISC = 0.6
REFRACTING_M = 8000.0  # height over which refraction falls to about a third, with the air
WORLD_M = 4e7  # from which continents are dealt
DAYBREAK = 1.0  # cd/m² of the ground by the sun, from which its aureole is reckoned with
SHARES, BASES_M = 10, 500.0  # in hand: steps of what layers pass on, and of their heights
LOW_EYE_M = 2.0  # the eye that sees what falls on the ground


class Shade(NamedTuple):
    """What the clouds leave of the light in the air."""

    by_height: tuple[float, ...]  # SHADE_NODES shares
    left: tuple[float, ...]  # by layer
    shares: tuple[tuple[float, float], ...]  # by layer: passed on, direct and diffuse; direct


def shade_of(bodies: list[LayerBody], means: list[float], sun: Place,
             fineness: Fineness) -> Shade:
    """What layers of these mean depths leave of the light."""
    shares = shares_of(bodies, means, max(math.sin(sun.elevation_true), 0.03))
    shade, left = np.ones(SHADE_NODES), []
    heights = np.linspace(0.0, SHADE_TOP_KM * 1e3, SHADE_NODES)
    for body, (share, _) in zip(bodies, shares, strict=True):
        base = body.base
        if fineness.rough:  # the sky behind stays while a cloud's own skin is tried
            share = round(share, 2)
        if fineness.in_hand:  # and while its cover or its height is
            share, base = round(SHARES * share) / SHARES, BASES_M * round(base / BASES_M)
        left.append(share)
        inside = np.clip((heights - base) / max(body.layer.thickness_m, 1.0), 0.0, 1.0)
        shade *= share + (1.0 - share) * inside
    return Shade(tuple(shade.tolist()), tuple(left), tuple(shares))


class Joined(NamedTuple):
    """The field of all layers: records, and the nodes of its bytes and its clouds."""

    layers: Record
    solid: Node[NDArray[np.uint8]]
    cells: Node[tuple[Any, Any, Any]]


def joined_field(bodies: list[LayerBody]) -> Joined:
    """One field of all layers, with every layer's places in the joined arrays."""
    forms, charts = [b.forms for b in bodies if b.forms], [b.chart for b in bodies if b.chart]
    stood = [b.stood for b in bodies if b.stood]
    layers = np.zeros(len(bodies), LAYER)
    owners = owners_of(b.layer.id for b in bodies)
    byte = NOISE_BYTES
    squares, instances, links, light = 0, 0, 0, 0
    for i, body in enumerate(bodies):
        layers[i] = body.field.layers[0]
        p = layers[i]
        p["grid_at"] = light
        p["matte_at"] = owners.index(owner_of(body.layer.id))
        light += body.grid.levels * body.grid.n**2 * body.grid.nz * light_grid.CHANNELS
        if body.forms is None or body.stood is None:
            continue
        p["shapes_at"], p["clearances_at"], p["instances_at"] = byte, squares, instances
        p["starts_at"] = links
        p["members_at"] += links
        byte += body.form_bytes
        squares += int(p["squares"]) ** 2
        instances += len(body.field.instances)
        links += len(body.field.links)
    for i, body in enumerate(bodies):
        if body.chart is not None:
            layers[i]["map_at"] = byte
            byte += body.chart.cover.size
    for i, body in enumerate(bodies):
        if body.pull is not None:
            layers[i]["gather_at"] = byte
            byte += body.pull.size
    # What a land's heights begin at: behind the clearances of all heaps, each land once a layer.
    lands = [b.risen for b in bodies if b.risen]
    for i, body in enumerate(bodies):
        if body.risen is not None:
            layers[i]["drape_at"] = squares
            squares += (int(layers[i]["drape_squares"]) + 1) ** 2
    # Another skin changes none of these: what was joined stays.
    return Joined(layers, solids(forms=forms, charts=charts, pulls=tuple(
        b.pull for b in bodies if b.pull is not None)),
                  joined_cells(stood=stood, lands=lands))


class Air(NamedTuple):
    """Tables of the air."""

    media: Media
    sun: SunTable
    scattered: Scattered


class Stand(NamedTuple):
    """What light between layers needs to know of one."""

    base: float  # metres above the ground
    thickness: float
    cover: float  # 0 … 1
    heaped: bool
    veil: bool

    @property
    def middle(self) -> float:
        return self.base + 0.5 * self.thickness


def stands_of(bodies: list[LayerBody]) -> list[Stand]:
    """The same of all layers."""
    return [Stand(b.base, b.layer.thickness_m, b.layer.cover_oktas / 8.0, b.heaped, b.veil)
            for b in bodies]


@stage("light around")
def light_around(tools: Tools, asset: str) -> Around | None:
    """Light of a picture all around; None without one that can be read."""
    backdrop = read_backdrop(asset) if asset else None
    return None if backdrop is None else light_of(backdrop)


def _ambient(stands: list[Stand], shade: Shade, air: Air, sun: Place, ground_share: float,
             around: Around | None) -> NDArray[np.float64]:
    """Light on each layer from the sky and clouds above, the ground and clouds below. A picture
    `around` gives the sky its colours, and the ground its light beside the sky's."""
    out = np.zeros((max(len(stands), 1), 2, 3))
    mu = max(math.sin(sun.elevation_true), 0.0)
    columns, trans = np.empty(4), np.empty(WAVES)
    by_height = np.array(shade.by_height)
    if around is not None:
        falling = np.sum(illuminances(air.media, air.sun, air.scattered, sun), axis=0)
        around = around.under(automatic_white(falling))
    for i, own in enumerate(stands):
        both = hemispheres(air.media, air.sun, air.scattered, by_height, own.middle,
                           sun.elevation_true, ground_share)
        # A level sheet sees the sky as a level plate does, a heap as a ball does.
        above, below = (both[2], both[3]) if own.heaped else (both[0], both[1])
        if around is not None:
            above, below = (float(above[1]) * np.array(half)
                            for half in (around.above, around.below))
        sun_transmittance(air.sun, air.media, own.middle * 1e-3, math.sin(sun.elevation_true),
                          air.media.haze_per_km, columns, trans)
        direct = mu * (trans @ xyz_weights()) / math.pi
        for k, other in enumerate(stands):
            if k == i:
                continue
            cover = other.cover
            through, straight = ((s - 1.0 + cover) / max(cover, 1e-3) for s in shade.shares[k])
            if other.base > own.middle:  # what it passes straight on is still the sun's beam
                above = (1.0 - cover) * above + cover * (
                    through * above + (through - straight) * direct)
            elif other.base + other.thickness < own.middle:
                below = (1.0 - cover) * below + cover * (1.0 - through) * (direct + above)
        out[i, 0], out[i, 1] = above, below
    return out


def sun_record(air: Air | Atmosphere, source: Source, height_m: float) -> np.void:
    """The source as rays meet it."""
    sun = source.place
    columns = np.empty(4)
    # The table fades the disc as it sets; behind the horizon the ground hides it instead.
    light = disc_light(air.media, air.sun, sun, height_m, columns)
    # Refraction lifts it by what air there is at the eye.
    lift = (sun.elevation - sun.elevation_true) * math.exp(-height_m / REFRACTING_M)
    place = replace(sun, elevation=sun.elevation_true + lift)
    flat = float(np.clip(columns[3], FLATTEST_DISC, 1.0)) if columns[3] > 0 else 0.8
    record = np.zeros(1, SUN)[0]
    record["direction"], record["elevation"] = place.vector, place.elevation
    record["azimuth"], record["radius"], record["flattening"] = sun.azimuth, source.radius, flat
    record["lit"], record["limb"] = source.lit, source.limb
    record["radiance"] = light / (math.pi * source.radius**2 * flat)
    return record


SOIL = ("variety", "east", "north", "water", "slopes", "world_x", "world_y", "world_size",
        "world_level", "latitude", "longitude")  # of the ground's record, then albedo and warmth
# of the land


def soil_of(sky: Sky) -> tuple[float, ...]:
    """What the document says of the ground: `SOIL`, then its land's albedo and warmth."""
    ground = sky.ground
    water = {"land": 0.0, "water": 1.0, "continents": 0.5, "map": 0.5 * ground.mapped}[ground.kind]
    return (sky.air.ground_variety, sky.camera.east_m, sky.camera.north_m, water,
            slope_variance(ground.waves), WORLD_M * hash_unit(ground.seed, 3, 17),
            WORLD_M * hash_unit(ground.seed, 4, 17), 1e3 * ground.size_km,
            quantile(ground.land_share), *foot_on(sky), sky.air.ground_albedo,
            sky.air.ground_warmth)


@stage("scene", wide=True)
def lit_scene(tools: Tools, layers: Record, solid: NDArray[np.uint8], cells: tuple[Any, Any, Any],
              light: list[NDArray[np.float32]], stands: list[Stand], shade: Shade,
              air: AirParameters, table: SunTable, scattered: Scattered, view: SkyView,
              low_view: SkyView | None, land: Ready, land_at: np.void, beam: NDArray[np.float64],
              source: Source, height_m: float, shadow_rays: bool,
              soil: tuple[float, ...], tones: Tones, world: World,
              around: Around | None, ground_looks: tuple[int, int]) -> Scene:
    """All that rays meet under one light; the night's glow is left out.

    `low_view` is what an eye near the ground sees, when the camera stands high; `soil` is what
    `soil_of` tells of the ground; `around` the light of a picture behind; `ground_looks` how finely
    light on the ground is looked for.
    """
    tables, sun = Air(media_of(air), table, scattered), source.place
    total_share = float(np.prod([s for s, _ in shade.shares])) if stands else 1.0
    ground = np.zeros(1, GROUND)[0]
    for name, value in zip(SOIL, soil, strict=False):
        ground[name] = value
    ground["albedo"] = tables.media.albedo @ xyz_weights() / xyz_weights().sum(axis=0)
    dry = media_of(air._replace(ground_albedo=soil[-2], ground_warmth=soil[-1])).albedo
    ground["land"] = (dry @ xyz_weights()) / np.maximum(tables.media.albedo @ xyz_weights(), 1e-9)
    ground["by_sun"], ground["by_sky"] = ground_light(tables.media, table, scattered, sun)
    # Light that goes to and fro between the ground and the clouds above it.
    again = 1.0 / (1.0 - ground["albedo"] * (1.0 - total_share))
    slanting = sheet_shares(light_direction(sun)[2])[1]
    scene = Scene(
        field=Field(layers, solid, *cells),
        beam=beam_tables(),
        clear=view,
        light=_end_to_end(light),
        sunlight=beam,
        ambient=_ambient(stands, shade, tables, sun, total_share * float(again[1]),
                         around),
        below=np.ones((1, 2, 2), np.float32),
        once_share=np.array([1.0 if s.heaped or s.veil else slanting for s in stands] or [1.0]),
        ground=ground,
        sun=sun_record(tables, source, height_m),
        land=no_land(), land_heights=land.heights, land_peaks=land.peaks, land_sky=land.sky,
        land_tones=tones, world=world,
        glow=np.zeros(3),
        lobes=np.array([p.flat() for p in PHASES]),
        grain=grain(),
        radius=tables.media.radius_km * 1e3,
        height=max(height_m, 0.2),
        shadow_rays=shadow_rays,
        day=np.ones((LIGHT_SUNS, 4, 3)),
    )
    rays, looks = ground_looks
    lit, mean = lit_from_below(scene, [s.base for s in stands], looks, tools.workers, tools.cancel)
    scene = scene._replace(below=over_mean(lit, mean, ground))
    low = scene if low_view is None else scene._replace(height=LOW_EYE_M, clear=low_view)
    _light_ground(ground, low, tables, sun, rays, tools)
    scene = scene._replace(below=over_mean(lit, mean, ground), land=land_at)
    return scene._replace(day=_day(scene, tables, sun)) if scene.clear.high else scene


def _day(scene: Scene, air: Air, sun: Place) -> NDArray[np.float64]:
    """What the day is like far away under clouds like those here (`Scene.day`)."""
    _, suns, _ = scene.sunlight.shape
    day = day_table(air.media, air.sun, air.scattered, sun, suns)
    ground, here = scene.ground, day[len(day) // 2]
    by_sun = (ground["by_sun"] + ground["by_aureole"]) / np.maximum(here[DAY_SUN], 1e-30)
    day[:, DAY_SUN] *= by_sun if here[DAY_SUN][1] > DAYBREAK else 1.0
    day[:, DAY_SKY] *= ground["by_sky"] / np.maximum(here[DAY_SKY], 1e-30)
    return day


def _light_ground(ground: np.void, low: Scene, air: Air, sun: Place, rays: int,
                  tools: Tools) -> None:
    """Set the ground's radiance by all but the sun's own light, and by the aureole."""
    fallen = fallen_light(low, rays, tools.workers, tools.cancel)
    falling = np.sum(illuminances(air.media, air.sun, air.scattered, sun), axis=0)
    whole = ground["by_sun"] + ground["by_sky"]
    returned = whole / np.maximum(falling, 1e-30) * math.pi
    ground["by_sky"] = np.maximum(returned * fallen.around - fallen.twice * ground["by_sun"],
                                  0.1 * returned * fallen.around)
    ground["by_aureole"] = returned * fallen.aureole


def _end_to_end(arrays: list[NDArray[np.float32]]) -> NDArray[np.float32]:
    """Arrays joined; a single one is taken as it is."""
    if not arrays:
        return np.zeros(8, np.float32)
    return arrays[0] if len(arrays) == 1 else np.concatenate(arrays)
