"""Advisories: what an artist would want to be told about a sky, with the mend beside it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

from dovrek.sky.behind import BEGINS
from dovrek.sky.cyclone import Cyclone
from dovrek.sky.document import Sky
from dovrek.sky.genera import ETAGES, GENUS_ETAGE
from dovrek.sky.layer import MAP_PREFIX, Layer
from dovrek.sky.seen import depth_of

AIR_RIGHT_DOWN_TO_DEG = -10.0
LID_SHARE = 0.02
BURNT_SHARE = 0.03  # of a picture that may burn out, about the sun itself
COVER_APART = 1.5  # oktas from the reference's cover
WEATHER_TOP_M = 20_000.0  # the sunlight inside clouds is tabled up to here
EARTH_KM, SHALLOWEST, DEEP = 6371.0, 0.2, 2.5  # DEEP: times what fits the planet's radius
OPAQUE_DEPTH, WHOLE_OKTAS = 12.0, 7.9


@dataclass(frozen=True)
class Advisory:
    """A plain-words warning: machine code, place in the document, text, mend; and, where one
    press mends it, the values to set (layers by their ids)."""

    code: str
    where: str
    text: str
    mend: str
    values: dict[str, Any] = field(default_factory=dict)

    def data(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True)
class Seen:
    """What only a rendered picture tells."""

    burnt: float = 0.0  # share of pixels that the film burns out
    held_ev: float | None = None  # exposure at which no more than BURNT_SHARE burns out
    lids: Mapping[str, float] = field(default_factory=dict)  # by layer id: share at the lid
    cover: float | None = None  # oktas of the picture
    reference_cover: float | None = None  # oktas of the reference beside it


def advisories(sky: Sky, sun_elevation_deg: float, lids: Mapping[str, float] | None = None,
               seen: Seen | None = None) -> list[Advisory]:
    """All advisories of a sky whose sun stands at an apparent elevation.

    `lids` is, by layer id, the measured share of cloud that reaches its layer's lid; `seen` what
    a picture of it tells.
    """
    seen = seen or Seen()
    found = _of_light(sky, sun_elevation_deg, seen) + _of_place(sky)
    for index, layer in enumerate(sky.layers):
        found += _of_layer(sky, index, layer, (lids or seen.lids).get(layer.id, 0.0))
    if seen.cover is not None and seen.reference_cover is not None and (
            abs(seen.cover - seen.reference_cover) > COVER_APART):
        found.append(Advisory(
            "cover apart", "layers", f"The picture shows {seen.cover:.1f} oktas of cloud, the "
            f"reference {seen.reference_cover:.1f}.",
            "Change the cover of the widest layer by as much, or have a sky suggested.",
            _cover_moved(sky, seen.reference_cover - seen.cover)))
    return found


def _cover_moved(sky: Sky, by: float) -> dict[str, Any]:
    """The widest shown layer's cover, so many oktas more."""
    shown = [x for x in sky.layers if x.visible]
    if not shown:
        return {}
    widest = max(shown, key=lambda x: x.cover_oktas)
    cover = round(min(max(widest.cover_oktas + by, 0.0), 8.0), 2)
    return {f"layers[{widest.id}].cover_oktas": cover}


def _of_light(sky: Sky, sun_deg: float, seen: Seen) -> list[Advisory]:
    found: list[Advisory] = []
    if sun_deg < AIR_RIGHT_DOWN_TO_DEG:
        found.append(Advisory(
            "night", "moment", f"The sun is {-sun_deg:.0f}° below the horizon: "
            "moon, airglow and stars light the picture.",
            "Choose an hour with the sun above −10° if it is to be twilight."))
    ev = sky.film.exposure_ev
    if sun_deg < -1.0 and ev is not None and ev > 8:
        found.append(Advisory(
            "day exposure", "film.exposure_ev", "The sun is down and the exposure is set for day.",
            "Set the exposure back to automatic.", {"film.exposure_ev": None}))
    elif seen.burnt > BURNT_SHARE and seen.held_ev is not None and sun_deg > -1.0:
        darker = math.ceil(10.0 * seen.held_ev) / 10.0
        found.append(Advisory(
            "burnt", "film.exposure_ev", f"{100 * seen.burnt:.0f} % of the picture is burnt out.",
            f"Expose darker, at EV {darker:g}." if ev is not None
            else f"Hold it darker, at EV {darker:g}, if the cloud's edge matters.",
            {"film.exposure_ev": darker}))
    return found


def _of_place(sky: Sky) -> list[Advisory]:
    """Of the land and the fog."""
    found: list[Advisory] = []
    relief, fog = sky.relief, sky.fog
    if relief.form == "map" and not relief.asset.startswith(MAP_PREFIX):
        said = f"The height map {relief.asset[:60]} is" if relief.asset else "A height map is"
        found.append(Advisory(
            "height map missing", "relief.asset", f"{said} not part of this sky; the ground is "
            "level.", "Choose the picture again, or take an invented land.",
            {"relief.form": "hills", "relief.asset": ""}))
    if relief.picture and not relief.picture.startswith(BEGINS):
        found.append(Advisory(
            "land's colours missing", "relief.picture", f"The picture of the land, "
            f"{relief.picture[:60]}, is not part of this sky; the land has one tone.",
            "Choose the picture again, or take it off.", {"relief.picture": ""}))
    if sky.ground.kind == "map" and not sky.ground.mapped:
        said = f"The world map {sky.ground.map[:60]} is" if sky.ground.map else "A world map is"
        found.append(Advisory(
            "world map missing", "ground.map", f"{said} not part of this sky; all ground is land.",
            "Choose the picture, or take continents by chance.", {"ground.kind": "continents"}))
    if sky.behind.asset and not sky.behind.stands:
        found.append(Advisory(
            "picture missing", "behind.asset", f"The picture behind, {sky.behind.asset[:60]}, is "
            "not part of this sky; the clear sky is shown instead.",
            "Choose the picture again, or take it off.", {"behind.asset": ""}))
    if fog.present and depth_of(sky) <= 0.0:
        level = sky.site.elevation_m + 60.0
        found.append(Advisory(
            "fog below the ground", "fog.level_m", f"The fog's level, {fog.level_m:.0f} m, is not "
            f"above the ground, which lies at {sky.site.elevation_m:.0f} m; there is no fog.",
            f"Raise it to {level:.0f} m.", {"fog.level_m": level}))
    fitting = max(round(sky.air.planet_radius_km / EARTH_KM, 2), SHALLOWEST)
    if sky.camera.altitude_m > WEATHER_TOP_M and sky.air.depth > DEEP * fitting:
        found.append(Advisory(
            "deep air", "air.depth", "The air is deep for so small a planet: from out here a ball "
            "of haze hides its ground.",
            f"Set the air's depth to {fitting:g}, about what fits the radius.",
            {"air.depth": fitting}))
    hanging = [x for x in sky.layers if x.visible and (
        x.drape.amount > 0.0 or x.drape.gather != 0.0)]
    if hanging and not relief.stands:
        layer = hanging[0]
        found.append(Advisory(
            "nothing to follow", f"layers[{sky.layers.index(layer)}].drape.amount",
            f"{layer.name or layer.genus} is to follow the land, and the ground is level.",
            "Choose a land, or let the layer lie level.",
            {f"layers[{layer.id}].drape.amount": 0.0, f"layers[{layer.id}].drape.gather": 0.0}))
    return found


def _within_bounds(sky: Sky, layer: Layer) -> bool:
    """Whether the camera stands within a layer's bounds, or it has none."""
    bounds = layer.bounds
    if bounds.shape == "none":
        return True
    turn = math.radians(bounds.bearing_deg)
    x, y = (1e-3 * sky.camera.east_m - bounds.east_km, 1e-3 * sky.camera.north_m - bounds.north_km)
    along = (x * math.sin(turn) + y * math.cos(turn)) / (0.5 * bounds.length_km)
    across = (x * math.cos(turn) - y * math.sin(turn)) / (0.5 * bounds.width_km)
    way = max(abs(along), abs(across)) if bounds.shape == "box" else math.hypot(along, across)
    return way < 1.25


def _of_storm(sky: Sky, where: str, path: str, title: str, storm: Cyclone) -> list[Advisory]:
    """Of a turning storm that is larger than what holds it."""
    if not storm.stands:
        return []
    found = []
    if storm.eye_km > 0.8 * storm.wall_km:
        eye = round(0.5 * storm.wall_km)
        found.append(Advisory(
            "eye too wide", f"{where}.cyclone.eye_km",
            f"The eye of {title}, {storm.eye_km:.0f} km, leaves no room in an eyewall of "
            f"{storm.wall_km:.0f} km; it is drawn smaller.",
            f"Set the eye to {eye} km.", {f"{path}.cyclone.eye_km": eye}))
    if storm.wall_km > 0.4 * storm.radius_km:
        wall = round(0.2 * storm.radius_km)
        found.append(Advisory(
            "eyewall too wide", f"{where}.cyclone.wall_km", f"The eyewall of {title}, "
            f"{storm.wall_km:.0f} km, leaves no room for arms within {storm.radius_km:.0f} km.",
            f"Set the eyewall to {wall} km.", {f"{path}.cyclone.wall_km": wall}))
    if storm.radius_km > 0.5 * math.pi * sky.air.planet_radius_km:
        radius = max(math.floor(sky.air.planet_radius_km), 60)
        found.append(Advisory(
            "storm round the planet", f"{where}.cyclone.radius_km", f"{title} is wider than half "
            f"the planet; it meets itself on the far side.",
            f"Set its radius to {radius} km.", {f"{path}.cyclone.radius_km": radius}))
    return found


def _of_layer(sky: Sky, index: int, layer: Layer, lid: float) -> list[Advisory]:
    found: list[Advisory] = []
    where, path = f"layers[{index}]", f"layers[{layer.id}]"
    title = layer.name or layer.genus
    eye = sky.site.elevation_m + sky.camera.altitude_m
    low, high = ETAGES[GENUS_ETAGE[layer.genus]]
    if not low <= layer.base_m <= high:
        base = min(max(layer.base_m, low + 200), high)
        found.append(Advisory(
            "étage", f"{where}.base_m", f"{title} usually has its base between "
            f"{low:.0f} and {high:.0f} m; this one is at {layer.base_m:.0f} m.",
            f"Move the base to {base:.0f} m, or keep it if the place is not temperate.",
            {f"{path}.base_m": base}))
    if layer.map.asset and not layer.map.asset.startswith(MAP_PREFIX):
        found.append(Advisory(
            "map missing", f"{where}.map.asset", f"The cover map of {title}, "
            f"{layer.map.asset[:60]}, is not part of this sky; the layer is shown without it.",
            "Choose the picture again, or take the map off.", {f"{path}.map.asset": ""}))
    black, white = layer.map.black, layer.map.white
    if layer.map.asset and black is not None and white is not None and white - black < 0.05:
        found.append(Advisory(
            "map without contrast", f"{where}.map.white", f"Black and white of the map of {title} "
            "lie together: it has two levels and hard borders.",
            "Let the map set both itself.", {f"{path}.map.black": None, f"{path}.map.white": None}))
    if layer.visible and layer.base_m <= eye <= layer.top_m and _within_bounds(sky, layer):
        raised = min(eye + 200.0, 16_000.0)
        found.append(Advisory(
            "camera in cloud", "camera.altitude_m", f"The camera stands inside {title}.",
            f"Raise the layer's base to {raised:.0f} m, or lower the camera.",
            {f"{path}.base_m": round(raised)}))
    found += _of_storm(sky, where, path, title, layer.cyclone)
    if lid > LID_SHARE:
        thickness = min(1.2 * layer.thickness_m, 15_000.0)
        found.append(Advisory(
            "lid", f"{where}.thickness_m", f"{100 * lid:.0f} % of {title} reaches the top of "
            "its layer and is cut flat there.",
            f"Raise the thickness to {thickness:.0f} m, or lower the lobes.",
            {f"{path}.thickness_m": round(thickness)}))
    if layer.base_m < sky.site.elevation_m:
        found.append(Advisory(
            "base below ground", f"{where}.base_m", f"The base of {title} lies below "
            "the ground of the site.",
            f"Raise it above {sky.site.elevation_m:.0f} m; it is rendered just above "
            "the ground.", {f"{path}.base_m": round(sky.site.elevation_m + 200.0)}))
    if layer.top_m > WEATHER_TOP_M:
        thickness = max(WEATHER_TOP_M - layer.base_m, 10.0)
        found.append(Advisory(
            "air top", f"{where}.thickness_m", f"{title} rises to {layer.top_m / 1000:.0f} km, "
            f"above the {WEATHER_TOP_M / 1000:.0f} km of air that carry weather.",
            f"Lower the thickness to {thickness:.0f} m.",
            {f"{path}.thickness_m": round(thickness)}))
    thin = WEATHER_TOP_M * sky.air.depth
    if sky.air.depth < 1.0 and layer.visible and thin < layer.top_m <= WEATHER_TOP_M:
        depth = min(math.ceil(20.0 * layer.top_m / WEATHER_TOP_M) / 20.0, 1.0)
        found.append(Advisory(
            "thin air", "air.depth", f"{title} rises to {layer.top_m / 1000:.1f} km, above nearly "
            f"all of the air: so shallow, it carries weather up to {thin / 1000:.1f} km.",
            f"Set the air's depth to {depth:g}, or lower the layer.", {"air.depth": depth}))
    before = _hides(sky, layer, eye)
    if before is not None:
        found.append(Advisory(
            "hidden", f"{where}.base_m", f"{title} is hidden behind {before.name or before.genus},"
            " which covers the whole sky.", f"Open {before.name or before.genus} to 6 oktas.",
            {f"layers[{before.id}].cover_oktas": 6.0}))
    return found


def _hides(sky: Sky, layer: Layer, eye: float) -> Layer | None:
    """An unbroken opaque layer between the eye and another one."""
    if not layer.visible or layer.cover_oktas <= 0.0:
        return None
    for other in sky.layers:
        depth = other.body.density_per_km * other.thickness_m * 1e-3
        whole = (other.visible and other.cover_oktas >= WHOLE_OKTAS and depth >= OPAQUE_DEPTH
                 and other.clearings.share == 0.0 and other.region.side == "everywhere"
                 and not other.map.asset and 0.3 < other.life.stage < 0.7)
        between = eye < other.base_m and other.top_m <= layer.base_m
        if other.id != layer.id and whole and between:
            return other
    return None
