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

from dovrek.core.air.sky_view import SHADE_NODES, hemispheres, radiances
from dovrek.core.air.sun_place import SunDay, local_day, moon_place, moon_track, sun_day
from dovrek.core.colour.curve import FILMS
from dovrek.core.colour.film import ISO_CONSTANT, develop
from dovrek.core.prepare.atmosphere import Atmosphere
from dovrek.sky.document import Sky

COLUMNS = 288
BAND = 20  # rows of the picture for each of its two bands
# The zenith, and the horizon under the sun: a little above it and beside it, where colour is.
LOOKS = np.radians([[90.0, 0.0], [4.0, 30.0]])
NIGHT_BELOW, NIGHT = math.radians(-20.0), (7, 8, 16)
PLACES = np.array([0.0, 1.1])  # stops above middle grey at which a day's bands are placed
DIMS, DAY_CD_M2 = 0.25, 700.0  # of every stop that a mean is below a day's, how much shows
SHOWN_AT, WHITE_K, VIVID = 1000.0, 5600.0, 1.3


# Share of the day, and what clouds leave of the light of zenith and horizon (XYZ each).
Clouded = tuple[tuple[float, tuple[float, ...]], ...]


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
    moon: str
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
                  hours, "M" + " L".join(points), note, moon_note(sky, start, end),
                  int(length // 60))


def moon_note(sky: Sky, start: datetime, end: datetime) -> str:
    """When the moon stands above the horizon, and how much of it is lit."""
    zone, track = ZoneInfo(sky.site.timezone), moon_track(sky, 289)
    said = []
    for (one, low), (other, high) in zip(track, track[1:], strict=False):
        if (low < 0.0) != (high < 0.0):
            instant = start + (end - start) * (one + (other - one) * low / (low - high))
            said.append(f"{'rises' if low < 0.0 else 'sets'} "
                        f"{instant.astimezone(zone).strftime('%H:%M')}")
    if not said:
        said = ["up all day" if track[0][1] > 0.0 else "below the horizon"]
    return f"moon {100.0 * moon_place(sky)[1]:.0f} %, " + ", ".join(said)


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
def _strip(elevations: tuple[float, ...], atmosphere_key: str, holder: _Holder,
           clouds: Clouded) -> bytes:
    atmosphere = holder.atmosphere
    air = (atmosphere.media, atmosphere.sun, atmosphere.scattered)
    light = np.zeros((2, len(elevations), 3), dtype=np.float32)
    for k, elevation in enumerate(elevations):
        if elevation < NIGHT_BELOW:
            continue
        mean = float(hemispheres(*air, np.ones(SHADE_NODES), 2.0, elevation, 1.0)[0, 1])
        looks = radiances(*air, elevation, LOOKS)
        # Each band is exposed by its own light, so that both have colour at every hour, and less
        # of it the dimmer the hour is: dusk shows as dusk.
        dims = DIMS * min(math.log2(max(mean, 1e-6) / DAY_CD_M2), 0.0)
        gain = SHOWN_AT * 2.0 ** (PLACES + dims) / np.maximum(looks[:, 1], 1e-6)
        light[:, k] = looks * clouded(clouds, (k + 0.5) / len(elevations)) * gain[:, None]
    rows = develop(light, math.log2(SHOWN_AT / ISO_CONSTANT), WHITE_K, saturation=VIVID,
                   curve=FILMS["standard"])
    rows = np.maximum(rows, np.array(NIGHT, dtype=np.uint8))
    image = Image.fromarray(np.asarray(rows, dtype=np.uint8).repeat(BAND, axis=0))
    buffer = io.BytesIO()
    image.save(buffer, "PNG")
    return buffer.getvalue()


class _Holder:
    """Carries an atmosphere through the cache; equal when its key is."""

    def __init__(self, atmosphere: Atmosphere) -> None:
        self.atmosphere = atmosphere

    def __hash__(self) -> int:
        return hash(self.atmosphere.key)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Holder) and other.atmosphere.key == self.atmosphere.key


def clouded(clouds: Clouded, share: float) -> NDArray[np.float64]:
    """(2, 3) what clouds leave of the clear sky's light at a share of the day, between the hours
    that are known."""
    if not clouds:
        return np.ones((2, 3))
    shares = [at for at, _ in clouds]
    ratios = np.array([ratio for _, ratio in clouds])
    found = np.array([np.interp(share, shares, ratios[:, c]) for c in range(6)])
    return found.reshape(2, 3)


def ribbon_png(sky: Sky, atmosphere: Atmosphere, clouds: Clouded = ()) -> bytes:
    """Two bands of colours as a PNG, 288 pixels for the day: the zenith above, and under it the
    horizon below the sun; `clouds` tells what they leave of the clear sky's light at some hours."""
    day = sun_day(sky, COLUMNS + 1)
    middles = tuple(round(0.5 * (a + b), 4) for a, b in
                    zip(day.elevations_true[:-1], day.elevations_true[1:], strict=True))
    return _strip(middles, atmosphere.key, _Holder(atmosphere), clouds)
