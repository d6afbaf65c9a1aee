"""Where the sun and the moon stand, and when the sun rises and sets."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import lru_cache
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

import ephem
import numpy as np

from dovrek.core.geometry.travel import from_foot
from dovrek.sky.document import Site, Sky

REFRACTION_FROM_DEG = -1.0
# True elevation of the sun's centre at each event (astronomical convention: 34' of refraction
# and 16' of radius at rise and set; 6, 12 and 18 degrees for the three twilights).
THRESHOLDS_DEG = {"sun": -0.833, "civil": -6.0, "nautical": -12.0, "astronomical": -18.0}


@dataclass(frozen=True)
class Place:
    """Apparent and true elevation and azimuth, radians; azimuth clockwise from north."""

    elevation: float
    elevation_true: float
    azimuth: float

    @property
    def vector(self) -> tuple[float, float, float]:
        """Unit vector of the apparent place: x east, y north, z up."""
        c = math.cos(self.elevation)
        return (c * math.sin(self.azimuth), c * math.cos(self.azimuth), math.sin(self.elevation))


def refraction_of_true(elevation_deg: float) -> float:
    """Degrees by which refraction lifts a body. Source: Sæmundsson 1986; 0 below −1°."""
    if elevation_deg < REFRACTION_FROM_DEG:
        return 0.0
    angle = math.radians(elevation_deg + 10.3 / (elevation_deg + 5.11))
    return max(1.02 / math.tan(angle) / 60.0, 0.0)


def true_of_apparent(apparent_deg: float) -> float:
    """True elevation of an apparent one: the inverse of `refraction_of_true`."""
    lowest = REFRACTION_FROM_DEG + refraction_of_true(REFRACTION_FROM_DEG)
    if apparent_deg <= lowest:  # no true place maps in between: refraction starts at −1°
        return min(apparent_deg, REFRACTION_FROM_DEG)
    true = apparent_deg - refraction_of_true(apparent_deg)
    for _ in range(8):
        true = apparent_deg - refraction_of_true(max(true, REFRACTION_FROM_DEG))
    return true


class _Day(NamedTuple):
    """A date of a site: what the courses of sun and moon depend on. Every page shows them, so they
    are kept."""

    latitude: float
    longitude: float
    elevation_m: float
    start: datetime
    end: datetime


def _day_of(sky: Sky) -> _Day:
    site = sky.site
    return _Day(site.latitude, site.longitude, site.elevation_m, *local_day(sky))


def _observer(site: Site | _Day, instant: datetime) -> Any:
    observer = ephem.Observer()
    observer.lat, observer.lon = str(site.latitude), str(site.longitude)
    observer.elevation = site.elevation_m
    observer.pressure = 0.0  # refraction is ours
    observer.date = ephem.Date(instant.astimezone(UTC).replace(tzinfo=None))
    return observer


def _place(body: Any) -> Place:
    true = math.degrees(float(body.alt))
    return Place(
        math.radians(true + refraction_of_true(true)), math.radians(true), float(body.az)
    )


def seen_from_foot(sky: Sky, place: Place) -> Place:
    """A place in the sky of the site as a camera sees it that has travelled far from there: the
    body stays where it is, the planet is round."""
    c = math.cos(place.elevation_true)
    over = np.array([c * math.sin(place.azimuth), c * math.cos(place.azimuth),
                     math.sin(place.elevation_true)])
    seen = from_foot(sky, over)
    if seen is over:
        return place
    true = math.degrees(math.asin(min(max(float(seen[2]), -1.0), 1.0)))
    return Place(math.radians(true + refraction_of_true(true)), math.radians(true),
                 math.atan2(float(seen[0]), float(seen[1])) % (2.0 * math.pi))


def sun_place(sky: Sky, instant: datetime | None = None) -> Place:
    """The sun's place: by site and moment (true place by VSOP87 in ephem), or as set by hand for
    the site; as the camera sees it."""
    if sky.sun.mode == "free":
        true = true_of_apparent(sky.sun.elevation_deg)
        return seen_from_foot(sky, Place(
            math.radians(sky.sun.elevation_deg), math.radians(true),
            math.radians(sky.sun.azimuth_deg % 360.0),
        ))
    observer = _observer(sky.site, instant or sky.local_moment())
    return seen_from_foot(sky, _place(ephem.Sun(observer)))


def moon_place(sky: Sky) -> tuple[Place, float, float]:
    """The moon's place, its illuminated fraction, and its illuminance above the air in lux.

    Source of the illuminance: Krisciunas & Schaefer 1991, eq. 20 with phase angle in degrees.
    """
    observer = _observer(sky.site, sky.local_moment())
    moon, sun = ephem.Moon(observer), ephem.Sun(observer)
    elongation = float(ephem.separation(moon, sun))
    phase_deg = abs(180.0 - math.degrees(elongation))
    magnitude = -12.73 + 0.026 * phase_deg + 4e-9 * phase_deg**4
    illuminance = 10.0 ** (-0.4 * (magnitude + 13.98))
    return seen_from_foot(sky, _place(moon)), float(moon.phase) / 100.0, illuminance


def toward(body: Place, other: Place) -> float:
    """Angle in the sky, clockwise from up, in which another body lies from one, radians."""
    turn = other.azimuth - body.azimuth
    up = (math.cos(body.elevation) * math.sin(other.elevation_true)
          - math.sin(body.elevation) * math.cos(other.elevation_true) * math.cos(turn))
    return math.atan2(math.cos(other.elevation_true) * math.sin(turn), up)


@dataclass(frozen=True)
class SunEvent:
    """The sun crosses a threshold: `kind` of THRESHOLDS_DEG, upward or downward."""

    kind: str
    rising: bool
    moment: datetime


@dataclass(frozen=True)
class SunDay:
    """The sun over the site's local date: elevations (radians) and events in order."""

    moments: tuple[datetime, ...]
    elevations_true: tuple[float, ...]
    events: tuple[SunEvent, ...]

    def first(self, kind: str, rising: bool) -> datetime | None:
        return next((e.moment for e in self.events if e.kind == kind and e.rising == rising), None)

    @property
    def always_up(self) -> bool:
        return min(self.elevations_true) > math.radians(THRESHOLDS_DEG["sun"])

    @property
    def never_up(self) -> bool:
        return max(self.elevations_true) < math.radians(THRESHOLDS_DEG["sun"])


def local_day(sky: Sky) -> tuple[datetime, datetime]:
    """Start and end of the site's date, as instants (23 or 25 hours apart on some dates)."""
    zone = ZoneInfo(sky.site.timezone)
    date = sky.local_moment().astimezone(zone).date()
    start = datetime(date.year, date.month, date.day, tzinfo=zone)
    after = date + timedelta(days=1)
    return start.astimezone(UTC), datetime(after.year, after.month, after.day,
                                           tzinfo=zone).astimezone(UTC)


def sun_day(sky: Sky, samples: int = 145) -> SunDay:
    """Elevations through the local date and every rise, set and twilight in it."""
    return _sun_day(_day_of(sky), sky.site.timezone, samples)


@lru_cache(maxsize=256)
def _sun_day(day: _Day, timezone: str, samples: int) -> SunDay:
    zone, start, end = ZoneInfo(timezone), day.start, day.end
    observer = _observer(day, start)
    sun = ephem.Sun()

    def elevation(instant: datetime) -> float:
        observer.date = ephem.Date(instant.replace(tzinfo=None))
        sun.compute(observer)
        return float(sun.alt)

    moments = [start + (end - start) * (k / (samples - 1)) for k in range(samples)]
    heights = [elevation(m) for m in moments]

    def crossings() -> Iterator[SunEvent]:
        for kind, degrees in THRESHOLDS_DEG.items():
            level = math.radians(degrees)
            for k in range(samples - 1):
                if (heights[k] < level) == (heights[k + 1] < level):
                    continue
                low, high = moments[k], moments[k + 1]
                rising = heights[k] < level
                for _ in range(16):
                    middle = low + (high - low) / 2
                    if (elevation(middle) < level) == rising:
                        low = middle
                    else:
                        high = middle
                yield SunEvent(kind, rising, low.astimezone(zone))

    events = tuple(sorted(crossings(), key=lambda e: e.moment))
    return SunDay(tuple(m.astimezone(zone) for m in moments), tuple(heights), events)


def moon_track(sky: Sky, samples: int) -> tuple[tuple[float, float], ...]:
    """The moon's true elevation (radians) through the local date, by share of the day."""
    return _moon_track(_day_of(sky), samples)


@lru_cache(maxsize=256)
def _moon_track(day: _Day, samples: int) -> tuple[tuple[float, float], ...]:
    start, end = day.start, day.end
    observer = _observer(day, start)
    moon = ephem.Moon()
    found = []
    for k in range(samples):
        share = k / (samples - 1)
        observer.date = ephem.Date((start + (end - start) * share).replace(tzinfo=None))
        moon.compute(observer)
        found.append((share, float(moon.alt)))
    return tuple(found)


def sun_path(sky: Sky, samples: int = 97) -> tuple[tuple[datetime, Place], ...]:
    """The sun's places through the local date, by the clock of the site (whatever the mode)."""
    return _sun_path(_day_of(sky), sky.site.timezone, samples)


@lru_cache(maxsize=256)
def _sun_path(day: _Day, timezone: str, samples: int) -> tuple[tuple[datetime, Place], ...]:
    zone, start, end = ZoneInfo(timezone), day.start, day.end
    observer = _observer(day, start)
    sun = ephem.Sun()
    found = []
    for k in range(samples):
        instant = start + (end - start) * (k / (samples - 1))
        observer.date = ephem.Date(instant.astimezone(UTC).replace(tzinfo=None))
        sun.compute(observer)
        found.append((instant.astimezone(zone), _place(sun)))
    return tuple(found)
