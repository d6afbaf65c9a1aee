"""The day ribbon: the 24 hours of the site's date as computed sky colours."""

from __future__ import annotations

import io
import math
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.air.sky_view import SHADE_NODES, hemispheres
from dovrek.core.air.sun_place import SunDay, local_day, moon_track, sun_day
from dovrek.core.colour.film import balance_matrix, encode_srgb
from dovrek.core.colour.spectrum import LUMINANCE_RGB
from dovrek.core.prepare.atmosphere import Atmosphere
from dovrek.sky.document import Sky

COLUMNS = 288


@dataclass(frozen=True)
class Mark:
    """A named moment on the ribbon, share of the day 0 … 1."""

    share: float
    name: str
    clock: str


@dataclass(frozen=True)
class Ribbon:
    """What the ribbon shows besides its colours."""

    share: float
    clock: str
    date: str
    marks: list[Mark]
    hours: list[tuple[float, str]]
    moon_path: str
    note: str
    minutes: int


EVENT_NAMES = {
    ("sun", True): "sunrise", ("sun", False): "sunset",
    ("civil", True): "civil dawn", ("civil", False): "civil dusk",
    ("nautical", True): "nautical dawn", ("nautical", False): "nautical dusk",
}


def ribbon_of(sky: Sky) -> Ribbon:
    """Marks, hours and the moon of the site's date."""
    start, end = local_day(sky)
    length = (end - start).total_seconds()
    zone = ZoneInfo(sky.site.timezone)
    moment = sky.local_moment().astimezone(zone)
    day = sun_day(sky)

    def share(instant: datetime) -> float:
        return (instant - start).total_seconds() / length

    marks = [Mark(share(e.moment), EVENT_NAMES[e.kind, e.rising], e.moment.strftime("%H:%M"))
             for e in day.events if (e.kind, e.rising) in EVENT_NAMES]
    hours = []
    for hour in range(0, 25, 3):
        instant = start.astimezone(zone).replace(hour=hour % 24)
        place = 1.0 if hour == 24 else share(instant)
        hours.append((place, f"{hour}"))
    note = day_note(day)
    track = moon_track(sky, 49)
    points = [f"{x * 1000:.0f},{21 - 18 * max(math.sin(h), -0.15):.1f}" for x, h in track]
    return Ribbon(share(moment), moment.strftime("%H:%M"), moment.strftime("%-d %B %Y"), marks,
                  hours, "M" + " L".join(points), note, int(length // 60))


def day_note(day: SunDay) -> str:
    """Rise and set in words, or why there is none."""
    if day.always_up:
        return "polar day: the sun does not set"
    if day.never_up:
        return "polar night: the sun does not rise"
    rise, sets = day.first("sun", True), day.first("sun", False)
    parts = []
    if rise:
        parts.append(f"rises {rise.strftime('%H:%M')}")
    if sets:
        parts.append(f"sets {sets.strftime('%H:%M')}")
    return " · ".join(parts)


@lru_cache(maxsize=64)
def _strip(elevations: tuple[float, ...], atmosphere_key: str, holder: _Holder) -> bytes:
    colours = np.zeros((len(elevations), 3))
    shade = np.ones(SHADE_NODES)
    atmosphere = holder.atmosphere
    matrix = balance_matrix(6000.0)
    for k, elevation in enumerate(elevations):
        if elevation < math.radians(-20.0):
            continue
        xyz = hemispheres(atmosphere.media, atmosphere.sun, atmosphere.scattered, shade, 2.0,
                          elevation, 1.0)[0]
        colours[k] = _shown(matrix @ xyz)
    grain = np.array([7, 8, 16]) / 255.0
    colours = np.maximum(colours, grain)
    row = (colours[None, :, :] * 255 + 0.5).astype(np.uint8)
    image = Image.fromarray(row.repeat(2, axis=0))
    buffer = io.BytesIO()
    image.save(buffer, "PNG")
    return buffer.getvalue()


def _shown(rgb: NDArray[np.float64]) -> NDArray[np.float64]:
    """A display colour in which noon and dusk both have a hue: brightness by its logarithm."""
    luminance = float(np.maximum(LUMINANCE_RGB @ rgb, 1e-6))
    level = float(np.clip((math.log10(luminance) + 2.2) / 6.1, 0.0, 1.0)) ** 1.7 * 0.42
    ratio = np.clip(rgb / luminance, 0.0, 4.0) * level
    encoded = np.array([encode_srgb(c) for c in np.minimum(ratio, 1.0).tolist()])
    return encoded


class _Holder:
    """Carries an atmosphere through the cache; equal when its key is."""

    def __init__(self, atmosphere: Atmosphere) -> None:
        self.atmosphere = atmosphere

    def __hash__(self) -> int:
        return hash(self.atmosphere.key)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Holder) and other.atmosphere.key == self.atmosphere.key


def ribbon_png(sky: Sky, atmosphere: Atmosphere) -> bytes:
    """The strip of colours as a PNG, 288 pixels for the day."""
    day = sun_day(sky, COLUMNS + 1)
    middles = tuple(round(0.5 * (a + b), 4) for a, b in
                    zip(day.elevations_true[:-1], day.elevations_true[1:], strict=True))
    return _strip(middles, atmosphere.key, _Holder(atmosphere))
