"""What is drawn over a view: horizon, sun and its path, frame, cone, wind, scale.

Places are in units of a thousandth of the view's width, from its upper left corner.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np

from dovrek.core.air.sun_place import moon_place, seen_from_foot, sun_path, sun_place
from dovrek.core.geometry.lens import direction_at, place_of
from dovrek.core.geometry.views.view import Lens
from dovrek.sky.clip import wind_of
from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer
from dovrek.web.composer.places import Contour, Footprint, Plan, contours, footprints, globe
from dovrek.web.live.looks import Look
from dovrek.web.shared.told import Told

KEPT = 64
ROUND_ABOUT = ("site", "moment", "sun", "moon", "camera")  # what a view's lines hang on; and the
# planet's radius
UNIT = 1000.0
HORIZON_STEPS = 144
LOWEST_PATH = math.radians(-3.0)
ARROW = 46.0
WINDS_X, WINDS_Y, WIND_ROW = 78.0, 92.0, 74.0
STRETCH_MOST = 900.0  # drawn of what a layer covers in the clip
SCALES_KM = (0.5, 1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10000)
COMPASS = {0: "N", 45: "NE", 90: "E", 135: "SE", 180: "S", 225: "SW", 270: "W", 315: "NW"}
Point = tuple[float, float]


@dataclass(frozen=True)
class Arrow:
    """Wind of one layer on the plan: from tail to tip."""

    layer_id: str
    name: str
    from_deg: float
    x: float
    y: float
    tip: Point
    barbs: str
    speed: str  # in words
    stretch: Point  # what it covers in the clip, to scale, from the arrow's middle


@dataclass
class Overlay:
    """Lines and marks of one view; `height` is that of the view in the same units."""

    look: Look
    height: float
    lines: list[tuple[str, str]] = field(default_factory=list)  # class, path
    marks: list[tuple[str, float, float, str]] = field(default_factory=list)  # class, x, y, text
    sun: Point | None = None
    sun_text: str = ""
    horizon: str = ""
    arrows: list[Arrow] = field(default_factory=list)
    contours: list[Contour] = field(default_factory=list)
    footprints: list[Footprint] = field(default_factory=list)
    scale: tuple[float, float, str] | None = None  # left end, length, text
    centre: Point = (0.0, 0.0)
    extent_km: float = 0.0  # how wide a plan is
    globe_km: float = 0.0  # radius of the planet, where the plan is a globe


def vector_of(elevation: float, azimuth: float) -> np.ndarray:
    """Unit vector (east, north, up) of an elevation and a bearing in radians."""
    c = math.cos(elevation)
    return np.array([c * math.sin(azimuth), c * math.cos(azimuth), math.sin(elevation)])


def angles_of(vector: np.ndarray) -> tuple[float, float]:
    """Elevation and bearing in degrees of a unit vector."""
    return (math.degrees(math.asin(min(max(float(vector[2]), -1.0), 1.0))),
            math.degrees(math.atan2(vector[0], vector[1])) % 360.0)


def lens_of(sky: Sky, look: Look) -> Lens:
    return look.wish(sky, 960, "draft").lens(sky)


def _trace(points: list[Point | None], height: float) -> str:
    """A path through places, broken where it leaves the view or jumps across it."""
    parts, last = [], None
    for p in points:
        inside = p is not None and -0.2 * UNIT < p[0] < 1.2 * UNIT and (
            -0.2 * height < p[1] < 1.2 * height)
        if not inside:
            last = None
            continue
        assert p is not None
        jump = last is None or abs(p[0] - last[0]) > 0.5 * UNIT
        parts.append(f"{'M' if jump else 'L'}{p[0]:.1f} {p[1]:.1f}")
        last = p
    return "".join(parts)


def _placed(lens: Lens, vector: np.ndarray, height: float) -> Point | None:
    found = place_of(lens, vector)
    return None if found is None else (found[0] * UNIT, found[1] * height)


def _within(p: Point | None, height: float) -> bool:
    return p is not None and 0.0 <= p[0] <= UNIT and 0.0 <= p[1] <= height


def overlay_of(sky: Sky, look: Look) -> Overlay:
    """Everything drawn over a view of a sky."""
    if look.from_above:
        return _drawn(Told(sky), look, sky.air.planet_radius_km)
    return _drawn_kept(Told(sky, ROUND_ABOUT), look, sky.air.planet_radius_km)


def _drawn(told: Told[Sky], look: Look, planet_radius_km: float) -> Overlay:
    sky = told.model
    height = UNIT / look.aspect(sky)
    over = Overlay(look, height, centre=(UNIT / 2, height / 2))
    if look.from_above:
        _plan(over, sky)
        return over
    lens = lens_of(sky, look)
    over.horizon = _trace([_placed(lens, vector_of(0.0, 2.0 * math.pi * k / HORIZON_STEPS), height)
                           for k in range(HORIZON_STEPS + 1)], height)
    _sun(over, sky, lens)
    for bearing, name in COMPASS.items():
        p = _placed(lens, vector_of(0.0, math.radians(bearing)), height)
        if p is not None and _within(p, height):
            over.marks.append(("compass", p[0], p[1], name))
    if look.view == Look().view:
        x, y = UNIT / 3, height / 3
        over.lines.append(("thirds", f"M{x:.1f} 0V{height:.1f}M{2 * x:.1f} 0V{height:.1f}"
                                     f"M0 {y:.1f}H{UNIT:.0f}M0 {2 * y:.1f}H{UNIT:.0f}"))
    else:
        eye = lens_of(sky, Look())
        edge = [(k / 24, 0.0) for k in range(25)] + [(1.0, k / 14) for k in range(15)] + [
            (1.0 - k / 24, 1.0) for k in range(25)] + [(0.0, 1.0 - k / 14) for k in range(15)]
        over.lines.append(("frame", _trace([_placed(lens, direction_at(eye, u, v), height)
                                            for u, v in edge], height)))
    moon, lit, _ = moon_place(sky)
    p = _placed(lens, np.array(moon.vector), height)
    if p is not None and sky.moon.visible and moon.elevation > 0 and _within(p, height):
        over.marks.append(("moon-mark", p[0], p[1], f"moon, {100 * lit:.0f} % lit"))
    return over


_drawn_kept = lru_cache(KEPT)(_drawn)


def _sun(over: Overlay, sky: Sky, lens: Lens) -> None:
    sun = sun_place(sky)
    p = _placed(lens, np.array(sun.vector), over.height)
    over.sun = p if _within(p, over.height) else None
    over.sun_text = (f"{math.degrees(sun.elevation):.1f}° high, bearing "
                     f"{math.degrees(sun.azimuth) % 360:.0f}°")
    if sky.sun.mode != "clock":
        return
    path = [(moment, seen_from_foot(sky, place)) for moment, place in sun_path(sky)]
    over.lines.append(("sun-path", _trace(
        [_placed(lens, np.array(q.vector), over.height)
         if q.elevation > LOWEST_PATH else None for _, q in path], over.height)))
    for moment, q in path[:-1]:
        p = _placed(lens, np.array(q.vector), over.height)
        if moment.minute == 0 and q.elevation > 0.0 and p and _within(p, over.height):
            over.marks.append(("path-hour", p[0], p[1], f"{moment.hour}"))


def _plan(over: Overlay, sky: Sky) -> None:
    cx, cy = over.centre
    lens = lens_of(sky, over.look)
    plan = Plan(sky, over.centre, lens)
    over.extent_km, over.globe_km = 2e-3 * lens.half_width, 1e-3 * lens.globe
    if lens.globe > 0.0:
        over.lines += globe(plan, over.height)
    over.contours, over.footprints = contours(plan), footprints(plan)
    reach = 0.48 * over.height

    def toward(bearing: float, length: float) -> Point:
        return cx + length * math.sin(bearing), cy - length * math.cos(bearing)

    heading, half = math.radians(sky.camera.heading_deg), 0.5 * sky.camera.fov_h_rad
    left, right = toward(heading - half, reach), toward(heading + half, reach)
    wide = 1 if 2 * half > math.pi else 0
    over.lines.append(("cone", f"M{cx:.1f} {cy:.1f}L{left[0]:.1f} {left[1]:.1f}"
                               f"A{reach:.1f} {reach:.1f} 0 {wide} 1 {right[0]:.1f} "
                               f"{right[1]:.1f}Z"))
    sun = sun_place(sky)
    start, end = toward(sun.azimuth, 16.0), toward(sun.azimuth, reach)
    kind = "sun-ray" if sun.elevation > 0 else "sun-ray down"
    over.lines.append((kind, f"M{start[0]:.1f} {start[1]:.1f}L{end[0]:.1f} {end[1]:.1f}"))
    over.sun, over.sun_text = end, (
        f"bearing {math.degrees(sun.azimuth) % 360:.0f}°, {math.degrees(sun.elevation):.1f}° high")
    over.marks.append(("compass", cx, 26.0, "N"))
    for row, layer in enumerate(x for x in sky.layers if x.visible):
        over.arrows.append(_arrow(layer, WINDS_X, WINDS_Y + row * WIND_ROW, (
            sky.motion.length_s * sky.motion.time_scale * plan.per_m)))
    target = 0.25 * over.extent_km
    km = max((s for s in SCALES_KM if s <= target), default=SCALES_KM[0])
    length = km / over.extent_km * UNIT
    over.scale = (UNIT - 40.0 - length, length, f"{km:g} km")


def _arrow(layer: Layer, x: float, y: float, per_m_s: float) -> Arrow:
    """An arrow the way the wind goes, its middle at x, y; a metre a second goes `per_m_s` in the
    clip."""
    from_deg, speed = layer.wind.from_deg, wind_of(layer)
    to = math.radians(from_deg + 180.0)
    dx, dy = math.sin(to), -math.cos(to)
    tip = (x + 0.5 * ARROW * dx, y + 0.5 * ARROW * dy)
    tail = (x - 0.5 * ARROW * dx, y - 0.5 * ARROW * dy)
    wing = 11.0
    barbs = (f"M{tail[0]:.1f} {tail[1]:.1f}L{tip[0]:.1f} {tip[1]:.1f}"
             f"M{tip[0] - wing * (dx - 0.5 * dy):.1f} {tip[1] - wing * (dy + 0.5 * dx):.1f}"
             f"L{tip[0]:.1f} {tip[1]:.1f}"
             f"L{tip[0] - wing * (dx + 0.5 * dy):.1f} {tip[1] - wing * (dy - 0.5 * dx):.1f}")
    far = min(speed * per_m_s, STRETCH_MOST)
    return Arrow(layer.id, layer.name or layer.genus, from_deg, x, y, tip, barbs,
                 f"{speed:.0f} m/s", (x + far * dx, y + far * dy))
