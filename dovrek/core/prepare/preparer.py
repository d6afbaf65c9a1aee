"""From a sky document to a frozen scene: the list of stages, top to bottom as the light goes.

Each stage is kept under what it depends on: turning the camera builds nothing, moving the sun
leaves shapes and densities alone, a layer's change leaves the others alone.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from dovrek.core.air.scattering import DRAFT, FULL
from dovrek.core.air.sky_view import (
    SHADE_NODES,
    SHADE_TOP_KM,
    Observer,
    SkyView,
    between,
    build_sky_view,
)
from dovrek.core.air.sources import Source, sources
from dovrek.core.air.sun_place import Place
from dovrek.core.air.sunlight import light_direction, spans_of
from dovrek.core.clouds.motion import Moving, moving_of
from dovrek.core.geometry.planet import high_eye, reach_m, sight_m
from dovrek.core.land.forms import shape_of
from dovrek.core.land.meeting import land_record, raised
from dovrek.core.land.sky_share import ready_land
from dovrek.core.land.tones import land_tones
from dovrek.core.land.world import world_map
from dovrek.core.prepare.assembly import (
    LOW_EYE_M,
    Shade,
    joined_field,
    light_around,
    lit_scene,
    shade_of,
    soil_of,
    stands_of,
)
from dovrek.core.prepare.atmosphere import (
    AirNodes,
    Atmosphere,
    air_nodes,
    air_parameters,
    sunlight,
)
from dovrek.core.prepare.bodies import LayerBody, body_of
from dovrek.core.prepare.fineness import Fineness
from dovrek.core.prepare.in_hand import held_view, near_sun
from dovrek.core.prepare.lighting import extinction_node, light_nodes, mean_depth
from dovrek.core.run.cache import StageCache
from dovrek.core.run.maker import Maker
from dovrek.core.run.stage import Node, Tools, key_of, stage
from dovrek.core.run.workers import Cancel, Workers
from dovrek.core.transport.scene import Scene
from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer
from dovrek.sky.seen import layers_of

LEAST_FAR_M = 60_000.0
PLAN_ABOVE_M, PLAN_FAR = 500.0, 1.5
FAR_APART = 0.1  # of the light that a layer leaves in the air, for views to reckon with
SCENES_NOTED = 64  # documents whose scenes are known to be built
NEAR_GROUND_M = 200.0  # a camera below sees the sky as the ground does
# Airglow and stars of a dark site, about 22 magnitudes a square arcsecond (Leinert et al. 1998).
OVER_LIMB = 0.08  # radians
NIGHT_GLOW = (1.75e-4, 1.8e-4, 2.1e-4)


@dataclass(frozen=True)
class Prepared:
    """A scene ready to march, with the numbers behind it."""

    scene: Scene
    sun: Place
    atmosphere: Atmosphere
    bodies: tuple[LayerBody, ...]
    shares: tuple[float, ...]
    shade: tuple[float, ...]  # share of light that clouds leave in the air, by height
    key: str
    fineness: Fineness
    weight: tuple[float, float, float] = (1.0, 1.0, 1.0)  # of X, Y and Z of this light
    others: tuple[Prepared, ...] = ()  # the same sky under further lights, to be added

    @property
    def lights(self) -> tuple[Prepared, ...]:
        """Every light by itself: sun, moon."""
        return (self, *self.others)


@stage("view between")
def view_between(tools: Tools, one: SkyView, other: SkyView, share: float) -> SkyView:
    """The view for a shade between two known ones."""
    return between(one, other, share)


Moves = dict[str, Moving]  # by layer


def _told_by(sky: Sky, moved: Moves | None = None) -> str:
    """What a document says of its scene, whatever is only framing, film or name."""
    layers = [x.model_dump(exclude={"name", "locked"}) for x in layers_of(sky)]
    return key_of(repr((layers, sky.seed, sky.site, sky.moment, sky.sun, sky.moon, sky.air,
                        sky.camera.altitude_m, sky.camera.east_m, sky.camera.north_m, sky.relief,
                        sky.ground, sorted((moved or {}).items()))))


def farthest_m(bodies: Iterable[LayerBody], eye_m: float, radius_m: float) -> float:
    """Distance of the farthest cloud that an eye sees, metres."""
    sight = sight_m if high_eye(eye_m, radius_m) else reach_m
    return max([sight(b.base + b.layer.thickness_m, eye_m, radius_m) for b in bodies]
               + [LEAST_FAR_M])


class Preparer:
    """Builds scenes; one at a time, on shared worker threads."""

    def __init__(self, workers: Workers, cache: StageCache | None = None) -> None:
        self.workers = workers
        self.cache = cache or StageCache()

    def maker(self, cancel: Cancel) -> Maker:
        """What builds nodes into this preparer's cache."""
        return Maker(self.cache, Tools(self.workers, cancel))

    def all(self, nodes: Iterable[Node[Any]], cancel: Cancel) -> list[Any]:
        """The results of nodes. Raises Cancelled."""
        return self.maker(cancel).all(nodes)

    # -- the way data takes ---------------------------------------------------------------

    def scene(self, sky: Sky, fineness: Fineness, cancel: Cancel,
              moved: Moves | None = None) -> Prepared:
        """Everything a march needs, layers as they have moved (by id; unsaid: as in a still).
        Raises Cancelled when superseded."""
        told = _told_by(sky, moved)
        sky = raised(sky)
        air = self.air_of(sky, draft=fineness.rough)
        with self.maker(cancel).beside([air.table, air.scattered]):
            bodies = self._bodies(sky, fineness, cancel, moved)
        lit = [self._lit(sky, source, air, bodies, fineness, cancel) for source in sources(sky)]
        built = self.cache.memo("scenes", "")
        built[told, fineness] = [("scene", light.key) for light in lit]
        for old in list(built)[:-SCENES_NOTED]:
            built.pop(old, None)
        glow = np.array(NIGHT_GLOW) / lit[0].weight
        lit[0] = replace(lit[0], scene=lit[0].scene._replace(glow=glow))
        return replace(lit[0], others=tuple(lit[1:]), key=key_of(*(p.key for p in lit)))

    def bodies(self, sky: Sky, fineness: Fineness, cancel: Cancel, moved: Moves | None = None,
               eye_m: float | None = None) -> list[LayerBody]:
        """Shapes, cells and cover of the layers that are seen, as they have moved; `eye_m` is the
        height of the eye that they are dealt and laid out for, unless it is the camera's."""
        sky = raised(sky)
        if eye_m is not None:
            sky = sky.model_copy(update={"camera": sky.camera.model_copy(update={
                "altitude_m": eye_m})})
        return self._bodies(sky, fineness, cancel, moved)

    def seen_from(self, lit: Prepared, height_m: float) -> Node[SkyView]:
        """The air of a light's scene for an eye at another height."""
        scene, sun = lit.scene, lit.sun
        far = farthest_m(lit.bodies, height_m, scene.radius)
        return lit.atmosphere.nodes.view(
            Observer(height_m, sun.elevation_true, sun.azimuth, far,
                     haze_shaded=not scene.shadow_rays), lit.shade)

    def _bodies(self, sky: Sky, fineness: Fineness, cancel: Cancel,
                moved: Moves | None) -> list[LayerBody]:
        return [body_of(sky, layer, fineness, self.maker(cancel),
                        (moved or {}).get(layer.id) or moving_of(sky, layer, 0.0))
                for layer in layers_of(sky)]

    def body(self, sky: Sky, layer: Layer, fineness: Fineness, cancel: Cancel) -> LayerBody:
        """Shapes, cells and cover of one layer."""
        return body_of(raised(sky), layer, fineness, self.maker(cancel))

    def _lit(self, sky: Sky, source: Source, air: AirNodes, bodies: list[LayerBody],
             fineness: Fineness, cancel: Cancel) -> Prepared:
        """The scene under one light."""
        maker, sun = self.maker(cancel), source.place
        atmosphere = self._atmosphere(air, cancel)
        radius = atmosphere.media.radius_km * 1e3
        lit_by = light_direction(near_sun(sun) if fineness.in_hand else sun)
        shape = ready_land(relief=shape_of(sky.relief))
        land = maker.make(shape)
        land_at = land_record(sky, len(land.heights) - 1, land.places, len(land.sky))
        light = light_nodes(bodies, lit_by, radius, fineness, shape, land_at)
        means = maker.all([mean_depth(sigma=extinction_node(b, fineness), dz=b.grid.dz)
                           for b in bodies] + light)[:len(bodies)]
        shade = shade_of(bodies, means, sun, fineness)
        height = sky.camera.altitude_m
        high = high_eye(height, radius)
        far = farthest_m(bodies, height, radius)
        # Arc of the ground to the horizon, and beyond to clouds that stand over it.
        spans = spans_of(math.acos(radius / (radius + height)) + OVER_LIMB) if high else 1
        shadow_rays = sky.air.shadow_rays and (bool(bodies) or sky.relief.stands)
        observer = Observer(height, sun.elevation_true, sun.azimuth, far,
                            haze_shaded=not shadow_rays)
        from_ground = observer._replace(height_m=LOW_EYE_M, round_earth=False)
        if fineness.in_hand:
            view = held_view(air, observer, bodies, means, maker)
            low = held_view(air, from_ground, bodies, means, maker)
        else:
            view = self._view(air, observer, shade, bodies, fineness.rough, maker)
            low = air.view(from_ground, shade.by_height)
        joined = joined_field(bodies)
        around = sky.behind.stands and sky.behind.kind == "dome"
        node = lit_scene(
            layers=joined.layers, solid=joined.solid, cells=joined.cells, light=light,
            stands=stands_of(bodies), shade=shade, air=air.parameters, table=air.table,
            scattered=air.scattered,
            view=view,
            land=shape,
            land_at=land_at,
            low_view=low if high or height > NEAR_GROUND_M else None,
            beam=sunlight(air=air.parameters, table=air.table, sun=sun, spans=spans), source=source,
            height_m=height, shadow_rays=shadow_rays,
            soil=soil_of(sky), tones=land_tones(picture=sky.relief.picture),
            world=world_map(asset=sky.ground.map if sky.ground.mapped else ""),
            around=light_around(asset=sky.behind.asset if around else ""),
            ground_looks=fineness.ground)
        return Prepared(maker.make(node), sun, atmosphere, tuple(bodies),
                        tuple(s for s, _ in shade.shares), shade.by_height, node.key,
                        fineness, source.weight)

    # -- air ------------------------------------------------------------------------------

    def air_of(self, sky: Sky, draft: bool = False) -> AirNodes:
        """Stages of the air; a draft of the scattering unless the full one is at hand."""
        air = air_parameters(sky)
        full = air_nodes(air, FULL)
        if draft and full.scattered.place not in self.cache:
            return air_nodes(air, DRAFT)
        return full

    def atmosphere(self, sky: Sky, cancel: Cancel, draft: bool = False) -> Atmosphere:
        """Tables of the air. Raises Cancelled."""
        return self._atmosphere(self.air_of(sky, draft), cancel)

    def _atmosphere(self, air: AirNodes, cancel: Cancel) -> Atmosphere:
        table, scattered = self.all([air.table, air.scattered], cancel)
        return Atmosphere(air.media, table, scattered, air)

    def _view(self, air: AirNodes, observer: Observer, shade: Shade, bodies: list[LayerBody],
              rough: bool, maker: Maker) -> Node[SkyView]:
        """Sky and air for an observer under layers that leave shares of light in the air; for a
        sketch reckoned from two views known, if one layer alone leaves more or less than there."""
        node, left = air.view(observer, shade.by_height), shade.left
        places = [(b.base, b.layer.thickness_m) for b in bodies]
        known: list[dict[float, Node[SkyView]]] = [
            self.cache.memo("views by share", key_of(air.scattered, observer, places, k, left[:k],
                                                     left[k + 1:])) for k in range(len(bodies))]
        if rough and not maker.holds(node):
            for share, views in zip(left, known, strict=True):
                low, high = min(views, default=0.0), max(views, default=0.0)
                if high - low >= FAR_APART and maker.holds(views[low], views[high]):
                    return view_between(one=views[low], other=views[high],
                                        share=(share - low) / (high - low))
        maker.make(node)
        for share, views in zip(left, known, strict=True):
            views[share] = node
            for other in sorted(views)[1:-1]:
                del views[other]
        return node

    # -- the same scene otherwise ---------------------------------------------------------

    def holds_scene(self, sky: Sky, fineness: Fineness, moved: Moves | None = None) -> bool:
        """Whether the scene is already built."""
        places = self.cache.memo("scenes", "").get((_told_by(sky, moved), fineness))
        return places is not None and all(place in self.cache for place in places)

    def surroundings(self, prepared: Prepared, cancel: Cancel) -> list[SkyView]:
        """Sky and air as seen from the middle of each layer and from the ground, for the
        reference."""
        run = self.workers.over(cancel, chunk=3)
        air, sun = prepared.atmosphere, prepared.sun
        return [build_sky_view(air.media, air.sun, air.scattered, Observer(
            height, sun.elevation_true, sun.azimuth, prepared.scene.clear.air_far_m,
            round_earth=False),
            np.array(prepared.shade), run)
            for height in [b.middle for b in prepared.bodies] + [LOW_EYE_M]]

    def in_shade(self, prepared: Prepared, low_m: float, high_m: float, cancel: Cancel) -> Prepared:
        """The same scene with no light left in the air below `low_m`, all above `high_m`."""
        heights = np.linspace(0.0, SHADE_TOP_KM * 1e3, SHADE_NODES)
        shade = tuple(np.clip((heights - low_m) / (high_m - low_m), 0.0, 1.0).tolist())
        sun, scene = prepared.sun, prepared.scene
        observer = Observer(scene.height, sun.elevation_true, sun.azimuth, scene.clear.air_far_m)
        view = self.maker(cancel).make(prepared.atmosphere.nodes.view(observer, shade))
        return replace(prepared, scene=scene._replace(clear=view), shade=shade)

    def from_above(self, prepared: Prepared, cancel: Cancel) -> Prepared:
        """The same scene for a plan: seen straight down from above its highest cloud."""
        height = max([b.base + 1.1 * b.layer.thickness_m for b in prepared.bodies]
                     + [float(prepared.scene.land["highest"]) * 1.1]) + PLAN_ABOVE_M
        lit = []
        for light in prepared.lights:
            sun = light.sun
            observer = Observer(height, sun.elevation_true, sun.azimuth, PLAN_FAR * height,
                                round_earth=light.scene.clear.high,  # as its day is tabled
                                haze_shaded=not light.scene.shadow_rays)
            view = self.maker(cancel).make(light.atmosphere.nodes.view(observer, light.shade))
            cancel.check()
            lit.append(replace(light, scene=light.scene._replace(height=height, clear=view)))
        return replace(lit[0], others=tuple(lit[1:]))
