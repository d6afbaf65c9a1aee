"""Stages of the air: its columns toward the sun, its scattering, and what one observer sees."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.media import AirParameters, Media, media_of
from dovrek.core.air.scattering import FULL, Quality, Scattered, solve_scattering
from dovrek.core.air.sky_view import Observer, SkyView, build_sky_view
from dovrek.core.air.sun_place import Place
from dovrek.core.air.sun_table import SunTable, build_sun_table
from dovrek.core.air.sunlight import sunlight_table
from dovrek.core.land.world import land_share_of
from dovrek.core.run.stage import Node, Tools, all_of_them, stage
from dovrek.sky.document import Sky

# What water sends back on the whole: its surface and its depth. Cox & Munk 1955 give .06 to .08
# with the sun half way up.
SEA_ALBEDO, SEA_WARMTH = 0.06, -0.4


def air_parameters(sky: Sky) -> AirParameters:
    """What the document says of the air."""
    water = water_share_of(sky)
    return AirParameters(sky.air.haze, sky.air.haze_height_m, sky.air.ozone_du,
                         water * SEA_ALBEDO + (1.0 - water) * sky.air.ground_albedo,
                         water * SEA_WARMTH + (1.0 - water) * sky.air.ground_warmth,
                         sky.site.elevation_m, sky.air.planet_radius_km, sky.air.depth)


def water_share_of(sky: Sky) -> float:
    """Share of the world that is water."""
    if sky.ground.kind == "map":
        return 1.0 - land_share_of(sky.ground)
    return {"land": 0.0, "water": 1.0, "continents": 1.0 - sky.ground.land_share}[sky.ground.kind]


@stage("sun table", outlasts=all_of_them)
def sun_table(tools: Tools, haze_height_m: float, elevation_m: float,
              planet_radius_km: float, depth: float) -> SunTable:
    """Columns toward the sun: they know profiles and radius, not the amount of haze."""
    return build_sun_table(media_of(AirParameters(1.0, haze_height_m, 1.0, 0.0, 0.0, elevation_m,
                                                  planet_radius_km, depth)))


@stage("scattering", wide=True, outlasts=lambda given: given["quality"] == FULL)
def scattering(tools: Tools, air: AirParameters, table: SunTable, quality: Quality) -> Scattered:
    """All orders of scattering, good for every sun."""
    return solve_scattering(media_of(air), table, quality, tools.workers.pool, tools.cancel.check)


@stage("sunlight")
def sunlight(tools: Tools, air: AirParameters, table: SunTable, sun: Place,
             spans: int) -> NDArray[np.float64]:
    """Sunlight by height and by the change of the sun's height over distance, 5° a span."""
    return sunlight_table(media_of(air), table, sun, spans)


@stage("sky view", wide=True)
def sky_view(tools: Tools, air: AirParameters, table: SunTable, scattered: Scattered,
             observer: Observer, shade: tuple[float, ...]) -> SkyView:
    """Sky and air for one observer; `shade` is the share of light that clouds leave in the air by
    height."""
    return build_sky_view(media_of(air), table, scattered, observer, np.array(shade),
                          tools.workers.over(tools.cancel, chunk=3))


@dataclass(frozen=True)
class AirNodes:
    """The air's stages, none of them built yet."""

    parameters: AirParameters
    table: Node[SunTable]
    scattered: Node[Scattered]

    @property
    def media(self) -> Media:
        return media_of(self.parameters)

    def view(self, observer: Observer, shade: tuple[float, ...]) -> Node[SkyView]:
        """The node of what an observer sees."""
        return sky_view(air=self.parameters, table=self.table, scattered=self.scattered,
                        observer=observer, shade=shade)


def air_nodes(air: AirParameters, quality: Quality) -> AirNodes:
    """The stages of an air."""
    table = sun_table(haze_height_m=air.haze_height_m, elevation_m=air.elevation_m,
                      planet_radius_km=air.planet_radius_km, depth=air.depth)
    return AirNodes(air, table, scattering(air=air, table=table, quality=quality))


@dataclass(frozen=True)
class Atmosphere:
    """The air's tables, good for every sun."""

    media: Media
    sun: SunTable
    scattered: Scattered
    nodes: AirNodes

    @property
    def key(self) -> str:
        return self.nodes.scattered.key
