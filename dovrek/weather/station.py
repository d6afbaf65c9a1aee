"""A simulated station: an invented place and a day of its reports, in place of a live feed.

A fair summer's day by a small seeded model: mist at dawn, heaps that grow with the warmth and lift
their bases, a shower in the afternoon on some days, veils toward evening.
"""

from __future__ import annotations

import math
import random
from typing import Any

from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data, sky_to_data
from dovrek.weather.report import read_report
from dovrek.weather.sky_of import sky_of_report

CODE, PLACE = "ZZDV", "Saltings, an invented place"
HOURS = range(24)
HOUR_S = 3600.0
CODES = ((0.5, ""), (2.5, "FEW"), (4.5, "SCT"), (7.5, "BKN"), (9.0, "OVC"))


def reports_of_day(seed: int, day: int = 21) -> list[str]:
    """A METAR for each hour (UTC) of a day, the same for the same seed."""
    deal = random.Random(seed)
    warmth, moist = deal.uniform(17.0, 25.0), deal.uniform(7.0, 12.0)
    turn, speed = deal.uniform(200.0, 290.0), deal.uniform(3.0, 9.0)
    showers, veils = deal.random() < 0.5, deal.uniform(1.0, 6.0)
    found = []
    for hour in HOURS:
        sun = max(math.sin((hour - 5.0) / 15.0 * math.pi), 0.0) if 5 <= hour <= 20 else 0.0
        lag = max(math.sin((hour - 6.5) / 15.0 * math.pi), 0.0) if 6.5 <= hour <= 21.5 else 0.0
        warm = moist + 2.0 + (warmth - moist - 2.0) * lag
        dew = min(moist + 0.8 * math.sin(hour * 0.5) + deal.uniform(-0.4, 0.4), warm)
        wind = speed * (0.5 + 0.8 * lag) * deal.uniform(0.9, 1.15)
        bearing = round((turn + 18.0 * lag + deal.uniform(-8, 8)) % 360.0 / 10.0) * 10 or 360
        groups = [f"{bearing:03d}{max(round(wind / 0.514444), 2):02d}KT"]
        spread = warm - dew
        shower = showers and 14 <= hour <= 16
        if spread < 1.2 and 3 <= hour <= 6:
            groups += ["0800", "FG", "VV002"]
        else:
            sight = 4000 if spread < 2.2 else 9999
            groups.append(f"{sight:04d}")
            if shower:
                groups.append("-SHRA")
            elif spread < 2.2:
                groups.append("BR")
            heaps = 6.5 * sun * (0.55 + 0.45 * lag) * deal.uniform(0.75, 1.1)
            base_ft = max(spread * 125.0 / 0.3048, 400.0)
            for cover, height, kind in ((heaps, base_ft, "TCU" if shower else ""),
                                        (veils * min(max((hour - 9) / 8, 0.0), 1.0), 26000.0, "")):
                code = next(text for most, text in CODES if cover < most)
                if code:
                    groups.append(f"{code}{round(height / 100.0):03d}{kind}")
            if not any(g[:3] in ("FEW", "SCT", "BKN", "OVC") for g in groups):
                groups.append("NSC")
        groups.append(f"{_degrees(warm)}/{_degrees(dew)}")
        groups.append(f"Q{1016 + round(2 * math.sin(hour / 24 * 2 * math.pi)):04d}")
        found.append(f"METAR {CODE} {day:02d}{hour:02d}00Z {' '.join(groups)}")
    return found


def _degrees(value: float) -> str:
    return f"{'M' if value < -0.5 else ''}{abs(round(value)):02d}"


def sky_of_day(texts: list[str], base: Sky) -> Sky:
    """A sky that moves through a day of hourly reports: an hour of it in a second of the clip. Each
    genus that is reported is a layer whose cover and base are keyed; sight is the air's haze."""
    reports = [read_report(text) for text in texts]
    skies = [sky_of_report(report, base)[0] for report in reports]
    names: list[str] = []
    for sky in skies:
        names += [x.genus for x in sky.layers if x.genus not in names]
    data: dict[str, Any] = sky_to_data(skies[0])
    keys: dict[str, Any] = {
        "air.haze": _keyed([s.air.haze for s in skies]),
        "air.haze_height_m": _keyed([s.air.haze_height_m for s in skies])}
    layers: list[dict[str, Any]] = []
    for genus in names:
        there = [next((x for x in s.layers if x.genus == genus), None) for s in skies]
        model = max((x for x in there if x is not None), key=lambda x: x.cover_oktas)
        layer = model.model_dump()
        layer |= {"id": genus, "name": ""}
        layers.append(layer)
        # A layer that is not reported has no cover; its base stays that of the nearest hour.
        keys[f"layers[{genus}].cover_oktas"] = _keyed([x.cover_oktas if x else 0.0 for x in there])
        keys[f"layers[{genus}].base_m"] = _keyed(_filled([x.base_m if x else None for x in there]))
    keys = {path: found for path, found in keys.items()
            if len({point[1] for point in found["points"]}) > 1}
    data |= {"name": f"{reports[0].station}, a day", "layers": layers, "motion": {
        "length_s": float(len(reports) - 1), "fps": 24.0, "time_scale": HOUR_S, "keys": keys}}
    return sky_from_data(data)


def _keyed(values: list[float]) -> dict[str, Any]:
    """Keys at every second whose value is not between its neighbours' by itself."""
    last = len(values) - 1
    points = [[float(k), v, "linear"] for k, v in enumerate(values)
              if k in (0, last) or not values[k - 1] == v == values[k + 1]]
    return {"points": points}


def _filled(values: list[float | None]) -> list[float]:
    known = [k for k, v in enumerate(values) if v is not None]
    return [float(values[min(known, key=lambda j: abs(j - k))] or 0.0)
            for k in range(len(values))]

