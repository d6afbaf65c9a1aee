"""Weather reports: what their groups say (WMO-No. 306, ICAO Annex 3) and the skies they become.

The reports are invented; stations are letters of the code alone.
"""

from __future__ import annotations

import json
import string
from typing import Any

import pytest
from click.testing import CliRunner
from hypothesis import given, settings
from hypothesis import strategies as st

from dovrek.cli import main
from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyError
from dovrek.weather.report import Report, WeatherError, read_report
from dovrek.weather.sky_of import sky_of_report

BASE = Sky.model_validate({"dovrek": 1, "moment": "2026-06-21T12:00:00",
                           "site": {"elevation_m": 100.0}})


def sky(text: str, **more: Any) -> Sky:
    return sky_of_report(read_report(text, **more), BASE)[0]


@pytest.mark.parametrize(("group", "oktas", "height_ft", "genus"), [
    ("FEW018", (1, 2), 1800, "cumulus"),
    ("SCT030", (3, 4), 3000, "cumulus"),
    ("BKN040", (5, 7), 4000, "stratocumulus"),
    ("OVC010", (8, 8), 1000, "stratus"),
    ("SCT100", (3, 4), 10000, "altocumulus"),
    ("OVC110", (8, 8), 11000, "altostratus"),
    ("BKN250", (5, 7), 25000, "cirrus"),
    ("OVC260", (8, 8), 26000, "cirrostratus"),
    ("SCT020TCU", (3, 4), 2000, "cumulus"),
    ("BKN030CB", (5, 7), 3000, "cumulonimbus"),
])
def test_cloud_groups(group: str, oktas: tuple[int, int], height_ft: int, genus: str) -> None:
    """FEW 1–2, SCT 3–4, BKN 5–7, OVC 8 oktas; heights in hundreds of feet above the ground."""
    found = sky(f"METAR ABCD 211150Z 24012KT 9999 {group} 18/09 Q1015")
    (layer,) = found.layers
    if group == "OVC010":
        assert layer.genus in ("stratus", "stratocumulus")
    else:
        assert layer.genus == genus
    assert oktas[0] <= layer.cover_oktas <= oktas[1]
    assert layer.base_m == pytest.approx(100.0 + height_ft * 0.3048, abs=1.0)
    assert (layer.species == "congestus") == group.endswith("TCU")


def test_wind_sight_and_time() -> None:
    """KT = .514444 m/s, 1 SM = 1609.344 m; the moment is the report's, in UTC."""
    report = read_report("ABCD 121651Z 31015G30KT 1 1/2SM -RA BR OVC008 10/M02 A2990 RMK AO2")
    assert report.wind_deg == 310.0 and report.wind_m_s == pytest.approx(15 * 0.514444)
    assert report.gust_m_s == pytest.approx(30 * 0.514444)
    assert report.sight_m == pytest.approx(1.5 * 1609.344)
    assert (report.temperature_c, report.dew_point_c) == (10, -2)
    found, told = sky_of_report(report, BASE)
    assert found.moment.startswith("2026-06-12T16:51") and found.sun.mode == "clock"
    (layer,) = found.layers
    assert layer.genus == "nimbostratus" and layer.fall.amount == 0.3 and layer.fall.reach == 1.0
    assert 310.0 < layer.wind.from_deg < 345.0
    assert layer.wind.speed_m_s > report.wind_m_s
    # Koschmieder: what is left of the contrast at the end of sight is 2 %.
    per_km = found.air.haze / (found.air.haze_height_m * 1e-3) + 0.012
    assert 3.912 / per_km == pytest.approx(1.5 * 1.609344, rel=0.03)
    assert {t.group for t in told} >= {"time", "sight", "-RA", "wind"}


def test_hidden_skies_clear_skies_and_calm() -> None:
    fog = read_report("ABCD 010600Z 00000KT 0200 R27/0300 FG VV001 05/05 Q1030")
    assert fog.upward_m == pytest.approx(30.48) and "FG" in fog.weather and fog.wind_deg is None
    (layer,) = sky_of_report(fog, BASE)[0].layers
    assert layer.genus == "stratus" and layer.cover_oktas == 8.0
    for text in ("ABCD 010000Z 18020KT CAVOK 25/10 Q1012",
                 "ABCD 010000Z 18020KT 9999 NSC 25/10 Q1012"):
        found = sky(text)
        assert found.layers == [] and found.air.haze < 0.2


def test_unknown_groups_are_listed_and_the_rest_kept() -> None:
    report = read_report("ABCD 211150Z 24012KT 9999 XYZZY FEW018 QQ/77 18/09 Q1015")
    assert report.unknown == ("XYZZY", "QQ/77")
    assert ("FEW018", "cloud: cover, height, kind") in report.lines
    assert len(sky("ABCD 211150Z 24012KT 9999 XYZZY FEW018 18/09 Q1015").layers) == 1


TAF = ("TAF ABCD 150500Z 1506/1612 17005KT 6000 SCT012 TEMPO 1506/1509 3000 BR BKN006 "
       "BECMG 1509/1511 9000 SCT030 BECMG 1515/1517 CAVOK FM151900 24015KT 5000 RA OVC010")


@pytest.mark.parametrize(("hour", "day", "base_ft", "sight_m"), [
    (6, None, 1200, 6000.0), (10, None, 1200, 6000.0), (12, None, 3000, 9000.0),
    (18, None, None, 10000.0), (20, None, 1000, 5000.0), (10, 16, 1000, 5000.0),
])
def test_the_hour_of_a_forecast(hour: int, day: int | None, base_ft: int | None,
                                sight_m: float) -> None:
    """BECMG has come at the end of its time, FM says all anew, TEMPO passes."""
    report = read_report(TAF, hour, day)
    assert report.sight_m == sight_m
    heights = [c.height_m for c in report.clouds]
    assert heights == ([] if base_ft is None else [pytest.approx(base_ft * 0.3048)])
    assert report.hour == hour
    if hour == 6:
        assert report.passing


def test_what_is_no_report_is_refused_in_words() -> None:
    for text, part in (("", "station"), ("hello", "station"), ("x" * 5000, "bytes"),
                       ("ABCD 211150Z \x07", "signs"), ("ABCD 219999", "station")):
        with pytest.raises(WeatherError, match=part):
            read_report(text)
    with pytest.raises(WeatherError, match="hour"):
        read_report(TAF, 10, 20)


GROUPS = st.sampled_from([
    "FEW", "SCT", "BKN", "OVC", "018", "///", "CB", "TCU", "VV001", "CAVOK", "9999", "0000",
    "24012KT", "VRB99G99KT", "M99/M99", "//", "Q1015", "+SHRA", "RMK", "BECMG", "FM151900", "1/4SM",
    "R27/0300", "\u00e9", "-", "999999Z"])


@given(st.lists(st.one_of(GROUPS, st.text(string.printable, max_size=9)), max_size=12))
@settings(max_examples=300, deadline=None)
def test_any_text_is_read_or_refused(groups: list[str]) -> None:
    for head in ("ABCD 211150Z ", "TAF ABCD 150500Z 1506/1612 ", ""):
        try:
            report = read_report(head + " ".join(groups))
            sky_of_report(report, BASE)
        except (WeatherError, SkyError):
            continue
        assert isinstance(report, Report)


def test_the_command_prints_a_sky_that_is_taken() -> None:
    text = "ABCD 211150Z 24012KT 9999 FEW018 BKN250 18/09 Q1015"
    found = CliRunner().invoke(main, ["metar", text, "--explain"])
    assert found.exit_code == 0, found.output
    said = json.loads(found.stdout)
    assert [x["genus"] for x in said["layers"]] == ["cumulus", "cirrus"]
    assert Sky.model_validate(said).name.startswith("ABCD")
    assert "FEW 549 m: cumulus" in found.stderr
    refused = CliRunner().invoke(main, ["metar", "garbage"])
    assert refused.exit_code == 2 and "begins like" in refused.stderr
