"""A report of the weather at a place and an hour, and its reading from METAR and TAF.

Codes by WMO-No. 306 (FM 15 METAR, FM 51 TAF) and ICAO Annex 3; parsed by metar-taf-parser.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from typing import Any

from metar_taf_parser.commons.exception import ParseError, TranslationError
from metar_taf_parser.parser.parser import MetarParser, TAFParser

BYTES_LIMIT = 4096
FOOT_M, KNOT_M_S, STATUTE_MILE_M = 0.3048, 0.514444, 1609.344
OKTAS = {"FEW": 1.5, "SCT": 3.5, "BKN": 6.0, "OVC": 8.0}  # middles of 1–2, 3–4, 5–7, 8
SIGHT_MOST_M = 10_000.0  # a report says no more than that it is at least that


class WeatherError(ValueError):
    """A report that cannot be read; the text names the part and the mend."""


@dataclass(frozen=True)
class Cloud:
    """A group of cloud: what it covers in all, its base above the ground, its kind if said."""

    oktas: float
    height_m: float | None  # None: not reported
    kind: str = ""  # CB, TCU
    code: str = ""


@dataclass(frozen=True)
class Report:
    """What a report says."""

    station: str
    day: int
    hour: int
    minute: int
    wind_deg: float | None = None  # None: calm or from all sides
    wind_m_s: float | None = None
    gust_m_s: float | None = None
    sight_m: float | None = None
    cavok: bool = False
    clouds: tuple[Cloud, ...] = ()
    clear: bool = False  # it says that there is no cloud
    upward_m: float | None = None  # vertical visibility of a hidden sky
    weather: tuple[str, ...] = ()  # codes such as -RA, +TSRA, FG
    temperature_c: float | None = None
    dew_point_c: float | None = None
    pressure_hpa: float | None = None
    lines: tuple[tuple[str, str], ...] = ()  # groups and what they say, in words
    unknown: tuple[str, ...] = ()
    passing: tuple[str, ...] = field(default_factory=tuple)  # TEMPO and PROB: said, not taken


# Groups as words; what no pattern knows is listed as unknown.
GROUPS: tuple[tuple[str, str], ...] = (
    (r"METAR|SPECI|TAF|COR|AMD|AUTO|NIL|RMK", "kind of report"),
    (r"NOSIG", "no change is expected"),
    (r"BECMG", "then it becomes"),
    (r"TEMPO", "for a time"),
    (r"PROB\d\d", "probability"),
    (r"\d{6}Z", "day and time (UTC)"),
    (r"\d{4}/\d{4}", "from and to, day and hour (UTC)"),
    (r"FM\d{6}", "from day and time (UTC)"),
    (r"(?:\d{3}|VRB)\d{2,3}(?:G\d{2,3})?(?:KT|MPS|KMH)", "wind: from, speed, gusts"),
    (r"\d{3}V\d{3}", "wind turns between"),
    (r"CAVOK", "sight 10 km or more, no cloud below 1500 m, no weather"),
    (r"\d{4}(?:NDV|[NSEW]{1,2})?", "sight in metres"),
    (r"[PM]?\d{0,2}(?:\d/\d{1,2})?SM", "sight in statute miles"),
    (r"R\d{2}[LRC]?/[\w/]+", "sight along the runway"),
    (r"(?:FEW|SCT|BKN|OVC)(?:\d{3}|///)(?:CB|TCU|///)?", "cloud: cover, height, kind"),
    (r"NSC|NCD|SKC|CLR", "no cloud"),
    (r"VV(?:\d{3}|///)", "sky hidden: sight upward"),
    (r"(?:\+|-|VC|RE)?(?:MI|PR|BC|DR|BL|SH|TS|FZ)?"
     r"(?:DZ|RA|SN|SG|IC|PL|GR|GS|UP|BR|FG|FU|VA|DU|SA|HZ|PO|SQ|FC|SS|DS){0,3}", "weather"),
    (r"M?\d{2}/(?:M?\d{2}|//)", "temperature, dew point"),
    (r"[QA]\d{4}", "pressure"),
    (r"T[XN]M?\d{2}/\d{4}Z", "highest or lowest temperature"),
    (r"WS\S*", "wind shear"),
)


def read_report(text: str, hour: int | None = None, day: int | None = None) -> Report:
    """A METAR, or the hour of a TAF (its first unless said). Raises WeatherError."""
    if len(text.encode()) > BYTES_LIMIT:
        raise WeatherError(f"report: {len(text.encode()):,} bytes are no report; paste one of at "
                           f"most {BYTES_LIMIT:,}")
    words = " ".join(text.replace("=", " ").split()).upper()
    if not words.isascii() or any(not c.isprintable() for c in words):
        raise WeatherError("report: it holds signs that no report has; paste its text alone")
    forecast = words.startswith("TAF")
    plain = re.sub(r"^(?:METAR|SPECI)\s+(?:COR\s+)?", "", words)
    if not re.match(r"(?:TAF\s+(?:AMD\s+|COR\s+)?)?[A-Z][A-Z0-9]{3}\s+(?:COR\s+)?\d{6}Z\b", plain):
        raise WeatherError(f"report: '{words[:40]}' begins with no station and time; a report "
                           "begins like EGLL 211150Z")
    try:
        found: Any = (TAFParser if forecast else MetarParser)().parse(plain)
        report = _report_of(found)
        if forecast:
            report = _at_hour(report, found, hour, day)
    except WeatherError:
        raise
    except (ParseError, TranslationError, ValueError, IndexError, KeyError, AttributeError,
            TypeError) as error:
        raise WeatherError(f"report: it cannot be read ({error}); check its groups") from None
    lines, unknown = _groups(plain)
    return replace(report, lines=tuple(lines), unknown=tuple(unknown))


def _groups(words: str) -> tuple[list[tuple[str, str]], list[str]]:
    """Every group with its meaning, and those that are not known; what follows RMK is remarks."""
    lines, unknown = [], []
    body = words.partition(" RMK")[0].split()
    for place, group in enumerate(body):
        if place < 3 and re.fullmatch(r"[A-Z][A-Z0-9]{3}", group) and group not in ("AUTO",):
            lines.append((group, "station"))
            continue
        whole = f"{group} {body[place + 1]}" if place + 1 < len(body) else ""
        if re.fullmatch(r"\d \d/\dSM", whole):
            lines.append((whole, "sight in statute miles"))
            continue
        if place and re.fullmatch(r"\d \d/\dSM", f"{body[place - 1]} {group}"):
            continue
        said = next((text for pattern, text in GROUPS if re.fullmatch(pattern, group)), None)
        if said is None:
            unknown.append(group)
        else:
            lines.append((group, said))
    return lines, unknown


def _report_of(found: Any) -> Report:
    """What the parser found, in our units."""
    at = found.time
    return Report(found.station, found.day, at.hour, at.minute, **_conditions(found),
                  temperature_c=getattr(found, "temperature", None),
                  dew_point_c=getattr(found, "dew_point", None),
                  pressure_hpa=getattr(found, "altimeter", None))


def _conditions(found: Any) -> dict[str, Any]:
    """Wind, sight, cloud and weather of a report or of a part of one."""
    said: dict[str, Any] = {}
    if found.wind is not None:
        unit = {"KT": KNOT_M_S, "MPS": 1.0, "KM/H": 1 / 3.6}.get(str(found.wind.unit), KNOT_M_S)
        calm = not found.wind.speed
        said["wind_deg"] = None if calm or found.wind.degrees is None else float(
            found.wind.degrees)
        said["wind_m_s"] = float(found.wind.speed or 0) * unit
        said["gust_m_s"] = float(found.wind.gust) * unit if found.wind.gust else None
    if found.visibility is not None:
        said["sight_m"] = _metres(str(found.visibility.distance), str(found.visibility.unit))
    if found.cavok:
        said |= {"cavok": True, "sight_m": SIGHT_MOST_M, "clouds": (), "clear": True}
    clouds = []
    for cloud in found.clouds:
        quantity = cloud.quantity.name
        if quantity in OKTAS:
            height = None if cloud.height is None else float(cloud.height) * FOOT_M
            kind = cloud.type.name if cloud.type is not None else ""
            clouds.append(Cloud(OKTAS[quantity], height, kind if kind in ("CB", "TCU") else "",
                                quantity))
        else:
            said["clear"] = True
    if clouds:
        said["clouds"] = tuple(clouds)
    if found.vertical_visibility is not None:
        said["upward_m"] = float(found.vertical_visibility) * FOOT_M
    weather = tuple(_code(w) for w in found.weather_conditions)
    if weather:
        said["weather"] = weather
    return said


def _code(condition: Any) -> str:
    parts = (condition.intensity, condition.descriptive, *condition.phenomenons)
    return "".join(p.value for p in parts if p is not None)


def _metres(distance: str, unit: str) -> float:
    """A sight in metres; `>10000` and the like are what they are at least."""
    text = distance.lstrip("<>PM ").strip()
    total = 0.0
    for part in text.split():
        top, _, bottom = part.partition("/")
        total += float(top) / float(bottom) if bottom else float(top)
    return total * STATUTE_MILE_M if unit.upper() == "SM" else total


def _at_hour(report: Report, found: Any, hour: int | None, day: int | None) -> Report:
    """A forecast at an hour (UTC): changes that have come by then are taken one after another."""
    begin = (found.validity.start_day, found.validity.start_hour)
    end = (found.validity.end_day, found.validity.end_hour)
    first = begin[1]
    span = ((end[1] - begin[1]) % 24) + 24 * ((end[0] - begin[0]) % 31 - (
        1 if end[1] < begin[1] else 0))
    since = 0 if hour is None else (hour - first) % 24
    if day is not None and hour is not None:
        since = hour - first + 24 * ((day - begin[0]) % 31)
    if not 0 <= since <= max(span, 0):
        raise WeatherError(f"hour: {hour} is not within the forecast, which runs from day "
                           f"{begin[0]} {begin[1]:02d} to day {end[0]} {end[1]:02d} UTC")

    def passed(validity: Any) -> int:
        return int(validity.start_hour - first + 24 * ((validity.start_day - begin[0]) % 31))

    passing = []
    for trend in found.trends:
        kind = trend.type.name
        at = passed(trend.validity)
        if kind in ("FM", "BECMG"):
            if kind == "BECMG":  # it has come at the end of its time
                at = int(trend.validity.end_hour) - first + 24 * (
                    (trend.validity.end_day - begin[0]) % 31)
            if at <= since:
                said = _conditions(trend)
                if kind == "FM":  # all is said anew
                    report = Report(report.station, report.day, report.hour, report.minute)
                elif "clouds" in said and "upward_m" not in said:
                    said |= {"upward_m": None, "clear": False}
                report = replace(report, **said)
        elif at <= since:
            passing.append(f"{kind} from {trend.validity.start_hour:02d}")
    there = begin[0] + (first + since) // 24
    return replace(report, day=there, hour=(first + since) % 24, minute=0, passing=tuple(passing))
