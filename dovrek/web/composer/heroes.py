"""Clouds placed by hand, as a view has them: where a press meets a layer's base, where their marks
stand, what dragging a mark sets."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from flask import Blueprint, abort

from dovrek.core.geometry.lens import direction_at, place_of
from dovrek.core.geometry.views.plan import found_on, laid_out
from dovrek.core.land.meeting import raised
from dovrek.core.prepare.fineness import FINE
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.prepare.taking import Dealt, dealt_at
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.sample import DISTANCE
from dovrek.sky.changes import with_values
from dovrek.sky.document import Sky
from dovrek.sky.errors import Fault, SkyConflict, SkyError
from dovrek.sky.hero import CLIMBS_LEAST, CLIMBS_POWER, Hero
from dovrek.sky.heroes import with_hero_duplicated, with_hero_placed, with_hero_removed
from dovrek.sky.layer import Layer
from dovrek.store import skies as store
from dovrek.web.composer.overlay import lens_of
from dovrek.web.live.looks import Look
from dovrek.web.shared.answers import body_of, changed, live, look, number_of, with_new_layer
from dovrek.web.shared.aside import aside

pages = Blueprint("heroes", __name__, url_prefix="/skies/<slug>/heroes")

FARTHEST_M = 90_000.0  # that one may be placed
SEEN_SHARE, TALL = 0.16, 0.8  # of the view's width that a new one is wide; its height over that
WIDTHS_M, HEIGHTS_M = (300.0, 8000.0), (200.0, 9000.0)
Point = tuple[float, float]


@dataclass(frozen=True)
class HeroMark:
    """A cloud's marks in a view, in its units: at its base, its top, its side."""

    thing: str
    layer_id: str
    hero_id: str
    name: str
    foot: Point
    top: Point | None
    side: Point | None
    width_m: float  # as they stand, for the plan
    east_m: float
    north_m: float


def _base_of(sky: Sky, layer: Layer) -> float:
    return max(layer.base_m - sky.site.elevation_m, 15.0)


def _layer(sky: Sky, layer_id: str) -> Layer:
    found = next((x for x in sky.layers if x.id == layer_id), None)
    if found is None:
        raise SkyConflict(f"There is no layer {layer_id[:60]} any more; reload the sky.")
    return found


def _hero(layer: Layer, hero_id: str) -> Hero:
    found = next((h for h in layer.heroes if h.id == hero_id), None)
    if found is None:
        raise SkyConflict(f"There is no cloud {hero_id[:60]} any more; reload the sky.")
    return found


def on_base(sky: Sky, seen: Look, layer: Layer, u: float, v: float) -> Point:
    """Metres east and north of the site where a place of a view lies on a layer's base.
    Raises SkyError."""
    camera = raised(sky).camera
    lens = lens_of(sky, seen)
    if seen.from_above:
        east, north = found_on(lens, (2.0 * u - 1.0) * lens.half_width,
                               (1.0 - 2.0 * v) * lens.half_height)
        return camera.east_m + east, camera.north_m + north
    ray = direction_at(lens, u, v)
    above = _base_of(sky, layer) - camera.altitude_m
    # The base curves away below the level plane: h + t·dz + t²/2R = base.
    bend, rise = (1.0 - ray[2] ** 2) / (2.0 * sky.air.planet_m), float(ray[2])
    square = rise * rise + 4.0 * bend * above
    roots = [] if square < 0.0 else [
        (-rise + side * math.sqrt(square)) / (2.0 * bend) if bend > 0.0 else above / rise
        for side in (1.0, -1.0)]
    ahead = [t for t in roots if 1.0 < t < FARTHEST_M]
    if not ahead:
        raise SkyError([Fault(layer.name or layer.genus, "this place", "does not lie on its base",
                              "press above the horizon and nearer than "
                              f"{FARTHEST_M / 1e3:.0f} km, or use the plan")])
    t = min(ahead)
    return camera.east_m + t * float(ray[0]), camera.north_m + t * float(ray[1])


def _far(sky: Sky, east_m: float, north_m: float) -> float:
    return math.hypot(east_m - sky.camera.east_m, north_m - sky.camera.north_m)


def sized(sky: Sky, seen: Look, east_m: float, north_m: float) -> dict[str, float]:
    """Width and height of a new cloud, by how much of the view it takes up there."""
    wide = 2.0 * lens_of(sky, seen).half_width if seen.from_above else (
        2.0 * math.tan(0.5 * sky.camera.fov_h_rad) * max(_far(sky, east_m, north_m), 500.0))
    width = min(max(SEEN_SHARE * wide, WIDTHS_M[0]), WIDTHS_M[1])
    return {"width_m": round(width, -1),
            "height_m": round(min(max(TALL * width, HEIGHTS_M[0]), HEIGHTS_M[1]), -1)}


def _toward(sky: Sky, hero: Hero, up_m: float, aside_m: float) -> np.ndarray | None:
    """Direction from the eye to a place of a cloud: so far up from the ground, so far aside."""
    camera = raised(sky).camera
    x, y = hero.east_m - camera.east_m, hero.north_m - camera.north_m
    far = math.hypot(x, y)
    if far < 1.0:
        return None
    x, y = x + aside_m * y / far, y - aside_m * x / far
    z = up_m - camera.altitude_m - (x * x + y * y) / (2.0 * sky.air.planet_m)
    found = np.array([x, y, z])
    return np.asarray(found / np.linalg.norm(found))


def marks(sky: Sky, seen: Look, height: float, unit: float) -> list[HeroMark]:
    """Marks of all clouds placed by hand that a view shows."""
    found: list[HeroMark] = []
    lens = lens_of(sky, seen)

    def at(vector: np.ndarray | None) -> Point | None:
        place = None if vector is None else place_of(lens, vector)
        if place is None or not (-0.3 <= place[0] <= 1.3 and -0.3 <= place[1] <= 1.3):
            return None
        return place[0] * unit, place[1] * height

    for layer in (x for x in sky.layers if x.visible):
        base = _base_of(sky, layer)
        for hero in layer.heroes:
            top = side = None
            if seen.from_above:
                per_m = unit / (2.0 * lens.half_width)
                x, y = laid_out(lens, hero.east_m - sky.camera.east_m,
                                hero.north_m - sky.camera.north_m)
                foot: Point | None = (0.5 * unit + x * per_m, 0.5 * height - y * per_m)
                side = (foot[0] + 0.5 * hero.width_m * per_m, foot[1]) if foot else None
            else:
                foot = at(_toward(sky, hero, base, 0.0))
                top = at(_toward(sky, hero, base + hero.top_m, 0.0))
                side = at(_toward(sky, hero, base, 0.5 * hero.width_m))
            if foot is not None:
                found.append(HeroMark(f"hero:{layer.id}:{hero.id}", layer.id, hero.id,
                                      hero.title, foot, top, side, hero.width_m,
                                      hero.east_m, hero.north_m))
    return found


def dragged(sky: Sky, seen: Look, layer_id: str, hero_id: str, what: str, u: float,
            v: float) -> Sky:
    """The sky with a cloud's mark dragged to a place of a view. Raises SkyError."""
    layer = _layer(sky, layer_id)
    hero, path = _hero(layer, hero_id), f"layers[{layer_id}].heroes[{hero_id}]."
    if what == "foot":
        east, north = on_base(sky, seen, layer, u, v)
        return with_values(sky, {path + "east_m": round(east), path + "north_m": round(north)})
    if seen.from_above:
        east, north = on_base(sky, seen, layer, u, v)
        wide = 2.0 * math.hypot(east - hero.east_m, north - hero.north_m)
        return with_values(sky, {path + "width_m": _held("width_m", wide)})
    ray = direction_at(lens_of(sky, seen), u, v)
    camera = raised(sky).camera
    x, y = hero.east_m - camera.east_m, hero.north_m - camera.north_m
    far = max(math.hypot(x, y), 1.0)
    ahead = (ray[0] * x + ray[1] * y) / far  # how fast the ray nears the cloud's own plane
    if ahead <= 1e-3:
        raise SkyError([Fault("this place", what, "lies behind the eye", "drag it less far")])
    t = far / float(ahead)
    if what == "side":
        aside = abs(t * float(ray[0] * y - ray[1] * x) / far)
        return with_values(sky, {path + "width_m": _held("width_m", 2.0 * aside)})
    up = camera.altitude_m + t * float(ray[2]) + far * far / (2.0 * sky.air.planet_m)
    climbs = CLIMBS_LEAST + (1.0 - CLIMBS_LEAST) * hero.growth**CLIMBS_POWER
    return with_values(sky, {
        path + "height_m": _held("height_m", (up - _base_of(sky, layer)) / climbs)})


def _held(name: str, value: float) -> float:
    """A value within its control's limits, in steps of ten metres."""
    known = Hero.model_fields[name].json_schema_extra
    assert isinstance(known, dict)
    low, high = float(str(known["low"])), float(str(known["high"]))
    return min(max(round(value, -1), low), high)


def _place(body: dict[str, Any]) -> Point:
    return number_of(body, "u", -1.0, 2.0), number_of(body, "v", -1.0, 2.0)


def _named(body: dict[str, Any]) -> tuple[str, str]:
    """The layer and the cloud that a request names."""
    return str(body.get("layer", ""))[:40], str(body.get("hero", ""))[:40]


@pages.post("")
def place(slug: str) -> Any:
    """Place a cloud of `layer` where `u`, `v` of the view lies on its base."""
    body = body_of()
    layer_id, (u, v), seen = str(body.get("layer", ""))[:40], _place(body), look()

    def alter(sky: Sky) -> tuple[Sky, str]:
        east, north = on_base(sky, seen, _layer(sky, layer_id), u, v)
        return with_hero_placed(sky, layer_id, {
            "east_m": round(east), "north_m": round(north), **sized(sky, seen, east, north)})

    return with_new_layer(slug, "Place a cloud", alter, body, f"hero:{layer_id}")


@pages.post("/take")
def take(slug: str) -> Any:
    """Make the dealt cloud of `layer` that is seen at `u`, `v` one that is placed by hand."""
    body = body_of()
    layer_id, (u, v), seen = str(body.get("layer", ""))[:40], _place(body), look()

    sky, _ = store.load(slug)
    layer = _layer(sky, layer_id)
    place = _seen_at(sky, slug, seen, u, v) or on_base(sky, seen, layer, u, v)
    dealt = dealt_in(sky, layer_id, *place)  # before the store is held for the change
    if dealt is None:
        raise SkyError([Fault(layer.name or layer.genus, "this place", "shows none of its "
                              "clouds", "press nearer to the middle of one")])
    return with_new_layer(slug, "Take a cloud in hand", lambda sky: with_hero_placed(
        sky, layer_id, dealt.values), body, f"hero:{layer_id}")


def _seen_at(sky: Sky, slug: str, seen: Look, u: float, v: float) -> Point | None:
    """Metres east and north of the site of the cloud that the picture shows at a place of it."""
    session = None if seen.from_above else live().session(slug, seen)
    if session is None or session.light is None or not (0.0 <= u < 1.0 and 0.0 <= v < 1.0):
        return None
    h, w = session.light.shape[:2]
    far = float(session.light[int(v * h), int(u * w), DISTANCE])
    if far <= 0.0:
        return None
    ray = direction_at(lens_of(sky, seen), u, v)
    return sky.camera.east_m + far * float(ray[0]), sky.camera.north_m + far * float(ray[1])


def dealt_in(sky: Sky, layer_id: str, x: float, y: float) -> Dealt | None:
    """The dealt cloud of a layer at a place. Its clouds are at hand once a picture is there; what
    is not is built aside, while pictures go on."""
    def found(preparer: Preparer) -> Dealt | None:
        bodies = [b for b in preparer.bodies(sky, FINE, Cancel()) if b.layer.id == layer_id]
        return dealt_at(bodies, preparer.maker(Cancel()), x, y)

    return aside(found)


@pages.post("/drag")
def drag(slug: str) -> Any:
    """Put a mark of a cloud (`layer`, `hero`; `what`: foot, top or side) at `u`, `v`."""
    body = body_of()
    what, (u, v), seen = body.get("what"), _place(body), look()
    if what not in ("foot", "top", "side"):
        abort(422, "what: say foot, top or side.")
    layer_id, hero_id = _named(body)
    return changed(slug, "Place a cloud", lambda sky: dragged(
        sky, seen, layer_id, hero_id, str(what), u, v), body)


@pages.post("/duplicate")
def duplicate(slug: str) -> Any:
    """A copy of a cloud (`layer`, `hero`) beside it."""
    body = body_of()
    layer_id, hero_id = _named(body)
    return with_new_layer(slug, "Duplicate a cloud", lambda sky: with_hero_duplicated(
        sky, layer_id, hero_id), body, f"hero:{layer_id}")


@pages.post("/remove")
def remove(slug: str) -> Any:
    """Take a cloud (`layer`, `hero`) away."""
    body = body_of()
    layer_id, hero_id = _named(body)
    return changed(slug, "Remove a cloud", lambda sky: with_hero_removed(sky, layer_id, hero_id),
                   body, selected=f"layer:{layer_id}")
