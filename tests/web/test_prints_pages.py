"""The order dialog, the prints page and the viewer without a browser."""

from __future__ import annotations

import io
import json
import re
import time
import zipfile
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from PIL import Image

from dovrek.core.transport.passes import PASSES, passes_of
from dovrek.formats.kinds.format import Developing
from dovrek.formats.pictures import write_picture
from dovrek.formats.preview import looked_around
from dovrek.prints.foretold import Foretold, learned
from dovrek.settings import Settings
from dovrek.store import print_jobs as jobs
from dovrek.store import skies, versions
from dovrek.store.orders import Order, order_of_text
from dovrek.store.tables import PrintJob, now
from dovrek.web.prints import orders
from tests.web.test_web import client, head, post, token  # noqa: F401  fixtures of the plain pages

EV, KELVINS = 12.0, 5600.0
FORM = {"width": "64", "height": "36", "quality": "draft", "format": "png-8"}


def ordered(client: FlaskClient, **more: Any) -> list[Any]:  # noqa: F811
    answer = client.post("/skies/board/prints", data=FORM | {"token": token(client)} | more)
    assert answer.status_code == 302, answer.get_data(as_text=True)[-600:]
    return [jobs.job(row.id) for row in jobs.all_jobs()]


def done(store: Settings, light: np.ndarray, order: Order, bits: str, ending: str,
         **facts: Any) -> int:
    """A finished print whose file is made here."""
    sky, _ = skies.load("board")
    row = jobs.place(sky, "board", order)
    path = store.prints / f"board-{row.id}{ending}"
    write_picture(path, light, Developing(EV, KELVINS, bits=bits))  # type: ignore[arg-type]
    side = path.with_suffix(".json")
    side.write_text(json.dumps({
        "sun": {"elevation_deg": 30, "azimuth_deg": 180}, "notes": [], "picture": facts,
        "illuminance": {"global_horizontal_lux": 1e4},
        "exposure": {"ev": EV, "white_balance_k": KELVINS, "contrast": 1.0}}))
    PrintJob.update(state=jobs.DONE, file=path.name, finished=row.created,
                    files=json.dumps([path.name, side.name])).where(
                        PrintJob.id == row.id).execute()
    return int(row.id)


def picture_of(client: FlaskClient, number: int, query: str = "") -> np.ndarray:  # noqa: F811
    answer = client.get(f"/prints/{number}/preview.png?{query}")
    assert answer.status_code == 200
    return np.asarray(Image.open(io.BytesIO(answer.data)))


@pytest.fixture()
def ramp() -> np.ndarray:
    """A light that grows to the right: (40, 80)."""
    light = np.ones((40, 80, 5), dtype=np.float32)
    light[..., :3] *= (200.0 * 1.05 ** np.arange(80))[None, :, None].astype(np.float32)
    return light


def test_the_dialog_asks_what_the_order_declares(client: FlaskClient) -> None:  # noqa: F811
    page = client.get("/skies/board/prints/new").get_data(as_text=True)
    for name in ("width", "format", "passes", "primaries", "faces", "voxel_m", "hours"):
        assert f'name="{name}"' in page
    assert 'max="16384"' in page and "Only OpenEXR holds passes." in page
    assert re.search(r'data-formats="exr-half exr-float"', page)


def test_hours_and_versions_make_one_party(client: FlaskClient) -> None:  # noqa: F811
    kept = versions.keep_version("board", "calm")
    rows = ordered(client, version=["present", str(kept.id)], hours="6:30 18.00")
    assert len(rows) == 4 and {r.party for r in rows} == {rows[0].id}
    assert [r.title for r in rows] == ["Board, 06:30", "Board, 18:00", "Board, calm, 06:30",
                                       "Board, calm, 18:00"]
    hours = {json.loads(jobs.document_of(r))["moment"][11:16] for r in rows}
    assert hours == {"06:30", "18:00"}


@pytest.mark.parametrize(("more", "part"), [
    ({"hours": "25:00"}, "hours"), ({"hours": "noon"}, "hours"), ({"version": "77"}, "version"),
    ({"hours": ",".join(f"{h:02}:{m:02}" for h in range(24) for m in range(0, 60, 15))}, "48"),
    ({"habit_name": "\x07"}, "habit"), ({"kind": "volume", "layer": "zz"}, "layer"),
])
def test_what_cannot_be_ordered_orders_nothing(
        client: FlaskClient, more: dict[str, str], part: str) -> None:  # noqa: F811
    answer = client.post("/skies/board/prints", data=FORM | {"token": token(client)} | more)
    assert answer.status_code in (404, 422) and part in answer.get_data(as_text=True)
    assert jobs.all_jobs() == []


def test_a_habit_is_kept_and_given_again(client: FlaskClient) -> None:  # noqa: F811
    ordered(client, habit_name="office", format="exr-half", primaries="ap1")
    page = client.get("/skies/board/prints/new?habit=office").get_data(as_text=True)
    assert '<option value="ap1" selected>' in page and 'value="64"' in page
    client.post("/skies/board/prints/habits/forget",
                data={"token": token(client), "habit": "office"})
    assert jobs.habits() == []
    again = client.get(f"/skies/board/prints/new?from={jobs.all_jobs()[0].id}")
    assert '<option value="ap1" selected>' in again.get_data(as_text=True)


def test_a_forecast_comes_and_what_cannot_fit_says_what_can(
        client: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:  # noqa: F811
    query = {**FORM, "kind": "backplate"}
    until = time.monotonic() + 240.0
    while "Memory" not in (said := client.get("/skies/board/prints/forecast", query_string=query)
                           .get_data(as_text=True)):
        assert "Reckoning" in said and time.monotonic() < until
        time.sleep(0.2)
    assert "twice the size" in said and "kB" in said
    refused = client.get("/skies/board/prints/forecast", query_string=query | {"passes": "all"})
    assert "only OpenEXR holds them" in refused.get_data(as_text=True)

    class Usage:
        free = 2_000_000_000

    monkeypatch.setattr("dovrek.prints.foretold.shutil.disk_usage", lambda folder: Usage)
    large = {"width": "16384", "height": "8192"}
    found = client.get("/skies/board/prints/forecast", query_string=query | large)
    fits = re.search(r"give a width of (\d+) px", found.get_data(as_text=True))
    assert fits and 4000 < int(fits[1]) < 16384
    answer = client.post("/skies/board/prints", data=FORM | large | {"token": token(client)})
    assert answer.status_code == 422 and "of disk" in answer.get_data(as_text=True)


def test_forecasts_learn_from_prints() -> None:
    """The median of this machine's ratios, and their range once there are five."""
    raw = Foretold(10.0, 8.0, 12.0, 1.0, 1.0, raw_s=10.0)
    assert learned(raw, [], "dome") == raw
    one = learned(raw, [("film", 10.0, 20.0)], "dome")
    assert one.seconds == pytest.approx(20.0) and one.low_s == pytest.approx(16.0)
    five = learned(raw, [("dome", 10.0, s) for s in (10.0, 12.0, 13.0, 14.0, 20.0)]
                   + [("film", 1.0, 90.0)] * 9, "dome")
    assert five.seconds == pytest.approx(13.0)
    assert (five.low_s, five.high_s) == (pytest.approx(10.0), pytest.approx(20.0))


def test_prints_are_paused_cleaned_up_and_brought_back(client: FlaskClient) -> None:  # noqa: F811
    number = ordered(client)[0].id
    say = {"token": token(client)}
    client.post(f"/prints/{number}/pause", data=say)
    assert jobs.job(number).state == jobs.PAUSED
    assert "Go on" in client.get("/prints/queue").get_data(as_text=True)
    client.post(f"/prints/{number}/resume", data=say)
    assert jobs.job(number).state == jobs.WAITING
    client.post(f"/prints/{number}/cancel", data=say)
    page = client.post("/prints/clean", data=say | {"what": "failed"}, follow_redirects=True)
    assert jobs.all_jobs() == [] and "Undo" in page.get_data(as_text=True)
    client.post("/prints/restore", data=say | {"numbers": f"{number}-x"})
    assert [r.id for r in jobs.all_jobs()] == [number]
    assert client.post("/prints/clean", data=say | {"what": "all"}).status_code == 422


@pytest.mark.parametrize(("bits", "ending"), [("half", ".exr"), ("float", ".tif"),
                                              ("float", ".hdr"), ("16", ".tif"), ("8", ".png")])
def test_every_format_is_seen_and_exposed(
        client: FlaskClient, store: Settings, ramp: np.ndarray, bits: str,  # noqa: F811
        ending: str) -> None:
    white = 2.0**EV * 0.125 / 0.18
    number = done(store, ramp, Order(80, 40, format="exr-half"), bits, ending,
                  white_cd_m2=white, primaries="rec709")
    plain = picture_of(client, number)
    assert plain.shape == (40, 80, 3)
    assert 40 < plain[:, 40].mean() < 250 and plain[:, 70].mean() > plain[:, 10].mean() + 20
    if bits in ("half", "float"):
        darker = picture_of(client, number, "stops=-2")
        assert darker.mean() < plain.mean() - 20
    part = picture_of(client, number, "zoom=2&x=0&y=0")
    assert part.shape == (40, 80, 3)  # all of it fits the window
    assert picture_of(client, number, "stops=nan&zoom=77&x=9").shape == plain.shape
    assert client.get(f"/prints/{number}/preview.png?name=../dovrek.sqlite").status_code == 404
    small = client.get(f"/prints/{number}/contact.png")
    assert small.status_code == 200 and (store.prints / f".contact-{number}.png").exists()


def test_frames_share_one_sidecar(
        client: FlaskClient, store: Settings, ramp: np.ndarray) -> None:  # noqa: F811
    """Each frame is seen by it, by its name; the contact print is the first frame's."""
    number = done(store, ramp, Order(80, 40, format="hdr-float", kind="frames"), "float", ".hdr",
                  white_cd_m2=2.0**EV * 0.125 / 0.18, primaries="rec709")
    first = store.prints / f"board-{number}.hdr"
    second = store.prints / f"board-{number}-00001.hdr"
    write_picture(second, ramp[:, ::-1], Developing(EV, KELVINS, bits="float"))
    PrintJob.update(files=json.dumps([first.name, second.name, f"board-{number}.json"])).where(
        PrintJob.id == number).execute()
    one, other = picture_of(client, number), picture_of(client, number, f"name={second.name}")
    assert np.abs(one.astype(int) - other[:, ::-1].astype(int)).max() <= 2  # but for the dither
    assert "Play" in client.get(f"/prints/{number}").get_data(as_text=True)
    assert client.get(f"/prints/{number}/contact.png").status_code == 200


def test_passes_of_a_file_are_seen_one_by_one(
        client: FlaskClient, store: Settings, ramp: np.ndarray) -> None:  # noqa: F811
    number = done(store, ramp, Order(80, 40, format="exr-half", passes="all"), "half", ".exr")
    sums = np.random.default_rng(3).uniform(0.2, 0.8, (40, 80, PASSES)).astype(np.float32)
    write_picture(store.prints / f"board-{number}.exr", ramp,
                  Developing(EV, KELVINS, bits="half"), passes_of(sums, 1, 2), ["a", "b"])
    page = client.get(f"/prints/{number}").get_data(as_text=True)
    for part in ("clouds", "sky", "ground", "air", "depth", "sunlit", "matte.a", "matte.b"):
        assert f'data-part="{part}"' in page
        assert picture_of(client, number, f"part={part}&small=1").shape == (40, 80, 3)
    assert client.get(f"/prints/{number}/preview.png?part=none").status_code == 404


def test_all_files_come_in_one_archive(
        client: FlaskClient, store: Settings, ramp: np.ndarray) -> None:  # noqa: F811
    number = done(store, ramp, Order(80, 40, format="exr-half"), "half", ".exr")
    answer = client.get(f"/prints/{number}/all.zip")
    with zipfile.ZipFile(io.BytesIO(answer.data)) as archive:
        assert archive.testzip() is None
        names = archive.namelist()
        assert {Path(n).suffix for n in names} == {".exr", ".json"}
        assert archive.read(names[0]) == (store.prints / names[0]).read_bytes()


def test_a_print_gives_its_sky_back_as_a_version(
        client: FlaskClient, store: Settings, ramp: np.ndarray) -> None:  # noqa: F811
    number = done(store, ramp, Order(80, 40, format="exr-half"), "half", ".exr")
    post(client, "/skies/board/change",
         {"base": head(), "values": {"layers[a].base_m": 1500}, "note": "Base"})
    client.post(f"/prints/{number}/version", data={"token": token(client)})
    kept = versions.versions("board")[0]
    assert kept.name == f"Print {number}"
    assert versions.sky_of(kept).layers[0].base_m == 1100
    assert skies.load("board")[0].layers[0].base_m == 1500
    skies.delete("board")
    page = client.get(f"/prints/{number}").get_data(as_text=True)
    assert "Its sky is gone" in page
    assert client.post(f"/prints/{number}/version",
                       data={"token": token(client)}).status_code == 404


def test_looking_around_a_dome() -> None:
    """What stands at a bearing and a height is met in the middle of a lens turned there."""
    dome = np.zeros((90, 180, 3), dtype=np.float32)
    dome[25:35, 130:140] = 1.0  # 25° to 45° … high, bearing of columns 130 … 140
    elevation, bearing = 90.0 - 30.0 * 2.0, (135.0 / 180.0 - 0.5) * 360.0 + 200.0
    seen = looked_around(dome, bearing, elevation, 60.0, (61, 41), 200.0)
    assert seen.shape == (41, 61, 3) and seen[20, 30, 0] == pytest.approx(1.0)
    away = looked_around(dome, bearing + 180.0, elevation, 60.0, (61, 41), 200.0)
    assert away.max() == 0.0


def test_a_ledger_of_many_prints_comes_in_parts(client: FlaskClient) -> None:  # noqa: F811
    row = ordered(client)[0]
    kept_open = row.id
    jobs.pause(row.id)
    text, order = jobs.document_of(jobs.job(row.id)), str(row.order)
    for k in range(2, 2 * orders.ORDERS_AT_ONCE + 4):  # every seventh order has three prints
        rows = [PrintJob.create(sky_slug="board", title=f"Study {k}", document=text, order=order,
                                state=jobs.DONE) for _ in range(1 if k % 7 else 3)]
        if len(rows) > 1:
            PrintJob.update(party=rows[0].id).where(
                PrintJob.id.in_([r.id for r in rows])).execute()
    every = [r.id for r in jobs.all_jobs()]
    found, path = [], "/prints"
    while path:
        page = client.get(path).get_data(as_text=True)
        found.append([int(n) for n in re.findall(r'data-print="(\d+)"', page)])
        older = re.search(r'hx-get="(/prints/older[^"]+)"', page)
        path = older[1] if older else ""
    assert len(found) == 3 and found[0][-1] == kept_open  # what waits for its hand stays in sight
    assert sorted(sum(found, [])) == sorted(every)
    assert [n for n in sum(found, []) if n != kept_open] == [n for n in every if n != kept_open]
    queue = re.search(r'hx-get="(/prints/queue[^"]*)" hx-trigger="every 4s"',
                      client.get("/prints").get_data(as_text=True))
    new = PrintJob.create(sky_slug="board", title="New", document=text, order=order)
    assert queue is not None
    later = client.get(queue[1]).get_data(as_text=True)
    assert [int(n) for n in re.findall(r'data-print="(\d+)"', later)] == [new.id, *found[0]]
    assert "every 1s" in later


def test_old_prints_beyond_the_first_part_are_cleaned_too(
        client: FlaskClient) -> None:  # noqa: F811
    row = ordered(client)[0]
    old = now() - timedelta(days=40)
    for k in range(220):
        PrintJob.create(sky_slug="board", title=f"{k}", document="{}", order=str(row.order),
                        state=jobs.DONE, finished=old)
    page = client.post("/prints/clean", data={"token": token(client), "what": "month"},
                       follow_redirects=True)
    assert "220 prints lie in the bin" in page.get_data(as_text=True)
    assert [r.id for r in jobs.all_jobs()] == [row.id]


def test_an_order_of_an_older_release_is_read() -> None:
    old = order_of_text('{"width": 64, "height": 36, "quality": "draft", "format": "png-8"}')
    assert (old.kind, old.primaries, old.voxel_m) == ("backplate", "rec709", 20.0)
