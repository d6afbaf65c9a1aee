"""What the sky's own clouds make of the day ribbon: a small dome for some hours of the date,
painted when nothing else is to be done, and its colours over the clear sky's."""

from __future__ import annotations

import hashlib
import io
import math
from collections import OrderedDict
from threading import Lock

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.air.sky_view import SHADE_NODES, hemispheres, radiances
from dovrek.core.air.sun_place import local_day, sun_day, sun_place
from dovrek.core.colour.film import ISO_CONSTANT, undeveloped
from dovrek.core.prepare.atmosphere import Atmosphere
from dovrek.sky.document import Film, Sky
from dovrek.web.composer.ribbon import LOOKS
from dovrek.web.live.boards import Board, Frame
from dovrek.web.live.live import Live
from dovrek.web.live.looks import Look

HOURS, LOWEST_SUN = 12, math.radians(-5.0)  # looked at in a day; none with the sun lower
WIDTH, WHITE_K = 128, 5600.0
OVERHEAD_DEG, LOW_DEG, ASIDE_DEG = 25.0, (2.0, 9.0), 45.0  # what counts as zenith and as horizon
EYE_M = 1000.0  # the highest that the day is looked at from: the ribbon tells of the site
LEAST, MOST = 0.05, 6.0  # of the clear sky's light
SKIES_KEPT = 24

Ratio = NDArray[np.float64]  # (2, 3): zenith and horizon, XYZ over the clear sky's


class DayClouds:
    """Ratios of some hours of a sky's day, as far as they have been painted."""

    def __init__(self, wanted: int) -> None:
        self.wanted = wanted
        self.found: dict[float, Ratio] = {}  # by share of the day

    @property
    def told(self) -> tuple[tuple[float, tuple[float, ...]], ...]:
        """What has been found, in the order of the hours, as plain numbers."""
        return tuple((share, tuple(np.round(ratio.ravel(), 4).tolist()))
                     for share, ratio in sorted(self.found.items()))


_KNOWN: OrderedDict[str, DayClouds] = OrderedDict()
_ORDERED: dict[str, tuple[str, list[int]]] = {}  # by sky: the day last asked for, its boards
_LOCK = Lock()


def key_of_day(sky: Sky) -> str:
    """A short digest of what a day's clouds hang on: all but the hour, framing, film and names."""
    date = local_day(sky)[0].date().isoformat()
    told = sky.model_dump_json(exclude={"name": True, "moment": True, "film": True, "motion": True,
                                        "behind": True, "camera": {"heading_deg", "pitch_deg",
                                                                   "roll_deg", "lens_mm",
                                                                   "sensor_width_mm", "aspect"}})
    return hashlib.blake2b((date + told).encode(), digest_size=8).hexdigest()


def hours_of(sky: Sky) -> list[float]:
    """Shares of the site's date that are looked at: evenly spread while the sun is up or nearly."""
    day = sun_day(sky, 97)
    light = [k / 96 for k, e in enumerate(day.elevations_true) if e > LOWEST_SUN]
    if not light:
        return []
    picked = np.linspace(0, len(light) - 1, min(HOURS, len(light))).round().astype(int)
    return [light[k] for k in dict.fromkeys(picked.tolist())]


def at_share(sky: Sky, share: float) -> Sky:
    """The sky at a share of its date, under the sun of the clock, from an eye that is not above it.
    """
    start, end = local_day(sky)
    moment = (start + share * (end - start)).isoformat()
    sun = sky.sun.model_copy(update={"mode": "clock"})
    camera = sky.camera.model_copy(update={"altitude_m": min(sky.camera.altitude_m, EYE_M)})
    return sky.model_copy(update={"moment": moment, "sun": sun, "camera": camera})


def clear_of(sky: Sky, atmosphere: Atmosphere) -> tuple[Ratio, float]:
    """(2, 3) XYZ of the clear zenith and horizon, and the exposure that shows such a sky."""
    elevation = sun_place(sky).elevation_true
    air = (atmosphere.media, atmosphere.sun, atmosphere.scattered)
    mean = float(hemispheres(*air, np.ones(SHADE_NODES), 2.0, elevation, 1.0)[0, 1])
    return radiances(*air, elevation, LOOKS), math.log2(max(mean, 1e-4) / ISO_CONSTANT) - 0.5


def ratio_of(png: bytes, sky: Sky, clear: Ratio, ev: float) -> Ratio:
    """What a dome's zenith and the horizon below the sun are over the clear sky's."""
    codes = np.asarray(Image.open(io.BytesIO(png)).convert("RGB"), dtype=np.float32) / 255.0
    light = undeveloped(codes, ev, WHITE_K).astype(np.float64)
    rows, columns, _ = light.shape
    height = 90.0 - (np.arange(rows) + 0.5) / rows * 180.0
    bearing = (np.arange(columns) + 0.5) / columns * 360.0 - 180.0
    off = np.abs((bearing - math.degrees(sun_place(sky).azimuth) + 180.0) % 360.0 - 180.0)
    overhead = light[height > 90.0 - OVERHEAD_DEG].mean(axis=(0, 1))
    low = light[(height > LOW_DEG[0]) & (height < LOW_DEG[1])][:, off < ASIDE_DEG].mean(axis=(0, 1))
    found = np.stack([overhead, low]) / np.maximum(clear, 1e-9)
    return np.asarray(np.clip(found, LEAST, MOST))


def clouds_of(slug: str, sky: Sky, atmosphere: Atmosphere, live: Live) -> DayClouds | None:
    """What is known of a sky's day under its clouds, ordered if it has not been; None for a clear
    sky. What was ordered of the same sky as it was before is given up."""
    if not any(x.visible and (x.cover_oktas > 0.0 or x.heroes) for x in sky.layers):
        return None
    key = key_of_day(sky)
    with _LOCK:
        known = _KNOWN.get(key)
        if known is not None:
            _KNOWN.move_to_end(key)
            return known
        before, boards = _ORDERED.get(slug, ("", []))
        for board in boards:
            live.boards.drop(board)
        if before in _KNOWN and len(_KNOWN[before].found) < _KNOWN[before].wanted:
            del _KNOWN[before]
        hours = hours_of(sky)
        known = _KNOWN[key] = DayClouds(len(hours))
        while len(_KNOWN) > SKIES_KEPT:
            _KNOWN.popitem(last=False)
        _ORDERED[slug] = key, [_order(sky, share, atmosphere, known, live) for share in hours]
    return known


def _order(sky: Sky, share: float, atmosphere: Atmosphere, known: DayClouds, live: Live) -> int:
    """Have an hour painted; the number of its board."""
    there = at_share(sky, share)
    clear, ev = clear_of(there, atmosphere)
    there = there.model_copy(update={"film": Film(exposure_ev=float(np.clip(ev, -12.0, 22.0)),
                                                  white_balance_k=WHITE_K, curve="plain")})

    def keep(png: bytes) -> None:  # on the render thread
        known.found[share] = ratio_of(png, there, clear, ev)

    return live.order(Board("", "day ribbon", [Frame(there.moment, there, lambda s: s)], WIDTH,
                            "sketch", look=Look("dome"), patient=True, kept=keep)).id
