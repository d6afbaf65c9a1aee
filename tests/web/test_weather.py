"""The Weather page: reports explained, skies made of them, a day as a clip."""

from __future__ import annotations

import re
import time
from typing import Any

import pytest
from flask.testing import FlaskClient

from dovrek.settings import Settings
from dovrek.sky.clip import sky_at
from dovrek.store import skies
from dovrek.weather.report import read_report
from dovrek.weather.station import reports_of_day
from dovrek.web.app import create_app
from dovrek.web.live.live import Live

REPORT = "METAR ABCD 211150Z 24012G25KT 9999 FEW018 SCT040CB XYZ BKN250 18/09 Q1015 NOSIG"


@pytest.fixture()
def client(store: Settings, live: Live) -> FlaskClient:
    return create_app(store, live).test_client()


def sent(client: FlaskClient, path: str, **form: Any) -> Any:
    page = client.get("/weather/").get_data(as_text=True)
    found = re.search(r'name="token" value="([^"]+)"', page)
    assert found
    return client.post(path, data={"token": found[1], **form})


def test_a_report_is_explained_group_by_group(client: FlaskClient) -> None:
    page = sent(client, "/weather/", report=REPORT).get_data(as_text=True)
    for part in ("cumulonimbus, 3.5 oktas", "SCT040CB", "not known: left out", "sight 10 km",
                 "from 240°"):
        assert part in page, part
    assert skies.gallery() == []


def test_its_sky_is_made_at_a_chosen_place(client: FlaskClient) -> None:
    from tests.conftest import free_sun

    row = skies.add_sky(free_sun(30, site={"latitude": -33.0, "longitude": 151.0,
                                           "timezone": "Australia/Sydney"}))
    answer = sent(client, "/weather/", report=REPORT, place=row.slug, keep="1")
    assert answer.status_code == 302
    slug = answer.headers["Location"].rstrip("/").rpartition("/")[2]
    sky = skies.load(slug)[0]
    assert sky.site.latitude == -33.0 and [x.genus for x in sky.layers] == [
        "cumulus", "cumulonimbus", "cirrus"]


def test_what_cannot_be_read_is_said_and_kept_in_the_field(client: FlaskClient) -> None:
    for text in ("nonsense", "x" * 6000, "<script>"):
        answer = sent(client, "/weather/", report=text)
        assert answer.status_code == 422
        assert 'role="alert"' in answer.get_data(as_text=True)
    assert sent(client, "/weather/", report=REPORT, seed="-4").status_code == 422
    assert sent(client, "/weather/", report=REPORT, place="none").status_code == 404


def test_a_simulated_day_is_read_and_becomes_a_clip(client: FlaskClient) -> None:
    """Each of its reports is understood whole; at every hour of the clip the covers are those of
    the hour's report."""
    texts = reports_of_day(3)
    assert texts == reports_of_day(3) != reports_of_day(4) and len(texts) == 24
    for seed in range(40):
        for text in reports_of_day(seed):
            assert read_report(text).unknown == (), text
    answer = sent(client, "/weather/day", seed="3")
    slug = answer.headers["Location"].rstrip("/").rpartition("/")[2]
    sky = skies.load(slug)[0]
    assert sky.motion.length_s == 23.0 and sky.motion.time_scale == 3600.0
    for hour in (6, 12, 15, 20):
        told = sky_at(sky, float(hour))
        wanted = sum(c.oktas for c in read_report(texts[hour]).clouds)
        if read_report(texts[hour]).upward_m is None:
            assert sum(x.cover_oktas for x in told.layers) == pytest.approx(wanted), hour
        assert told.local_moment().hour == (hour + 1) % 24  # summer time at the plain sky's place


def test_an_hour_of_a_file_is_explained_and_made(client: FlaskClient) -> None:
    import io

    sample = client.get("/weather/saltings.epw").data
    for at, keep, status in (("06-21T12", {}, 200), ("06-21T12", {"keep": "1"}, 302),
                             ("06-22T12", {}, 422), ("noon", {}, 422)):
        answer = sent(client, "/weather/epw", at=at, file=(io.BytesIO(sample), "s.epw"), **keep)
        assert answer.status_code == status, at
        if status == 200:
            page = answer.get_data(as_text=True)
            assert "cumulus, 3.2 oktas" in page and "lx on level ground" in page
            light = re.search(r"/weather/light/[0-9a-f]+", page)
            assert light is not None
    assert [x.genus for x in skies.load(skies.gallery()[0].slug)[0].layers] == ["cumulus", "cirrus"]
    until = time.monotonic() + 240.0
    while "together" not in (said := client.get(light[0]).get_data(as_text=True)):
        assert "worked out" in said and time.monotonic() < until
        time.sleep(0.3)
    lux = [float(x.replace(",", "")) for x in re.findall(r"<td>([\d,]+) lx</td>", said)]
    ours, theirs = lux[::2], lux[1::2]
    assert len(ours) == 3 and ours[2] == pytest.approx(ours[0] + ours[1], abs=2.0)
    # At one place a cloud may stand before the sun, which an hour's mean does not know.
    assert 0.3 < ours[0] / theirs[0] < 3.0
    assert "too long ago" in client.get("/weather/light/none").get_data(as_text=True)
    torn = sent(client, "/weather/epw", at="06-21T12", file=(io.BytesIO(b"\xff\x00"), "s.epw"))
    assert torn.status_code == 422 and "LOCATION" in torn.get_data(as_text=True)
