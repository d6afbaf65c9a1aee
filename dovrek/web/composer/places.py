"""What has a place on the ground, as the plan shows it: the land and its contours, banks of cloud,
turning storms; each moved, turned and drawn out by hand."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from contourpy import LineType, contour_generator
from numpy.typing import NDArray

from dovrek.core.geometry.travel import foot_on
from dovrek.core.geometry.views.plan import laid_out
from dovrek.core.geometry.views.view import Lens
from dovrek.core.land.forms import heights_of, shape_of
from dovrek.sky.document import Sky
from dovrek.sky.relief import Relief

UNIT = 1000.0
ROUND = 48  # places of an outline
CONTOURED = 96  # squares a side that contours are drawn by
STEPS_M = (10.0, 20.0, 50.0, 100.0, 200.0, 500.0, 1000.0)
LINES_MOST = 8
Point = tuple[float, float]


@dataclass(frozen=True)
class Footprint:
    """Something with a place on the plan, in the plan's units (1000 across)."""

    thing: str  # what a press chooses
    name: str
    middle: Point
    outline: str
    label: Point
    end: Point  # where its length is drawn out, and it is turned
    side: Point | None  # where its width is
    east: str  # paths of its values
    north: str
    turn: str
    length: str
    width: str
    east_km: float
    north_km: float
    turn_deg: float
    length_km: float
    width_km: float
    turn_low: float = 0.0  # turns go from here on
    turn_span: float = 180.0
    drawn: float = 2.0  # length and width over the distances of their grips from the middle
    far_km: float = 150.0  # how far from the site it may be
    least_km: float = 0.5


@dataclass(frozen=True)
class Contour:
    """A height's line on the plan."""

    height_m: float
    path: str


class Plan:
    """Where places lie on a plan that is centred at the camera's foot."""

    def __init__(self, sky: Sky, centre: Point, lens: Lens) -> None:
        self.sky, self.centre, self.lens = sky, centre, lens
        self.per_m = UNIT / (2.0 * lens.half_width)

    def at(self, east_km: float, north_km: float) -> Point:
        """The place of kilometres from the site."""
        camera = self.sky.camera
        x, y = laid_out(self.lens, 1e3 * east_km - camera.east_m, 1e3 * north_km - camera.north_m)
        return self.centre[0] + x * self.per_m, self.centre[1] - y * self.per_m


def globe(plan: Plan, height: float) -> list[tuple[str, str]]:
    """Lines of a globe: paper beside it, its rim, and its meridians and parallels every 30°."""
    x, y, r = *plan.centre, plan.lens.globe * plan.per_m
    rim = f"M{x - r:.1f} {y:.1f}a{r:.1f} {r:.1f} 0 1 0 {2 * r:.1f} 0a{r:.1f} {r:.1f} 0 1 0 " \
          f"{-2 * r:.1f} 0Z"
    foot = foot_on(plan.sky)
    level = math.cos(foot[0])
    up = np.array([level * math.cos(foot[1]), level * math.sin(foot[1]), math.sin(foot[0])])
    east = np.array([-math.sin(foot[1]), math.cos(foot[1]), 0.0])
    north = np.cross(up, east)

    def drawn(latitudes: NDArray[np.float64], longitudes: NDArray[np.float64]) -> str:
        c = np.cos(latitudes)
        there = np.stack([c * np.cos(longitudes), c * np.sin(longitudes), np.sin(latitudes)], -1)
        path, last = "", False
        for a, b, near in zip(there @ east, there @ north, there @ up > 0.0, strict=True):
            if near:
                path += f"{'L' if last else 'M'}{x + r * a:.1f} {y - r * b:.1f}"
            last = near
        return path

    along = np.linspace(-math.pi, math.pi, 145)
    lines = [drawn(np.full_like(along, math.radians(k)), along) for k in range(-60, 61, 30)]
    lines += [drawn(0.5 * along, np.full_like(along, math.radians(k)))
              for k in range(-180, 180, 30)]
    return [("paper", f"M0 0H{UNIT:.0f}V{height:.1f}H0Z{rim}"), ("rim", rim),
            ("graticule", "".join(lines))]


def _path(points: list[Point]) -> str:
    return "M" + "L".join(f"{x:.1f} {y:.1f}" for x, y in points)


def _under(points: list[Point]) -> Point:
    """Where the name of an outline stands: below its lowest place."""
    lowest = max(points, key=lambda p: p[1])
    return lowest[0], lowest[1] + 18.0


def _bank(plan: Plan, layer_id: str, name: str) -> Footprint | None:
    bounds = next(x for x in plan.sky.layers if x.id == layer_id).bounds
    if bounds.shape == "none":
        return None
    turn = math.radians(bounds.bearing_deg)
    along, across = (math.sin(turn), math.cos(turn)), (math.cos(turn), -math.sin(turn))

    def there(a: float, b: float) -> Point:
        a, b = 0.5 * bounds.length_km * a, 0.5 * bounds.width_km * b
        return plan.at(bounds.east_km + a * along[0] + b * across[0],
                       bounds.north_km + a * along[1] + b * across[1])

    power = 1.0 if bounds.shape == "ellipse" else 0.5
    points = []
    for k in range(ROUND):
        c, s = math.cos(2.0 * math.pi * k / ROUND), math.sin(2.0 * math.pi * k / ROUND)
        points.append(there(math.copysign(abs(c)**power, c), math.copysign(abs(s)**power, s)))
    path = f"layers[{layer_id}].bounds."
    return Footprint(f"layer:{layer_id}", name, there(0, 0), _path(points) + "Z",
                     _under(points), there(1, 0), there(0, 1), path + "east_km",
                     path + "north_km", path + "bearing_deg",
                     path + "length_km", path + "width_km", bounds.east_km, bounds.north_km,
                     bounds.bearing_deg, bounds.length_km, bounds.width_km)


def _storm(plan: Plan, layer_id: str, name: str) -> Footprint | None:
    """A turning storm: its outer radius is drawn out at one grip, its eyewall's at the other."""
    storm = next(x for x in plan.sky.layers if x.id == layer_id).cyclone
    if not storm.stands:
        return None
    turns = [2.0 * math.pi * k / ROUND for k in range(ROUND)]

    def there(far_km: float, turn: float) -> Point:
        return plan.at(storm.east_km + far_km * math.sin(turn),
                       storm.north_km + far_km * math.cos(turn))

    rings = "".join(_path([there(far, t) for t in turns]) + "Z"
                    for far in (storm.radius_km, storm.wall_km, storm.eye_km) if far > 0.0)
    path = f"layers[{layer_id}].cyclone."
    return Footprint(f"layer:{layer_id}", name, there(0, 0), rings,
                     _under([there(storm.radius_km, t) for t in turns]),
                     there(storm.radius_km, 0.5 * math.pi), there(storm.wall_km, 0.0),
                     path + "east_km", path + "north_km", "", path + "radius_km",
                     path + "wall_km", storm.east_km, storm.north_km, 90.0, storm.radius_km,
                     storm.wall_km, drawn=1.0, far_km=3000.0, least_km=60.0)


def _land(plan: Plan) -> Footprint | None:
    relief = plan.sky.relief
    if not relief.stands:
        return None
    turn, half = math.radians(relief.turn_deg), 0.5 * relief.extent_km

    def there(a: float, b: float) -> Point:
        return plan.at(relief.east_km + half * (a * math.cos(turn) + b * math.sin(turn)),
                       relief.north_km + half * (b * math.cos(turn) - a * math.sin(turn)))

    corners = [there(-1, -1), there(1, -1), there(1, 1), there(-1, 1)]
    outline = _path(corners) + "Z"
    return Footprint("site", "Land", there(0, 0), outline, _under(corners), there(0, 1), None,
                     "relief.east_km", "relief.north_km", "relief.turn_deg", "relief.extent_km", "",
                     relief.east_km, relief.north_km, relief.turn_deg, relief.extent_km,
                     relief.extent_km, -180.0, 360.0, least_km=2.0)


def footprints(plan: Plan) -> list[Footprint]:
    """All that has a place, the land first."""
    found = [_land(plan)]
    found += [of(plan, x.id, x.name or x.genus.capitalize()) for x in plan.sky.layers
              if x.visible for of in (_bank, _storm)]
    return [x for x in found if x is not None]


@lru_cache(maxsize=4)
def _lines(relief: str) -> list[tuple[float, Any]]:
    """Heights and their lines, in shares of the land's square."""
    heights = heights_of(Relief.model_validate_json(relief))
    fewer = max((len(heights) - 1) // CONTOURED, 1)
    coarse = heights[::fewer, ::fewer]
    high = float(coarse.max())
    step = next((s for s in STEPS_M if high / s <= LINES_MOST), STEPS_M[-1])
    at = np.linspace(-0.5, 0.5, len(coarse))
    lines = contour_generator(at, at, coarse.T, line_type=LineType.Separate)
    return [(h, lines.lines(h)) for h in np.arange(step, high, step).tolist()]


def contours(plan: Plan) -> list[Contour]:
    """Lines of equal height of the land."""
    relief = plan.sky.relief
    if not relief.stands:
        return []
    turn = math.radians(relief.turn_deg)
    found = []
    for height, lines in _lines(shape_of(relief).model_dump_json()):
        path = ""
        for line in lines:
            a, b = line[:, 0] * relief.extent_km, line[:, 1] * relief.extent_km
            east = relief.east_km + a * math.cos(turn) + b * math.sin(turn)
            north = relief.north_km + b * math.cos(turn) - a * math.sin(turn)
            path += _path([plan.at(x, y) for x, y in zip(east, north, strict=True)])
        found.append(Contour(height, path))
    return found
