"""Geometry of the section: altitude upward, one band per layer, étages marked."""

from __future__ import annotations

import math
import zlib
from dataclasses import dataclass

from dovrek.core.land.meeting import profile
from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer
from dovrek.sky.seen import depth_of

WIDTH, HEIGHT = 208.0, 640.0
TOP_Y, GROUND_Y = 34.0, 606.0
LEFT, RIGHT = 46.0, 198.0
TOP_M = 14_000.0
BEND_M = 900.0  # below it altitude runs about evenly, above it by ratios
MARKS_KM = (0, 0.5, 1, 2, 3, 5, 7, 10, 14)
# Tops of the low and middle étage, temperate latitudes (WMO cloud atlas).
ETAGES = ((2000.0, "low"), (7000.0, "middle"), (13_000.0, "high"))
SMALLEST_BAND = 17.0
PROFILE = 90  # places along the land


def y_of(altitude_m: float) -> float:
    """Place of an altitude above sea level on the section."""
    share = math.log1p(max(altitude_m, 0.0) / BEND_M) / math.log1p(TOP_M / BEND_M)
    return GROUND_Y - share * (GROUND_Y - TOP_Y)


def _unit(seed: int, row: int, count: int) -> float:
    """A number from 0 to 1 by three others. (Not by a kernel: on a new machine a page would wait
    for the compiler.)"""
    return zlib.crc32(b"%d %d %d" % (seed, row, count)) / 2**32


EYE_TOP_Y, EYE_MOST_M = 9.0, 1e8  # where the highest eye is marked, above the section's own scale


def eye_mark(sky: Sky) -> tuple[float, str]:
    """Where the camera's height is marked, and how it is written; above the scale by ratios."""
    eye = sky.site.elevation_m + sky.camera.altitude_m
    if eye <= TOP_M:
        return y_of(eye), ""
    share = math.log(eye / TOP_M) / math.log(EYE_MOST_M / TOP_M)
    return TOP_Y - share * (TOP_Y - EYE_TOP_Y), f"{eye / 1e3:,.0f} km"


def altitude_of(y: float) -> float:
    """Inverse of `y_of`."""
    share = (GROUND_Y - y) / (GROUND_Y - TOP_Y)
    return BEND_M * math.expm1(share * math.log1p(TOP_M / BEND_M))


def etage_marks() -> list[tuple[float, float, str]]:
    """Top, middle (places on the section) and name of each étage."""
    tops = [y_of(a) for a, _ in ETAGES]
    return [(top, 0.5 * (top + below), name)
            for top, below, (_, name) in zip(tops, [GROUND_Y, *tops], ETAGES, strict=False)]


def land_far(sky: Sky) -> float:
    """Metres that a profile of the land goes on: up to behind its far border."""
    relief = sky.relief
    middle = math.hypot(relief.east_km * 1e3 - sky.camera.east_m,
                        relief.north_km * 1e3 - sky.camera.north_m)
    return middle + 0.75e3 * relief.extent_km


def land_path(sky: Sky) -> str:
    """The land along the camera's bearing, nearest at the left, up to behind its far border."""
    relief = sky.relief
    if not relief.stands:
        return ""
    far = land_far(sky)
    places = profile(sky, PROFILE, far)
    line = " ".join(f"{LEFT - 6 + d / far * (RIGHT - LEFT + 10):.1f} "
                    f"{y_of(sky.site.elevation_m + h):.1f}" for d, h in places)
    return f"M{LEFT - 6} {GROUND_Y} L{line} L{RIGHT + 4} {GROUND_Y} Z"


def fog_path(sky: Sky) -> str:
    """The fog from the ground, or the land, up to its top, along the camera's bearing."""
    fog, depth = sky.fog, depth_of(sky)
    if not fog.present or depth <= 0.0:
        return ""
    site, level = sky.site.elevation_m, fog.lies == "level"
    if not sky.relief.stands or level:
        top = y_of(site + depth)
        return f"M{LEFT - 6} {GROUND_Y} V{top:.1f} H{RIGHT + 4} V{GROUND_Y} Z"
    places = profile(sky, PROFILE, land_far(sky))
    far = places[-1][0]
    top_line = " ".join(f"{LEFT - 6 + d / far * (RIGHT - LEFT + 10):.1f} "
                        f"{y_of(site + h + depth):.1f}" for d, h in places)
    return f"M{LEFT - 6} {GROUND_Y} L{top_line} L{RIGHT + 4} {GROUND_Y} Z"


def heroes_path(sky: Sky) -> str:
    """Outlines of the clouds placed by hand, side by side from the base of their layer to the
    top of each."""
    found = ""
    for layer in (x for x in sky.layers if x.visible):
        for k, hero in enumerate(layer.heroes):
            half = 3.0 + 1.6 * math.log2(max(hero.width_m / 300.0, 1.0))
            x = LEFT + 14.0 + (k * 23.0) % (RIGHT - LEFT - 34.0)
            base, top = y_of(layer.base_m), y_of(layer.base_m + hero.top_m)
            high = max(base - top, 4.0)
            found += (f"M{x - half:.1f} {base:.1f}h{2 * half:.1f}v{-0.45 * high:.1f}"
                      f"c0 {-0.3 * high:.1f} {-0.5 * half:.1f} {-0.2 * high:.1f} {-0.6 * half:.1f} "
                      f"{-0.55 * high:.1f}c{-0.5 * half:.1f} {-0.1 * high:.1f} {-0.9 * half:.1f} "
                      f"{0.1 * high:.1f} {-1.4 * half:.1f} {0.55 * high:.1f}z")
    return found


@dataclass(frozen=True)
class Band:
    """One layer as drawn."""

    layer: Layer
    index: int
    y_top: float
    y_base: float
    x: float
    width: float
    texture: str
    cover: str
    label_y: float

    @property
    def height(self) -> float:
        return self.y_base - self.y_top


def fraction_text(oktas: float) -> str:
    return f"{oktas:.2f}".rstrip("0").rstrip(".") + "/8"

FIGURE = 30.0  # room of a band's cover, at the right of its base


def _heaps(x0: float, x1: float, y_top: float, y_base: float, seed: int) -> str:
    """Little flat-based heaps, more where the band is tall."""
    paths = []
    height = min(max((y_base - y_top) * 0.5, 7.0), 17.0)
    rows = max(1, int((y_base - y_top) / (height + 7)))
    for row in range(rows):
        y = y_base - 4.0 - row * (height + 7.0)
        x = x0 + 4.0 + (11.0 if row % 2 else 0.0)
        right = x1 - (FIGURE if row == 0 else 4.0)
        count = 0
        while y - height > y_top:
            w = 19.0 + 9.0 * _unit(seed, row, count)
            if x + w + 3.0 > right:
                break
            h = height * (0.65 + 0.35 * _unit(seed, row, count + 50))
            paths.append(
                f"M{x:.1f} {y:.1f}h{w:.1f}c3 {-0.35 * h:.1f} -1 {-0.6 * h:.1f} {-0.2 * w:.1f} "
                f"{-0.5 * h:.1f}c{-0.05 * w:.1f} {-0.6 * h:.1f} {-0.42 * w:.1f} {-0.6 * h:.1f} "
                f"{-0.5 * w:.1f} 0c{-0.22 * w:.1f} {-0.1 * h:.1f} {-0.36 * w:.1f} {0.3 * h:.1f} "
                f"{-0.3 * w:.1f} {0.5 * h:.1f}z")
            x += w + 7.0
            count += 1
    return "".join(paths)


def _lines(x0: float, x1: float, y_top: float, y_base: float, seed: int) -> str:
    """Level lines with gaps, as a sheet is drawn on a section."""
    paths = []
    y, row = y_top + 5.0, 0
    while y < y_base - 2.0:
        x = x0 + 4.0 + 20.0 * _unit(seed, row, 1)
        count = 0
        while x < x1 - 10.0:
            length = min(18.0 + 42.0 * _unit(seed, row, 2 + count), x1 - 4.0 - x)
            paths.append(f"M{x:.1f} {y:.1f}h{length:.1f}")
            x += length + 6.0
            count += 1
        y += 5.5
        row += 1
    return "".join(paths)


def _cells(x0: float, x1: float, y_top: float, y_base: float, seed: int) -> str:
    """Rows of small lenses."""
    paths = []
    rows = max(1, int((y_base - y_top) / 11.0))
    for row in range(rows):
        y = y_base - 5.0 - row * 11.0
        x = x0 + 4.0 + (7.0 if row % 2 else 0.0)
        count = 0
        while x + 14.0 < x1:
            w = 10.0 + 4.0 * _unit(seed, row, count)
            paths.append(f"M{x:.1f} {y:.1f}c{0.2 * w:.1f} -5 {0.8 * w:.1f} -5 {w:.1f} 0"
                         f"c{-0.2 * w:.1f} 2 {-0.8 * w:.1f} 2 {-w:.1f} 0z")
            x += w + 4.0
            count += 1
    return "".join(paths)


def _streaks(x0: float, x1: float, y_top: float, y_base: float, seed: int) -> str:
    """Falling, hooked strokes of ice."""
    paths = []
    height = y_base - y_top
    x, count = x0 + 6.0, 0
    while x < x1 - 26.0:
        y = y_top + 3.0 + 0.35 * height * _unit(seed, count, 3)
        drop = max(0.45 * height * (0.6 + 0.5 * _unit(seed, count, 4)), 4.0)
        run = 20.0 + 14.0 * _unit(seed, count, 5)
        paths.append(f"M{x:.1f} {y + drop:.1f}c{0.4 * run:.1f} {-0.1 * drop:.1f} "
                     f"{0.8 * run:.1f} {-0.5 * drop:.1f} {run:.1f} {-drop:.1f}")
        x += 8.0 + 9.0 * _unit(seed, count, 6)
        count += 1
    return "".join(paths)


def _towers(x0: float, x1: float, y_top: float, y_base: float, seed: int) -> str:
    """Towers that spread out below the top, with strokes of rain under them."""
    paths = []
    x, count = x0 + 8.0, 0
    height = max(y_base - y_top - 8.0, 8.0)
    while x + 40.0 < x1:
        h = height * (0.65 + 0.35 * _unit(seed, count, 1))
        w, y = 22.0, y_base - 5.0
        paths.append(
            f"M{x:.1f} {y:.1f}h{w:.1f}c3 {-0.2 * h:.1f} 0 {-0.3 * h:.1f} -3 {-0.45 * h:.1f}"
            f"c2 {-0.25 * h:.1f} 6 {-0.35 * h:.1f} 16 {-0.55 * h:.1f}h-44"
            f"c10 {0.2 * h:.1f} 12 {0.4 * h:.1f} 11 {0.55 * h:.1f}"
            f"c-4 {0.15 * h:.1f} -5 {0.3 * h:.1f} -2 {0.45 * h:.1f}z")
        x += 50.0
        count += 1
    return "".join(paths)


def _rain(x0: float, x1: float, y_top: float, y_base: float, seed: int) -> str:
    """A sheet's level lines above slanting strokes."""
    middle = y_top + 0.55 * (y_base - y_top)
    paths = [_lines(x0, x1, y_top, middle, seed)]
    x, count = x0 + 8.0, 0
    while x < x1 - 6.0:
        drop = (y_base - middle - 3.0) * (0.6 + 0.4 * _unit(seed, count, 8))
        paths.append(f"M{x:.1f} {middle:.1f}l{-0.3 * drop:.1f} {drop:.1f}")
        x += 7.0
        count += 1
    return "".join(paths)


def _veil(x0: float, x1: float, y_top: float, y_base: float, seed: int) -> str:
    """Long even waves, as an unbroken veil is drawn."""
    paths = []
    y = y_top + 5.0
    while y < y_base - 2.0:
        paths.append(f"M{x0 + 4.0:.1f} {y:.1f}")
        x = x0 + 4.0
        while x + 36.0 < x1:
            paths.append("q9 -2.4 18 0t18 0")
            x += 36.0
        y += 7.0
    return "".join(paths)


def _grains(x0: float, x1: float, y_top: float, y_base: float, seed: int) -> str:
    """Rows of grains, too small for shading of their own."""
    paths = []
    y, row = y_base - 5.0, 0
    while y > y_top + 2.0:
        x = x0 + 5.0 + (4.0 if row % 2 else 0.0)
        count = 0
        while x + 4.0 < x1:
            if _unit(seed, row, count) > 0.25:
                paths.append(f"M{x:.1f} {y:.1f}a1.3 1 0 1 0 2.6 0a1.3 1 0 1 0 -2.6 0z")
            x += 8.0
            count += 1
        y -= 6.5
        row += 1
    return "".join(paths)


def _rolls(x0: float, x1: float, y_top: float, y_base: float, seed: int) -> str:
    """Broad flat-based rolls."""
    paths = []
    rows = max(1, int((y_base - y_top) / 13.0))
    for row in range(rows):
        y = y_base - 4.0 - row * 13.0
        x = x0 + 4.0 + (12.0 if row % 2 else 0.0)
        count = 0
        while x + 26.0 < x1:
            w = 20.0 + 8.0 * _unit(seed, row, count)
            paths.append(f"M{x:.1f} {y:.1f}h{w:.1f}c3 -3 2 -7 -3 -7c-3 -3 -7 -2 -9 0"
                         f"c-3 -3 {-0.4 * w:.1f} -3 {8.0 - 0.7 * w:.1f} 1c-5 0 -7 3 -4 6z")
            x += w + 5.0
            count += 1
    return "".join(paths)


TEXTURES = {"cumulus": _heaps, "cumulonimbus": _towers, "stratocumulus": _rolls,
            "stratus": _lines, "nimbostratus": _rain, "altocumulus": _cells,
            "altostratus": _veil, "cirrus": _streaks, "cirrocumulus": _grains,
            "cirrostratus": _veil}


def bands(sky: Sky) -> list[Band]:
    """Bands of a sky, lowest first; layers that overlap stand side by side."""
    order = sorted(enumerate(sky.layers), key=lambda item: item[1].base_m)
    ends: list[float] = []  # top of the last band in each lane
    lanes: list[int] = []
    for _, layer in order:
        lane = next((k for k, end in enumerate(ends) if layer.base_m >= end), len(ends))
        if lane == len(ends):
            ends.append(0.0)
        ends[lane] = layer.top_m
        lanes.append(lane)
    count = max(len(ends), 1)
    width = (RIGHT - LEFT - 6.0 - 4.0 * (count - 1)) / count
    drawn = []
    for (index, layer), lane in zip(order, lanes, strict=True):
        y_top, y_base = y_of(layer.top_m), y_of(layer.base_m)
        if y_base - y_top < SMALLEST_BAND:
            y_top = y_base - SMALLEST_BAND
        x = LEFT + 6.0 + lane * (width + 4.0)
        texture = TEXTURES[layer.genus](x, x + width, y_top + (13.0 if y_base - y_top > 34 else 0),
                                        y_base, layer.seed)
        drawn.append(Band(layer, index, y_top, y_base, x, width, texture,
                          fraction_text(layer.cover_oktas), y_top + 12.0))
    return drawn


def scale_table() -> list[tuple[float, float]]:
    """Pairs (y, altitude) that let the page turn a drag into metres."""
    return [(round(y_of(a), 2), a) for a in
            [0, 100, 200, 300, 450, 600, 800, 1000, 1300, 1600, 2000, 2500, 3000, 3700, 4500, 5500,
             6500, 8000, 9500, 11_000, 12_500, 14_000, 16_000]]
