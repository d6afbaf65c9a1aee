"""The day ribbon: marks, hours and colours of one date at one site."""

from __future__ import annotations

import io
import re
from datetime import timedelta
from typing import Any

import ephem
import numpy as np
import pytest
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.air.sun_place import sun_day
from dovrek.core.colour.film import develop
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.sky.document import Sky
from dovrek.web.composer.day_clouds import (
    WHITE_K,
    at_share,
    clear_of,
    hours_of,
    key_of_day,
    ratio_of,
)
from dovrek.web.composer.ribbon import BAND, COLUMNS, ribbon_of, ribbon_png
from tests.conftest import sky_of

LONDON = {"latitude": 51.5, "longitude": -0.13, "timezone": "Europe/London"}
TROMSO = {"latitude": 69.65, "longitude": 18.96, "timezone": "Europe/Oslo"}


def on(date: str, site: dict[str, Any], time: str = "12:00") -> Sky:
    return sky_of(site=site, moment=f"{date}T{time}")


def clock(marks: list[Any], name: str) -> float:
    """Minutes after midnight of a mark."""
    hours, minutes = next(m.clock for m in marks if m.name == name).split(":")
    return 60.0 * int(hours) + int(minutes)


@pytest.mark.parametrize(("date", "rise", "sets"), [
    ("2026-06-21", "04:43", "21:21"), ("2026-12-21", "08:03", "15:53")])
def test_sun_over_london(date: str, rise: str, sets: str) -> None:
    """Sunrise and sunset at the solstices as almanacs print them, within three minutes (values
    from memory)."""
    found = ribbon_of(on(date, LONDON))
    for name, printed in (("sunrise", rise), ("sunset", sets)):
        hours, minutes = printed.split(":")
        assert clock(found.marks, name) == pytest.approx(60 * int(hours) + int(minutes), abs=3)
    assert found.note == (f"rises {next(m.clock for m in found.marks if m.name == 'sunrise')} · "
                          f"sets {next(m.clock for m in found.marks if m.name == 'sunset')}")


def test_marks_come_in_their_order() -> None:
    """Nautical before civil dawn before sunrise, and back again (definitions: 12°, 6° and the
    upper limb on the horizon)."""
    found = ribbon_of(on("2026-03-10", LONDON))
    assert [m.name for m in found.marks] == ["nautical dawn", "civil dawn", "sunrise", "sunset",
                                             "civil dusk", "nautical dusk"]
    shares = [m.share for m in found.marks]
    assert shares == sorted(shares) and shares[0] > 0.0 and shares[-1] < 1.0
    assert found.share == pytest.approx(0.5, abs=0.001) and found.clock == "12:00"


@pytest.mark.parametrize(("date", "minutes"), [
    ("2026-03-29", 23 * 60), ("2026-10-25", 25 * 60), ("2026-07-01", 24 * 60)])
def test_days_on_which_clocks_are_changed(date: str, minutes: int) -> None:
    """The last Sundays of March and October have 23 and 25 hours in London (EU and UK law); the
    hours are spread over what the day has."""
    found = ribbon_of(on(date, LONDON))
    assert found.minutes == minutes
    places = {name: place for place, name in found.hours}
    assert places["0"] == 0.0 and places["24"] == 1.0
    passed = {23 * 60: 11, 25 * 60: 13}.get(minutes, 12)
    assert places["12"] == pytest.approx(60 * passed / minutes, abs=1e-9)


def test_polar_day_and_night_are_named() -> None:
    summer, winter = ribbon_of(on("2026-06-10", TROMSO)), ribbon_of(on("2026-12-15", TROMSO))
    assert summer.note == "polar day: the sun does not set" and not summer.marks
    assert winter.note == "polar night: the sun does not rise"
    assert {m.name for m in winter.marks} >= {"civil dawn", "civil dusk"}  # it dawns all the same


def test_the_moons_path_spans_the_day() -> None:
    path = ribbon_of(on("2026-06-21", LONDON)).moon_path
    points = [tuple(map(float, p.split(","))) for p in path[1:].split(" L")]
    assert path.startswith("M") and points[0][0] == 0.0 and points[-1][0] == 1000.0
    heights = [y for _, y in points]
    assert 2.0 < min(heights) < max(heights) <= 24.0


def strip(studio: Studio, sky: Sky) -> NDArray[np.float64]:
    """(2, 288, 3) codes of the zenith and of the horizon under the sun."""
    atmosphere = studio.preparer.atmosphere(sky, Cancel(), draft=True)
    with Image.open(io.BytesIO(ribbon_png(sky, atmosphere))) as image:
        assert image.size == (COLUMNS, 2 * BAND)
        codes = np.asarray(image.convert("RGB"), dtype=float)
    assert (codes[1:BAND] == codes[0]).all() and (codes[BAND + 1:] == codes[-1]).all()
    return codes[[0, -1]]


def test_dawn_noon_and_dusk_read_at_a_glance(studio: Studio) -> None:
    """Night is dark and a noon's zenith blue; the horizon is white by day, gold by a low sun and
    red after it; no step stands out."""
    zenith, horizon = strip(studio, on("2026-03-20", LONDON))
    noon = COLUMNS // 2
    assert zenith[2].max() < 25.0 and horizon[2].max() < 25.0
    assert zenith[noon, 2] > 1.25 * zenith[noon, 0] and horizon[noon].min() > 150.0
    day = sun_day(on("2026-03-20", LONDON), COLUMNS + 1)
    heights = np.degrees(day.elevations_true[:-1])
    for low, high, ratio in ((2.0, 5.0, 1.25), (-4.0, -1.0, 1.5)):
        there = (heights > low) & (heights < high)
        assert there.sum() > 4
        assert (horizon[there, 0] / horizon[there, 2]).min() > ratio
        # overhead it stays blue
        assert (zenith[there, 2] / zenith[there, 0]).min() > 1.1
    for band in (zenith, horizon):
        assert np.abs(np.diff(band.sum(axis=1))).max() < 120.0


def test_polar_noon_is_dim(studio: Studio) -> None:
    """Without a sun the strip is never as bright as a day's, and still not black at noon."""
    winter = strip(studio, on("2026-12-15", TROMSO)).sum(axis=2)
    summer = strip(studio, on("2026-06-10", TROMSO)).sum(axis=2)
    assert winter.max(axis=1).min() > 60.0
    assert winter[0].max() < 0.8 * summer[0].max()
    assert summer[1].min() > 150.0


def test_the_moons_hours_are_said() -> None:
    """Against ephem's own rising and setting (VSOP and ELP series), whose horizon counts refraction
    and the moon's size: within eight minutes."""
    sky = on("2026-06-21", LONDON)
    said = ribbon_of(sky).moon
    assert said.startswith("moon ") and " %, " in said
    observer = ephem.Observer()
    observer.lat, observer.lon = str(LONDON["latitude"]), str(LONDON["longitude"])
    observer.date = "2026/6/20 23:00"
    for word, moment in (("sets", observer.next_setting(ephem.Moon())),
                         ("rises", observer.next_rising(ephem.Moon()))):
        clock = re.search(rf"{word} (\d+):(\d+)", said)
        assert clock is not None
        wanted = moment.datetime() + timedelta(hours=1)  # summer time
        apart = int(clock[1]) * 60 + int(clock[2]) - wanted.hour * 60 - wanted.minute
        assert abs(apart) <= 8


def test_hours_looked_at_lie_in_the_light() -> None:
    """A dozen, in order, while the sun is up or nearly; none in a polar night."""
    hours = hours_of(on("2026-06-21", LONDON))
    assert len(hours) == 12 and hours == sorted(hours)
    assert 0.1 < hours[0] < 0.2 and 0.85 < hours[-1] < 0.95
    assert hours_of(on("2026-12-21", {**TROMSO, "latitude": 82.0})) == []


def test_a_day_is_known_by_what_its_clouds_hang_on() -> None:
    """The hour, the framing and the film change nothing; a layer, the date and the haze do."""
    layer = {"genus": "cumulus", "id": "a"}
    base = sky_of(layers=[layer], moment="2026-06-21T12:00")
    key = key_of_day(base)
    for same in ({"moment": "2026-06-21T17:30"}, {"camera": {"heading_deg": 90, "lens_mm": 50}},
                 {"film": {"contrast": 1.3}}, {"name": "Other"}):
        told = {"layers": [layer], "moment": "2026-06-21T12:00", **same}
        assert key_of_day(sky_of(**told)) == key
    for other in ({"moment": "2026-06-22T12:00"}, {"air": {"haze": 0.4}},
                  {"layers": [{**layer, "cover_oktas": 7}]}):
        assert key_of_day(sky_of(**{"layers": [layer], "moment": "2026-06-21T12:00",
                                    **other})) != key


def test_a_clear_dome_leaves_the_light_as_it_is_and_an_overcast_one_greys_it(
        studio: Studio) -> None:
    """Ratios read from a painted dome: about 1 without cloud (within a fifth, eight bits), and
    under stratus the zenith loses its blue."""
    atmosphere = studio.preparer.atmosphere(on("2026-06-21", LONDON), Cancel())
    found = {}
    for cover in (0.0, 8.0):
        sky = at_share(sky_of(site=LONDON, moment="2026-06-21T12:00", layers=[
            {"genus": "stratus", "id": "a", "cover_oktas": cover}]), 0.45)
        clear, ev = clear_of(sky, atmosphere)
        light = studio.render(sky, Wish(128, 64, "sketch", "dome")).light
        file = io.BytesIO()
        Image.fromarray(develop(light, ev, WHITE_K)).save(file, "PNG")
        found[cover] = ratio_of(file.getvalue(), sky, clear, ev)
    assert found[0.0][0] == pytest.approx(np.ones(3), rel=0.2)
    zenith = found[8.0][0]
    assert zenith[2] / zenith[0] < 0.75


def test_clouds_are_laid_over_the_hours_they_are_known_for(studio: Studio) -> None:
    """The strip greys and darkens by the ratios, between the hours as well."""
    sky = on("2026-06-21", LONDON)
    atmosphere = studio.preparer.atmosphere(sky, Cancel())
    grey = ((0.3, (0.5, 0.5, 0.3) * 2), (0.7, (0.5, 0.5, 0.3) * 2))
    plain, under = (np.asarray(Image.open(io.BytesIO(ribbon_png(sky, atmosphere, c)))).astype(int)
                    for c in ((), grey))
    noon = COLUMNS // 2
    assert under[5, noon].sum() < plain[5, noon].sum()
    assert under[5, noon, 2] - under[5, noon, 0] < plain[5, noon, 2] - plain[5, noon, 0]


def test_the_day_is_the_site_s_however_high_the_camera() -> None:
    """From orbit the zenith is black at noon; the ribbon tells of the sky below."""
    sky = at_share(sky_of(site=LONDON, moment="2026-06-21T12:00", camera={"altitude_m": 400_000}),
                   0.5)
    assert 0.0 < sky.camera.altitude_m <= 1000.0
    low = sky_of(site=LONDON, moment="2026-06-21T12:00", camera={"altitude_m": 60})
    assert at_share(low, 0.5).camera == low.camera
