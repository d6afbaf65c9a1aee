"""The day ribbon: marks, hours and colours of one date at one site."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
import pytest
from PIL import Image

from dovrek.core.picture.studio import Studio
from dovrek.core.run.workers import Cancel
from dovrek.sky.document import Sky
from dovrek.web.composer.ribbon import COLUMNS, ribbon_of, ribbon_png
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


def strip(studio: Studio, sky: Sky) -> np.ndarray:
    atmosphere = studio.preparer.atmosphere(sky, Cancel(), draft=True)
    with Image.open(io.BytesIO(ribbon_png(sky, atmosphere))) as image:
        assert image.size == (COLUMNS, 2)
        return np.asarray(image.convert("RGB"), dtype=float)[0]


def test_colours_of_the_day(studio: Studio) -> None:
    """Night is dark, noon is the brightest and blue, dusk is in between and even from column to
    column."""
    colours = strip(studio, on("2026-03-20", LONDON))
    midnight, noon = colours[2], colours[COLUMNS // 2]
    assert midnight.max() < 25.0 < 110.0 < noon.min()
    assert noon[2] > 1.2 * noon[0]
    bright = colours.sum(axis=1)
    assert abs(int(bright.argmax()) - COLUMNS // 2) < COLUMNS // 6
    assert np.abs(np.diff(bright)).max() < 90.0


def test_polar_noon_is_dim(studio: Studio) -> None:
    """Without a sun the strip is never as bright as a day's, and still not black at noon."""
    winter = strip(studio, on("2026-12-15", TROMSO)).sum(axis=1)
    summer = strip(studio, on("2026-06-10", TROMSO)).sum(axis=1)
    assert 40.0 < winter.max() < 0.8 * summer.max()
    assert summer.min() > 100.0
