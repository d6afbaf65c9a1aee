"""The sky that a report describes, and what each of its parts set."""

from __future__ import annotations

import calendar
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data, sky_to_data
from dovrek.weather.epw import Hour, Station, report_of, site_of
from dovrek.weather.report import SIGHT_MOST_M, Cloud, Report

KOSCHMIEDER = 3.912  # sight times extinction at a contrast of 2 % (Koschmieder 1924)
AIR_PER_KM = 0.012  # extinction of clean air at 550 nm
FAR_KM = 40.0  # sight of what a report can only call 10 km or more (common practice)
HAZE_MOST, HAZE_HEIGHT_M, HAZE_LOWEST_M = 1.2, 1500.0, 200.0
LOW_M, MIDDLE_M, STRATUS_M = 2000.0, 6000.0, 450.0
LIFT_M_K = 125.0  # metres of lift for each degree of spread (Espy)
VEER_DEG = 20.0  # of the wind above the friction of the ground (common practice)
ALOFT = 1.4  # of its speed there over that at the ground (common practice)
RAIN = {"-": 0.3, "": 0.6, "+": 1.0}
TOPS_M = {"cumulus": 1100.0, "congestus": 4000.0, "cumulonimbus": 9500.0, "nimbostratus": 3000.0}


@dataclass(frozen=True)
class Told:
    """A group of the report and what it set, in words."""

    group: str
    text: str


def sky_of_report(report: Report, base: Sky) -> tuple[Sky, list[Told]]:
    """The sky of a report at the place and with the camera of another, and what set what.

    Clouds and air are the report's; the month and year are those of `base`, since a report says
    none.
    """
    data, told = sky_to_data(base), list[Told]()
    moment = _moment(report, base)
    data["moment"] = moment.isoformat()
    data["name"] = f"{report.station} {moment:%-d %b %H:%M} UTC"
    told.append(Told("time", f"day {moment.day}, {moment:%H:%M} UTC; month and year are kept"))
    data["air"] |= _air(report, told)
    layers = _clouds(report, base, told)
    _rain(report, layers, told)
    _winds(report, layers, told)
    data["layers"] = layers
    data["sun"] = {**data.get("sun", {}), "mode": "clock"}
    return sky_from_data(data), told


def sky_of_record(station: Station, record: Hour, base: Sky) -> tuple[Sky, list[Told]]:
    """The sky of an EPW record at its station, with the camera of another sky."""
    year = base.local_moment().year
    sky, told = sky_of_report(report_of(station, record), base.model_copy(update={
        "moment": f"{year}-{record.month:02d}-01T12:00:00",
        "site": base.site.model_validate(site_of(station))}))
    data = sky_to_data(sky)
    days = calendar.monthrange(year, record.month)[1]
    # The middle of the record's hour, by the station's own clock.
    data["moment"] = (f"{year}-{record.month:02d}-{min(record.day, days):02d}T"
                      f"{record.hour - 1:02d}:30:00")
    data["name"] = f"{station.name} {record.day}.{record.month}. {record.hour - 1:02d}:30"
    if record.haze is not None and record.haze > 0.0:
        data["air"] |= {"haze": round(min(record.haze, 2.0), 3), "haze_height_m": HAZE_HEIGHT_M}
        told.append(Told("aerosol", f"optical depth {record.haze:.3f}: the air's haze"))
    told[0] = Told("time", f"{data['moment']} by the station's clock, the middle of its hour")
    return sky_from_data(data), told


def _moment(report: Report, base: Sky) -> datetime:
    year, month = base.local_moment().year, base.local_moment().month
    day = min(max(report.day, 1), calendar.monthrange(year, month)[1])
    return datetime(year, month, day, report.hour % 24, report.minute % 60, tzinfo=UTC)


def _air(report: Report, told: list[Told]) -> dict[str, Any]:
    """Haze by sight: so deep that nothing is told apart from the horizon beyond it."""
    if report.sight_m is None:
        return {}
    sight_km = max(report.sight_m, 50.0) * 1e-3
    said = f"sight {sight_km:g} km"
    if SIGHT_MOST_M - 1.0 <= report.sight_m <= SIGHT_MOST_M:
        sight_km, said = FAR_KM, f"sight 10 km or more, taken as {FAR_KM:g} km"
    per_km = max(KOSCHMIEDER / sight_km - AIR_PER_KM, 0.01)
    height = min(max(HAZE_MOST / per_km * 1e3, HAZE_LOWEST_M), HAZE_HEIGHT_M)
    haze = min(per_km * height * 1e-3, 2.0)
    thick = per_km * height * 1e-3 > 2.0
    told.append(Told("sight", f"{said}: haze {haze:.2f} over {height:.0f} m"
                     + ("; the air can hold no more than that" if thick else "")))
    return {"haze": round(haze, 3), "haze_height_m": round(height, 0)}


def _clouds(report: Report, base: Sky, told: list[Told]) -> list[dict[str, Any]]:
    """A layer for each group of cloud, the lowest first."""
    layers: list[dict[str, Any]] = []
    groups = list(report.clouds)
    if report.upward_m is not None and not groups:
        height = max(report.upward_m, 30.0)
        groups = [Cloud(8.0, height, "", "VV")]
    if not groups:
        told.append(Told("cloud", "CAVOK: no cloud below 1500 m" if report.cavok else "no cloud"))
    for number, cloud in enumerate(groups):
        height, note = cloud.height_m or 0.0, ""
        if cloud.height_m is None:
            height, note = _lift(report), ", height unsaid: by temperature and dew point"
        layer, words = _layer_of(cloud, height, report)
        layer |= {"id": f"cloud-{number + 1}", "seed": number + 1,
                  "base_m": round(max(base.site.elevation_m + height, 30.0), 0)}
        layer["cover_oktas"] = cloud.oktas
        layers.append(layer)
        told.append(Told(f"{cloud.code} {height:.0f} m{' ' + cloud.kind if cloud.kind else ''}",
                         f"{words}, {cloud.oktas:g} oktas, base {height:.0f} m above the "
                         f"ground{note}"))
    return layers


def _lift(report: Report) -> float:
    """Height at which air lifted from the ground condenses; 600 m where nothing is said."""
    if report.temperature_c is None or report.dew_point_c is None:
        return 600.0
    return max(LIFT_M_K * (report.temperature_c - report.dew_point_c), 60.0)


def _layer_of(cloud: Cloud, height_m: float, report: Report) -> tuple[dict[str, Any], str]:
    """Genus and what goes with it, by kind, height, cover and weather (WMO cloud atlas)."""
    steady = any(("RA" in w or "SN" in w) and "SH" not in w and "TS" not in w
                 for w in report.weather)
    if cloud.kind == "CB":
        return {"genus": "cumulonimbus", "thickness_m": TOPS_M["cumulonimbus"]}, "cumulonimbus"
    if cloud.kind == "TCU":
        return {"genus": "cumulus", "species": "congestus",
                "thickness_m": TOPS_M["congestus"]}, "cumulus congestus"
    if cloud.code == "VV":
        return {"genus": "stratus", "species": "nebulosus", "thickness_m": 250.0}, (
            "sky hidden: stratus on the ground")
    full = cloud.oktas >= 5.0
    if height_m < LOW_M:
        if full and steady and cloud.oktas >= 7.5:
            return {"genus": "nimbostratus", "thickness_m": TOPS_M["nimbostratus"]}, (
                "nimbostratus, for it rains steadily")
        if height_m < STRATUS_M and (full or not _heaped(report)):
            return {"genus": "stratus", **({} if full else {"species": "fractus"})}, (
                "stratus" if full else "stratus fractus")
        if full:
            return {"genus": "stratocumulus"}, "stratocumulus"
        return {"genus": "cumulus", "thickness_m": TOPS_M["cumulus"]}, "cumulus"
    if height_m < MIDDLE_M:
        if cloud.oktas >= 7.5:
            return {"genus": "altostratus"}, "altostratus"
        return {"genus": "altocumulus"}, "altocumulus"
    if cloud.oktas >= 7.5:
        return {"genus": "cirrostratus"}, "cirrostratus"
    return {"genus": "cirrus"}, "cirrus"


def _heaped(report: Report) -> bool:
    """Whether heaps can stand low: the air is near its dew point, but not foggy."""
    if report.temperature_c is None or report.dew_point_c is None:
        return True
    return report.temperature_c - report.dew_point_c > 2.0


def _rain(report: Report, layers: list[dict[str, Any]], told: list[Told]) -> None:
    """Rain, snow or drizzle falls from the cloud that makes it."""
    makers = ("cumulonimbus", "nimbostratus", "cumulus", "stratocumulus", "stratus", "altostratus")
    for code in report.weather:
        kinds = [k for k in ("RA", "SN", "DZ", "GR", "GS", "PL", "SG") if k in code]
        if not kinds or code.startswith(("VC", "RE")):
            told.append(Told(code, "weather" + (" near by" if code.startswith("VC") else "")
                             + ": sets nothing but what sight tells"))
            continue
        found = next((x for genus in makers for x in layers if x["genus"] == genus), None)
        if found is None:
            told.append(Told(code, "falls from no cloud that is reported: left out"))
            continue
        amount = RAIN.get(code[0] if code[0] in "+-" else "", 0.6)
        found["fall"] = {"amount": amount, "reach": 1.0}
        told.append(Told(code, f"falls from the {found['genus']}, rain haze {amount:g}"))


def _winds(report: Report, layers: list[dict[str, Any]], told: list[Told]) -> None:
    """Winds of the layers: low ones by the report, veered; all from about there."""
    if not layers:
        return
    if report.wind_deg is None:
        if report.wind_m_s is not None:
            told.append(Told("wind", "calm or from all sides: layers keep their own winds"))
        return
    aloft = (report.wind_deg + VEER_DEG) % 360.0
    for layer in layers:
        layer["wind"] = {"from_deg": round(aloft, 0)}
        if layer["base_m"] < LOW_M and report.wind_m_s is not None:
            layer["wind"]["speed_m_s"] = round(min(ALOFT * report.wind_m_s, 100.0), 1)
    gusts = f", gusts {report.gust_m_s:.0f}" if report.gust_m_s else ""
    told.append(Told("wind", f"from {report.wind_deg:.0f}° at {report.wind_m_s or 0:.0f} m/s"
                     f"{gusts}: layers from {aloft:.0f}°, low ones at "
                     f"{ALOFT * (report.wind_m_s or 0):.0f} m/s"))
