"""EPW files: read as pvlib reads them, and the skies of their hours. The file is invented."""

from __future__ import annotations

import json
import math
from pathlib import Path

import pytest
from click.testing import CliRunner

from dovrek.cli import main
from dovrek.sky.document import Sky
from dovrek.weather.epw import hour_at, read_epw
from dovrek.weather.report import WeatherError
from dovrek.weather.sky_of import sky_of_record

BASE = Sky.model_validate({"dovrek": 1, "moment": "2026-03-01T12:00:00"})


def made(**changes: str) -> str:
    """A day of June at an invented place: clear, then heaps under a veil, then overcast."""
    head = ["LOCATION,Saltings,-,-,invented,999999,52.5,0.3,0.0,4.0", "DESIGN CONDITIONS,0",
            "TYPICAL/EXTREME PERIODS,0", "GROUND TEMPERATURES,0",
            "HOLIDAYS/DAYLIGHT SAVINGS,No,0,0,0", "COMMENTS 1,invented", "COMMENTS 2,",
            "DATA PERIODS,1,1,Data,Sunday,6/21,6/21"]
    rows = []
    for hour in range(1, 25):
        up = max(math.sin((hour - 4.5) / 16 * math.pi), 0.0)
        total, opaque, ceiling = (0, 0, 77777) if hour < 9 else (
            (7, 4, 1200) if hour < 17 else (10, 10, 600))
        fields = ["2019", "6", "21", str(hour), "60", "?9", f"{12 + 8 * up:.1f}", "9.0", "60",
                  "101500", "0", "0", "300", f"{800 * up:.0f}", f"{600 * up:.0f}",
                  f"{200 * up:.0f}", f"{86000 * up:.0f}", f"{62000 * up:.0f}",
                  f"{24000 * up:.0f}", "5000", "240", "5.5", str(total), str(opaque), "25.0",
                  str(ceiling), "9", "999999999", "20", "0.1200", "0", "88", "0.2", "0", "0"]
        for name, value in changes.items():
            fields[int(name[1:])] = value
        rows.append(",".join(fields))
    return "\n".join([*head, *rows]) + "\n"


def test_fields_are_those_that_pvlib_reads(tmp_path: Path) -> None:
    iotools = pytest.importorskip("pvlib.iotools")
    path = tmp_path / "a.epw"
    path.write_text(made())
    theirs, place = iotools.read_epw(str(path))
    station = read_epw(path.read_text())
    assert (station.latitude, station.longitude, station.zone_h, station.elevation_m) == (
        place["latitude"], place["longitude"], place["TZ"], place["altitude"])
    assert len(station.hours) == len(theirs) == 24
    for ours, (_, row) in zip(station.hours, theirs.iterrows(), strict=True):
        for mine, name in ((ours.temperature_c, "temp_air"), (ours.dew_point_c, "temp_dew"),
                           (ours.global_lux, "global_hor_illum"),
                           (ours.direct_normal_lux, "direct_normal_illum"),
                           (ours.diffuse_lux, "diffuse_horizontal_illum"),
                           (ours.wind_deg, "wind_direction"), (ours.wind_m_s, "wind_speed"),
                           (ours.cover_tenths, "total_sky_cover"),
                           (ours.opaque_tenths, "opaque_sky_cover"),
                           (ours.sight_km, "visibility"), (ours.ceiling_m, "ceiling_height"),
                           (ours.haze, "aerosol_optical_depth")):
            assert mine == pytest.approx(float(row[name])), name


@pytest.mark.parametrize(("hour", "genera", "oktas"), [
    (6, [], []), (12, ["cumulus", "cirrus"], [3.2, 2.4]), (18, ["stratocumulus"], [8.0]),
])
def test_an_hour_becomes_a_sky(hour: int, genera: list[str], oktas: list[float]) -> None:
    """Opaque cover at the ceiling, the rest as thin and high; the haze is the aerosol's."""
    station = read_epw(made())
    sky, told = sky_of_record(station, hour_at(station, 6, 21, hour), BASE)
    assert [x.genus for x in sky.layers] == genera
    assert [x.cover_oktas for x in sky.layers] == pytest.approx(oktas)
    assert sky.local_moment().strftime("%m-%dT%H:%M") == f"06-21T{hour:02d}:30"
    assert sky.local_moment().utcoffset().total_seconds() == 0.0  # type: ignore[union-attr]
    assert sky.air.haze == pytest.approx(0.12) and sky.site.latitude == 52.5
    assert any("optical depth" in t.text for t in told)
    if genera:
        assert sky.layers[0].base_m == pytest.approx(4.0 + (1200 if hour == 12 else 600))


def test_what_is_missing_is_left_out() -> None:
    station = read_epw(made(f24="9999", f25="99999", f29="999", f20="999", f16="999999"))
    record = station.hours[12]
    assert (record.sight_km, record.ceiling_m, record.haze, record.wind_deg,
            record.global_lux) == (None, None, None, None, None)
    sky_of_record(station, record, BASE)


@pytest.mark.parametrize(("text", "part"), [
    ("", "LOCATION"), ("a,b\n" * 20, "LOCATION"), (made(f6="warm"), "line 9: temperature"),
    (made(f3="25"), "line 9: month 6, day 21, hour 25"),
    (made().replace("52.5", "152.5"), "latitude 152.5"),
    (made()[:-200], "fields; a record has 35"), ("x" * 5_000_000, "MB"),
])
def test_what_is_no_file_is_refused_in_words(text: str, part: str) -> None:
    with pytest.raises(WeatherError, match=part):
        read_epw(text)


def test_the_command_prints_a_sky_and_names_what_is_wrong(tmp_path: Path) -> None:
    path = tmp_path / "a.epw"
    path.write_text(made())
    found = CliRunner().invoke(main, ["epw", str(path), "--at", "06-21T12", "--explain"])
    assert found.exit_code == 0, found.output
    assert Sky.model_validate(json.loads(found.stdout)).layers[0].genus == "cumulus"
    assert "cumulus, 3.2 oktas" in found.stderr
    for at, part in (("noon", "write month"), ("02-03T04", "no record")):
        refused = CliRunner().invoke(main, ["epw", str(path), "--at", at])
        assert refused.exit_code == 2 and part in refused.stderr
    gone = CliRunner().invoke(main, ["epw", str(tmp_path / "none.epw"), "--at", "06-21T12"])
    assert gone.exit_code == 2 and "cannot be read" in gone.stderr
