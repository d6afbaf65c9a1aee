"""EPW, the open weather format of building simulation: a place and hourly records.

One record a line of 35 fields after eight lines of head; numbers that stand for nothing are kept
apart (the format's description of fields: cover in tenths, sight in kilometres, ceiling in metres,
light in lux).
"""

from __future__ import annotations

import csv
import math
from dataclasses import dataclass
from typing import Any

from dovrek.weather.report import Cloud, Report, WeatherError

BYTES_LIMIT = 3 * 2**20  # a year of hours takes about 1.6 MB
FIELDS, HEAD, HOURS_MOST = 35, 8, 70_080  # quarter hours of two years
UNLIMITED_M, CIRRIFORM_M = 77_777.0, 88_888.0
CIRRUS_M, MIDDLE_M = 7500.0, 3000.0  # of cloud whose height is not said


@dataclass(frozen=True)
class Hour:
    """A record: the hour that ends at `hour` of a day."""

    month: int
    day: int
    hour: int  # 1 … 24, as the file has it
    minute: int
    temperature_c: float | None
    dew_point_c: float | None
    direct_normal_lux: float | None
    diffuse_lux: float | None
    global_lux: float | None
    wind_deg: float | None
    wind_m_s: float | None
    cover_tenths: float | None
    opaque_tenths: float | None
    sight_km: float | None
    ceiling_m: float | None
    haze: float | None  # aerosol optical depth

    @property
    def middle(self) -> float:
        """The hour of the day in whose middle the record stands."""
        return self.hour - 0.5


@dataclass(frozen=True)
class Station:
    """An EPW file: where it is, and its records."""

    name: str
    latitude: float
    longitude: float
    zone_h: float  # hours ahead of UTC, without summer time
    elevation_m: float
    hours: tuple[Hour, ...]


def read_epw(text: str) -> Station:
    """Read a file. Raises WeatherError naming line, value and mend."""
    if len(text.encode(errors="replace")) > BYTES_LIMIT:
        raise WeatherError(f"file: more than {BYTES_LIMIT // 2**20} MB; a year of hours takes 2")
    try:
        lines = list(csv.reader(text.splitlines()))
    except csv.Error as error:
        raise WeatherError(f"file: it cannot be read as lines of fields ({error})") from None
    if len(lines) <= HEAD or not lines[0] or lines[0][0].strip().upper() != "LOCATION" or (
            len(lines[0]) < 10):
        raise WeatherError("file: it does not begin with LOCATION and a place; choose an EPW file")
    if len(lines) > HOURS_MOST + HEAD:
        raise WeatherError(f"file: more than {HOURS_MOST:,} records; choose one of a year")
    first = lines[0]
    place = [_number(first[k], 1, name) for k, name in (
        (6, "latitude"), (7, "longitude"), (8, "time zone"), (9, "elevation"))]
    for value, low, high, name in zip(place, (-90, -180, -12, -500), (90, 180, 14, 9000),
                                      ("latitude", "longitude", "time zone", "elevation"),
                                      strict=True):
        if not low <= value <= high:
            raise WeatherError(f"line 1: {name} {value:g} is outside {low} to {high}")
    hours = [_hour(fields, HEAD + 1 + k) for k, fields in enumerate(lines[HEAD:]) if fields]
    latitude, longitude, zone, elevation = place
    return Station(first[1].strip()[:80] or "a station", latitude, longitude, zone, elevation,
                   tuple(hours))


def _number(text: str, line: int, name: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise WeatherError(f"line {line}: {name} '{text[:20]}' is no number")
    return value


def _hour(fields: list[str], line: int) -> Hour:
    if len(fields) < FIELDS - 6:  # the last ones are often left out
        raise WeatherError(f"line {line}: {len(fields)} fields; a record has {FIELDS}")

    def known(at: int, name: str, missing: float, low: float = -1e9) -> float | None:
        value = _number(fields[at], line, name)
        return None if value >= missing or value < low else value

    month, day, hour, minute = (int(_number(fields[k], line, name)) for k, name in (
        (1, "month"), (2, "day"), (3, "hour"), (4, "minute")))
    if not (1 <= month <= 12 and 1 <= day <= 31 and 1 <= hour <= 24):
        raise WeatherError(f"line {line}: month {month}, day {day}, hour {hour} is no time")
    ceiling = _number(fields[25], line, "ceiling")
    depth = known(29, "aerosol optical depth", 999.0, 0.0) if len(fields) > 29 else None
    if depth is not None and depth > 3.0:  # thousandths in some files
        depth *= 1e-3
    return Hour(
        month, day, hour, minute, known(6, "temperature", 99.9), known(7, "dew point", 99.9),
        known(17, "direct normal illuminance", 999_900.0, 0.0),
        known(18, "diffuse illuminance", 999_900.0, 0.0),
        known(16, "global illuminance", 999_900.0, 0.0), known(20, "wind direction", 999.0, 0.0),
        known(21, "wind speed", 999.0, 0.0), known(22, "cover", 99.0, 0.0),
        known(23, "opaque cover", 99.0, 0.0), known(24, "sight", 9999.0, 0.0),
        None if ceiling >= 99_999.0 else ceiling, depth)


def hour_at(station: Station, month: int, day: int, hour: int) -> Hour:
    """The record of the hour that begins at `hour` (0 … 23). Raises WeatherError."""
    found = next((h for h in station.hours if (h.month, h.day, h.hour) == (month, day, hour + 1)),
                 None)
    if found is None:
        raise WeatherError(f"hour: the file has no record of month {month}, day {day}, {hour}:00; "
                           "choose another")
    return found


def report_of(station: Station, record: Hour) -> Report:
    """A record as a report: opaque cloud at the ceiling, the rest of the cover as thin and high."""
    cover = record.cover_tenths if record.cover_tenths is not None else record.opaque_tenths
    opaque = record.opaque_tenths if record.opaque_tenths is not None else cover
    clouds = []
    if cover is not None and opaque is not None and cover > 0.2:
        ceiling = record.ceiling_m
        height = ceiling if ceiling is not None and ceiling < UNLIMITED_M else (
            CIRRUS_M if ceiling == CIRRIFORM_M else MIDDLE_M if ceiling is None else CIRRUS_M)
        if opaque > 0.2:
            clouds.append(Cloud(round(0.8 * min(opaque, 10.0), 2), height, "", "opaque"))
        if cover - opaque > 0.5 and height < CIRRUS_M:
            thin = round(0.8 * min(cover - opaque, 10.0), 2)
            clouds.append(Cloud(thin, CIRRUS_M, "", "thin"))
        elif opaque <= 0.2:
            thin = round(0.8 * min(cover, 10.0), 2)
            clouds.append(Cloud(thin, max(height, CIRRUS_M), "", "thin"))
    wind = record.wind_deg if record.wind_m_s else None
    return Report(
        station.name, record.day, record.hour - 1, 30, wind_deg=wind, wind_m_s=record.wind_m_s,
        sight_m=None if record.sight_km is None else record.sight_km * 1e3,
        clouds=tuple(clouds), clear=not clouds, temperature_c=record.temperature_c,
        dew_point_c=record.dew_point_c)


def site_of(station: Station) -> dict[str, Any]:
    """The document's site of a station; its clock has no summer time."""
    whole = round(station.zone_h)
    zone = "Etc/UTC" if whole == 0 else f"Etc/GMT{'-' if whole > 0 else '+'}{abs(whole)}"
    return {"latitude": station.latitude, "longitude": station.longitude,
            "elevation_m": max(station.elevation_m, 0.0), "timezone": zone}
