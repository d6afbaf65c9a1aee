"""The sun's place against published values and an independent package."""

from __future__ import annotations

import math
from datetime import UTC, datetime

import numpy as np
import pandas as pd
import pytest
from pvlib import solarposition

from dovrek.core.air.sun_place import (
    THRESHOLDS_DEG,
    Place,
    refraction_of_true,
    sun_day,
    sun_place,
    true_of_apparent,
)
from dovrek.core.geometry.travel import from_site
from tests.conftest import free_sun, sky_of

SITES = [(53.4, -0.2), (0.0, 0.0), (-33.9, 18.4), (64.1, -21.9), (35.7, 139.7), (-54.8, -68.3),
         (40.4, -3.7), (19.4, -99.1), (1.3, 103.8), (-77.8, 166.7)]


def test_worked_example_of_reda_and_andreas() -> None:
    """NREL/TP-560-34302: zenith 50.1116°, azimuth 194.3402° within 0.01° (their refraction is
    for 820 hPa, 11 °C: compare true places, zenith 50.1116° + 0.0165°·… by their eq. 42)."""
    sky = sky_of(site={"latitude": 39.742476, "longitude": -105.1786, "elevation_m": 1830.14,
                       "timezone": "America/Denver"}, moment="2003-10-17T12:30:30-07:00")
    place = sun_place(sky)
    zenith_apparent, pressure, celsius = 50.1116, 820.0, 11.0
    apparent = 90.0 - zenith_apparent
    refraction = (pressure / 1010.0) * (283.0 / (273.0 + celsius)) * 1.02 / (
        60.0 * math.tan(math.radians(apparent + 10.3 / (apparent + 5.11))))
    assert math.degrees(place.elevation_true) == pytest.approx(apparent - refraction, abs=0.01)
    assert math.degrees(place.azimuth) == pytest.approx(194.3402, abs=0.01)


@pytest.mark.parametrize(("latitude", "longitude"), SITES)
def test_year_against_spa(latitude: float, longitude: float) -> None:
    """Within 0.01° of pvlib's SPA at ten sites and dates, above 5° elevation."""
    compared = 0
    for month in range(1, 11):
        for hour in (3, 9, 15, 21):
            moment = datetime(2020 + month, month, 3 + month, hour, 20, tzinfo=UTC)
            spa = solarposition.spa_python(pd.DatetimeIndex([moment]), latitude, longitude,
                                           altitude=0.0)
            if spa["elevation"].iloc[0] < 5.0:
                continue
            place = sun_place(sky_of(site={"latitude": latitude, "longitude": longitude,
                                           "elevation_m": 0, "timezone": "UTC"},
                                     moment=moment.isoformat()))
            assert math.degrees(place.elevation_true) == pytest.approx(
                spa["elevation"].iloc[0], abs=0.01)
            turn = math.degrees(place.azimuth) - spa["azimuth"].iloc[0]
            assert abs((turn + 180) % 360 - 180) * math.cos(place.elevation_true) < 0.01
            compared += 1
    assert compared > 3


def test_rise_set_and_twilights_cross_their_elevations() -> None:
    """True elevation −0.833°, −6°, −12°, −18° at the events (astronomical convention)."""
    sky = sky_of(site={"latitude": 51.5, "longitude": 0.0, "elevation_m": 0,
                       "timezone": "Europe/London"}, moment="2026-03-21T12:00")
    events = sun_day(sky).events
    assert [e.kind for e in events] == ["astronomical", "nautical", "civil", "sun",
                                        "sun", "civil", "nautical", "astronomical"]
    for event in events:
        at = sky.model_copy(update={"moment": event.moment.isoformat()})
        assert math.degrees(sun_place(at).elevation_true) == pytest.approx(
            THRESHOLDS_DEG[event.kind], abs=0.02)


@pytest.mark.parametrize(("date", "up"), [("2026-06-21", True), ("2026-12-21", False)])
def test_polar_day_and_night(date: str, up: bool) -> None:
    day = sun_day(sky_of(site={"latitude": 78.2, "longitude": 15.6,
                               "timezone": "Arctic/Longyearbyen"}, moment=f"{date}T12:00"))
    assert day.always_up is up and day.never_up is not up
    assert day.first("sun", True) is None


def test_refraction_lifts_the_horizon_by_half_a_degree_and_stops_below() -> None:
    """About 29' at true −0.57° (Sæmundsson 1986, Sky & Telescope 72); none below −1°."""
    assert refraction_of_true(0.0) * 60 == pytest.approx(29.0, abs=1.0)
    assert refraction_of_true(-1.01) == 0.0
    for apparent in np.linspace(-0.3, 89.0, 40):
        true = true_of_apparent(float(apparent))
        assert true + refraction_of_true(true) == pytest.approx(apparent, abs=1e-3)


def test_free_mode_sets_the_apparent_elevation() -> None:
    place = sun_place(free_sun(0.5))
    assert math.degrees(place.elevation) == pytest.approx(0.5)
    assert math.degrees(place.elevation_true) < 0.2


def test_clock_follows_zone_and_offset() -> None:
    """The same instant written with an offset or as local time is the same sun."""
    local = sun_place(sky_of(moment="2026-06-21T13:00"))
    offset = sun_place(sky_of(moment="2026-06-21T12:00+00:00"))
    assert local == offset


@pytest.mark.parametrize("moment", ["2026-03-20T10:00:00+00:00", "2026-06-21T16:00:00+00:00"])
def test_a_camera_far_from_the_site_sees_the_sun_that_stands_there(moment: str) -> None:
    """Twenty degrees along the equator, and along a meridian, less the half degree in which the sky
    stays the site's: as at a site there. The sun is so far off that it does not move."""
    def place(latitude: float, longitude: float, **camera: float) -> Place:
        return sun_place(sky_of(site={"latitude": latitude, "longitude": longitude,
                                      "timezone": "UTC"}, moment=moment, camera=camera))

    degree_m = math.radians(1.0) * 6_371_000.0
    for there, gone in ((place(0.0, 19.5), place(0.0, 0.0, east_m=20.0 * degree_m)),
                        (place(19.5, 10.0), place(0.0, 10.0, north_m=20.0 * degree_m))):
        assert gone.elevation == pytest.approx(there.elevation, abs=math.radians(0.02))
        assert gone.azimuth == pytest.approx(there.azimuth, abs=math.radians(0.05))
    near = place(0.0, 0.0, east_m=0.4 * degree_m)
    assert near == place(0.0, 0.0)  # passing by clouds leaves the light as it is


def test_a_sun_set_by_hand_stays_put_too() -> None:
    """30° high in the east over the site: 40° under a camera that has gone 10.5° toward it."""
    degree_m = math.radians(1.0) * 6_371_000.0
    sky = sky_of(site={"latitude": 0.0, "longitude": 0.0, "timezone": "UTC"},
                 sun={"mode": "free", "elevation_deg": 30, "azimuth_deg": 90},
                 camera={"east_m": 10.5 * degree_m})
    found = sun_place(sky)
    assert math.degrees(found.elevation_true) == pytest.approx(39.98, abs=0.05)
    assert math.degrees(found.azimuth) == pytest.approx(90.0, abs=0.01)
    back = from_site(sky, np.array(found.vector))
    assert math.degrees(math.asin(back[2])) == pytest.approx(30.0, abs=0.05)
