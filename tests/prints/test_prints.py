"""Prints: from order to file, resumed after a kill, honest about a full disk."""

from __future__ import annotations

import errno
import importlib
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
import pytest
from distributed import Client, LocalCluster
from PIL import Image

from dovrek.core.picture.studio import Wish
from dovrek.formats.kinds import holding
from dovrek.prints import engine
from dovrek.prints.cluster import Workers
from dovrek.prints.kept import digest_of, files_of, tile_folder
from dovrek.prints.parts import compute_tile
from dovrek.prints.stored import print_tiles, store_part, stored_tile, tile_path
from dovrek.settings import Settings
from dovrek.sky.reading import sky_to_text
from dovrek.sky.seen import layers_of
from dovrek.store import print_jobs as jobs
from dovrek.store.orders import OrderError, order_from
from dovrek.store.tables import database
from tests.conftest import free_sun, long

task, backplate, clip = (importlib.import_module(f"dovrek.prints.makers.{name}")
                         for name in ("task", "backplate", "clip"))
SKY = free_sun(40, name="Test sky", layers=[{"genus": "cumulus"}])


class Lent(Workers):
    """Workers in this process, in the place of the engine's own cluster."""

    def __init__(self, client: Client) -> None:
        super().__init__("")
        self._client = client

    def drop(self) -> None:
        raise AssertionError("nothing was lost")


@pytest.fixture(scope="module")
def client() -> Iterator[Lent]:
    made = Client(processes=False, n_workers=1, threads_per_worker=2, dashboard_address=None)
    yield Lent(made)
    made.close()


def ordered(**fields: Any) -> Any:
    order = order_from({"width": 200, "height": 120, "quality": "draft", **fields},
                            holding())
    jobs.place(SKY, "test-sky", order)
    return jobs.take(engine.OWNER)


def folder_of(settings: Settings, number: int) -> Path:
    """Where the tiles of a print lie: by what it is, not by its number."""
    row = jobs.job(number)
    return tile_folder(settings, digest_of(jobs.document_of(row), str(row.order)))


def test_a_print_from_order_to_files(store: Settings, client: Lent) -> None:
    row = ordered(format="exr-float", ground="off")
    engine.attempt(row, store, client)
    row = jobs.job(row.id)
    assert (row.state, row.done) == (jobs.DONE, row.total), row.message
    path = store.prints / row.file
    with OpenEXR.File(str(path)) as file:
        pixels = file.channels()["RGBA"].pixels
    assert pixels.shape == (120, 200, 4)
    assert (pixels[-3:, :, 3] == 0).all() and (pixels[:40, :, 3] > 0.9).all()
    side = json.loads(path.with_suffix(".json").read_text())
    assert side["sun"]["elevation_deg"] == pytest.approx(40.0)
    assert side["sun"]["vector"][1] == pytest.approx(-np.cos(np.radians(40)), abs=1e-6)
    assert side["sky"]["layers"][0]["genus"] == "cumulus"
    assert side["illuminance"]["global_horizontal_lux"] > 1e4
    assert not folder_of(store, row.id).exists()
    assert {p.suffix for p in store.prints.iterdir()} == {".exr", ".json"}


def test_a_print_with_its_passes(store: Settings, client: Lent) -> None:
    """Clouds over the rest make the beauty, as in any compositor (Porter & Duff 1984)."""
    row = ordered(width=96, height=54, format="exr-float", passes="all")
    engine.attempt(row, store, client)
    row = jobs.job(row.id)
    assert row.state == jobs.DONE, row.message
    with OpenEXR.File(str(store.prints / row.file), separate_channels=True) as file:
        found = {name: np.asarray(c.pixels) for name, c in file.channels().items()}
    beauty = np.stack([found[c] for c in "RGB"], axis=2)
    clouds = np.stack([found[f"clouds.{c}"] for c in "RGB"], axis=2)
    alpha = found["clouds.A"][..., None]
    rest = np.stack([found[f"sky.{c}"] for c in "RGB"], axis=2)
    assert float(alpha.max()) > 0.9
    assert np.abs(rest * (1 - alpha) + clouds - beauty).max() < 1e-3 * beauty.max()
    with pytest.raises(OrderError, match="OpenEXR"):
        order_from({"width": 96, "height": 54, "passes": "all"}, holding())
    with pytest.raises(OrderError, match="ground"):
        order_from({"width": 96, "height": 54, "format": "jpeg-8", "ground": "off"}, holding())


@pytest.mark.long
def test_remote_scheduler_prints_the_same(store: Settings, client: Lent) -> None:
    """Tiles and numbers computed by the workers of a scheduler at an address of its own make the
    print that the embedded cluster makes, pixel for pixel."""
    first = ordered(width=96, height=54)
    engine.attempt(first, store, client)
    with LocalCluster(n_workers=1, threads_per_worker=2, processes=True, dashboard_address=None,
                      host="127.0.0.1", memory_limit=0) as cluster:
        settings = replace(store, scheduler=cluster.scheduler_address)
        second = ordered(width=96, height=54)
        far = Workers(settings.scheduler)
        assert far.client(lambda said: None).scheduler.address == cluster.scheduler_address
        engine.attempt(second, settings, far)
        far.drop()
    done = [jobs.job(row.id) for row in (first, second)]
    assert [row.state for row in done] == [jobs.DONE] * 2, done[1].message
    assert np.array_equal(*(np.asarray(Image.open(store.prints / row.file)) for row in done))


def test_stored_tiles_are_used_again(store: Settings, client: Lent) -> None:
    """A tile that lies there is not computed: mark one and find the mark in the print."""
    row = ordered(width=600, height=140)
    tile = print_tiles(600, 140)[0]
    folder = folder_of(store, row.id)
    folder.mkdir()
    marked = np.zeros((tile.y1 - tile.y0, tile.x1 - tile.x0, 5), dtype=np.float32)
    store_part(tile_path(folder, tile), marked)
    damaged = print_tiles(600, 140)[1]
    tile_path(folder, damaged).write_bytes(b"torn")
    assert stored_tile(folder, damaged) is None
    engine.attempt(row, store, client)
    picture = np.asarray(Image.open(store.prints / jobs.job(row.id).file))
    inner = np.s_[tile.y0 : tile.y1 - 2, tile.x0 : tile.x1 - 2]  # its rim mingles with the next
    assert picture[inner].max() < 8
    assert picture[damaged.y0 : damaged.y1, damaged.x0 : damaged.x1].mean() > 40


@pytest.mark.parametrize("where", [(task, "store_part"), (backplate, "write_bands"),
                                   (task, "write_sidecar")])
def test_a_full_disk_ends_in_words_and_retry_goes_on(
    store: Settings, client: Lent, monkeypatch: pytest.MonkeyPatch, where: str
) -> None:
    def full(*_: Any) -> None:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    row = ordered()
    with monkeypatch.context() as patch:
        patch.setattr(*where, full)
        engine.attempt(row, store, client)
    failed = jobs.job(row.id)
    assert failed.state == jobs.FAILED
    assert "No space left" in failed.message and "retry" in failed.message
    assert [p for p in store.prints.iterdir() if p.is_file()] == []
    jobs.retry(row.id)
    engine.attempt(jobs.take(engine.OWNER), store, client)
    assert jobs.job(row.id).state == jobs.DONE


@pytest.mark.parametrize("sun", ["apart", long("in")])
def test_a_dome_is_printed_with_its_lights(store: Settings, client: Lent, sun: str) -> None:
    """One order gives dome, sidecar, USD lights and the proof; together they give the ground what
    the renderer says."""
    row = ordered(kind="dome", width=256, height=1, sun=sun, centre="90")
    engine.attempt(row, store, client)
    done = jobs.job(row.id)
    assert done.state == jobs.DONE, done.message
    files = files_of(store, done)
    assert [f.suffix for f in files] == [".exr", ".json", ".usda", ".png"]
    assert sorted(store.prints.iterdir()) == sorted(files)
    facts = json.loads(files[1].read_text())
    with OpenEXR.File(str(files[0])) as file:
        rgb, white = file.channels()["RGB"].pixels, file.header()["whiteLuminance"]
    assert rgb.shape == (128, 256, 3) and rgb.dtype == (np.float32 if sun == "in" else np.float16)
    solid = np.cos((0.5 - (np.arange(128) + 0.5) / 128) * np.pi)
    up = np.sin((0.5 - (np.arange(128) + 0.5) / 128) * np.pi)
    lux = float(((rgb.astype(float) @ [0.2126, 0.7152, 0.0722]).sum(axis=1) * solid
                 * np.maximum(up, 0)).sum() * white * (2 * np.pi / 256) * (np.pi / 128))
    name = "global" if sun == "in" else "diffuse"
    assert lux == pytest.approx(facts["illuminance"][f"{name}_horizontal_lux"], rel=0.02)
    assert ("DistantLight" in files[2].read_text()) == (sun == "apart")
    assert facts["picture"]["north_column"] == pytest.approx(64.0)


def test_a_film_is_printed_and_goes_on_after_a_full_disk(
        store: Settings, client: Lent, monkeypatch: pytest.MonkeyPatch) -> None:
    """Frames that were made are kept; the film is read back by PyAV: its frames, rate, size."""
    import av

    sky = free_sun(40, name="Moving", layers=[{"genus": "cumulus"}],
                   motion={"length_s": 0.5, "fps": 8, "time_scale": 60})
    order = order_from({"kind": "film", "width": 96, "height": 54, "quality": "draft"},
                            holding())
    number = jobs.place(sky, "moving", order).id
    kept: list[Path] = []

    def filling(path: Path, values: Any) -> None:
        if len(kept) == 2:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        store_part(path, values)
        kept.append(path)

    with monkeypatch.context() as patch:
        patch.setattr(clip, "store_part", filling)
        engine.attempt(jobs.take(engine.OWNER), store, client)
    assert jobs.job(number).state == jobs.FAILED and "No space left" in jobs.job(number).message
    again: list[Path] = []
    jobs.retry(number)
    with monkeypatch.context() as patch:
        patch.setattr(clip, "store_part",
                      lambda path, values: (again.append(path), store_part(path, values)))
        engine.attempt(jobs.take(engine.OWNER), store, client)
    done = jobs.job(number)
    assert done.state == jobs.DONE, done.message
    assert len(kept) == len(again) == 2 and not set(kept) & set(again)  # none is made again
    film, side = files_of(store, done)
    with av.open(str(film)) as read:
        stream = read.streams.video[0]
        frames = [f.to_ndarray(format="rgb24") for f in read.decode(stream)]
        assert (stream.width, stream.height, float(stream.average_rate)) == (96, 54, 8.0)
    assert len(frames) == 4 and not np.array_equal(frames[0], frames[-1])
    assert json.loads(side.read_text())["picture"]["frames"] == 4


@pytest.mark.parametrize(("fields", "part"), [
    ({"kind": "cube"}, "kind: 'cube'"),
    ({"kind": "dome", "width": 255}, "width: 255 is odd"),
    ({"kind": "dome", "width": 256, "centre": "north"}, "centre: 'north'"),
    ({"kind": "dome", "width": 256, "centre": "nan"}, "centre"),
    ({"kind": "dome", "width": 256, "sun": "out"}, "sun: 'out'"),
    ({"kind": "film", "width": 97, "height": 54}, "even numbers"),
    ({"kind": "film", "width": 8000, "height": 54}, "from 16 to 3840"),
    ({"width": 16384, "height": 16384}, "more than"),
    ({"width": 8192, "height": 4096, "format": "exr-half", "passes": "all"}, "passes: they fit"),
    ({"width": 96, "height": 54, "primaries": "ap1"}, "primaries: this file"),
    ({"kind": "volume", "voxel_m": "0.2"}, "voxel_m: '0.2'"),
    ({"kind": "volume", "extent_m": "inf"}, "extent_m: 'inf'"),
    ({"kind": "volume", "layer": "nobody"}, "layer: 'nobody'"),
    ({"kind": "frames", "width": 96, "height": 54, "format": "bmp"}, "format: 'bmp'"),
])
def test_orders_that_cannot_be(fields: dict[str, Any], part: str) -> None:
    with pytest.raises(OrderError, match=part):
        order_from({"quality": "draft", **fields}, holding())


def test_cancel_stops_and_keeps_nothing_half(store: Settings, client: Lent) -> None:
    row = ordered()
    jobs.cancel(row.id)
    engine.attempt(row, store, client)
    assert jobs.job(row.id).state == jobs.CANCELLED and jobs.take(engine.OWNER) is None
    assert [p for p in store.prints.iterdir() if p.is_file()] == []


def test_tiles_together_are_the_picture(store: Settings) -> None:
    """Tiles rendered alone equal the same tiles rendered together, to the last bit."""
    wish = Wish(520, 140, "draft")
    tiles = print_tiles(520, 140)
    assert len(tiles) == 4
    first = compute_tile(sky_to_text(SKY), wish, tiles[0])
    again = compute_tile(sky_to_text(SKY), wish, tiles[0])
    assert (first == again).all() and np.isfinite(first).all()


def test_a_killed_engine_is_followed_by_one_that_goes_on(store: Settings) -> None:
    order = order_from({"width": 1280, "height": 720, "quality": "draft"}, holding())
    veil = free_sun(40, name="Veil", layers=[{"genus": "cirrus"}])  # soon built by each engine
    number = jobs.place(veil, "test-sky", order).id

    def start() -> subprocess.Popen[bytes]:
        return subprocess.Popen(
            [sys.executable, "-m", "dovrek.cli", "printer", "--home", str(store.home), "--parent",
             str(os.getpid())], start_new_session=True)

    def wait(done: Any, seconds: float) -> None:
        end = time.monotonic() + seconds
        while not done(jobs.job(number)):
            assert time.monotonic() < end, jobs.job(number).message
            time.sleep(0.05)

    first = start()
    try:
        wait(lambda row: row.done >= 3, 180)
    finally:
        os.killpg(first.pid, signal.SIGKILL)
        first.wait()
    row = jobs.job(number)
    assert row.state == jobs.WORKING and row.done < row.total
    folder = folder_of(store, number)
    kept = {p.name: p.stat().st_mtime_ns for p in folder.glob("tile-*.npy")}
    assert len(kept) >= 3
    second = start()
    try:
        wait(lambda row: row.done > len(kept), 180)
        assert {n: (folder / n).stat().st_mtime_ns for n in kept} == kept
        wait(lambda row: row.state == jobs.DONE, 180)
    finally:
        os.killpg(second.pid, signal.SIGTERM)
        second.wait()
    assert Image.open(store.prints / jobs.job(number).file).size == (1280, 720)
    assert not database.is_closed()


def test_engine_ends_with_its_server(store: Settings) -> None:
    """An engine whose parent is gone ends by itself."""
    found = subprocess.run(
        [sys.executable, "-m", "dovrek.cli", "printer", "--home", str(store.home), "--parent",
         "999999"], timeout=60, check=False)
    assert found.returncode == 0



def test_frames_a_volume_and_passes_in_files_of_their_own(store: Settings, client: Lent) -> None:
    """Each read back by an independent reader: OpenEXR's own, and the format's for volumes."""
    sky = free_sun(40, name="Moving", layers=[{"id": "heap", "genus": "cumulus"}],
                   motion={"length_s": 0.5, "fps": 4, "time_scale": 60})
    wanted = [{"kind": "frames", "width": 64, "height": 36, "format": "exr-half",
               "primaries": "ap1"},
              {"kind": "volume", "voxel_m": 100, "extent_m": 4000, "layer": "heap"},
              {"width": 64, "height": 36, "format": "exr-half", "passes": "files"}]
    rows = [jobs.place(sky, "moving", order_from({"quality": "draft", **fields}, holding(),
                                                 ("heap",))) for fields in wanted]
    for _ in rows:
        engine.attempt(jobs.take(engine.OWNER), store, client)
    frames, volume, passes = ([jobs.job(row.id).message, *files_of(store, jobs.job(row.id))]
                              for row in rows)
    assert [f.suffix for f in frames[1:]] == [".exr", ".exr", ".json"], frames[0]
    pictures = []
    for path in frames[1:3]:
        with OpenEXR.File(str(path)) as file:
            pictures.append(np.asarray(file.channels()["RGB"].pixels))
            header = dict(file.header())
        assert header["nominalFocalLength"] == 28.0 and "EV" in header["comments"]
        assert header["chromaticities"][0] == pytest.approx(0.713)  # AP1, Academy S-2014-004
    assert pictures[0].shape == (36, 64, 3) and not np.array_equal(*pictures)
    assert [f.name.split("-")[-1] for f in volume[1:]] == [
        f"{rows[1].id}.vdb", "plan.png", f"{rows[1].id}.json"], volume[0]
    assert volume[1].read_bytes()[:4] == b"\x20\x42\x44\x56"
    assert np.asarray(Image.open(volume[2])).std() > 5.0  # there is cloud, and gaps
    named = {f.stem.rpartition("-")[2] for f in passes[2:-1]}
    assert named == {"clouds", "sky", "ground", "air", "depth", "ground_depth", "land", "sunlit",
                     "heap"}, passes
    with OpenEXR.File(str(next(f for f in passes[1:] if "clouds" in f.name))) as file:
        assert file.channels()["RGBA"].pixels.shape == (36, 64, 4)


def test_volumes_along_the_clip_and_of_what_is_placed_by_hand(store: Settings, client: Lent
                                                              ) -> None:
    """A file a frame; the layers blow on; heroes and fog have grids of their own, and one hero's
    layer can be had alone."""
    sky = free_sun(40, name="Blown", fog={"present": True}, layers=[
        {"id": "heap", "genus": "cumulus", "wind": {"speed_m_s": 20},
         "heroes": [{"id": "h", "east_m": 500, "north_m": 500, "width_m": 900, "height_m": 900}]}],
        motion={"length_s": 0.5, "fps": 4, "time_scale": 60})
    known = tuple(x.id for x in layers_of(sky))
    box = {"kind": "volume", "voxel_m": 100, "extent_m": 4000}
    rows = [jobs.place(sky, "blown", order_from(box | more, holding(), known))
            for more in ({"span": "clip"}, {"layer": "heap~heroes"})]
    for _ in rows:
        engine.attempt(jobs.take(engine.OWNER), store, client)
    every, alone = ([jobs.job(row.id).message, *files_of(store, jobs.job(row.id))] for row in rows)
    assert [f.name.split(f"-{rows[0].id}")[-1] for f in every[1:]] == [
        "-00000.vdb", "-00000-plan.png", "-00001.vdb", "-00001-plan.png", ".json"], every[0]
    said = json.loads(every[5].read_text())["picture"]
    assert said["frames"] == 2 and set(said["grids"]) == {
        "density_heap", "density_heap_heroes", "density_fog"}
    assert every[1].read_bytes() != every[3].read_bytes()
    assert [f.suffix for f in alone[1:]] == [".vdb", ".png", ".json"], alone[0]
    assert json.loads(alone[3].read_text())["picture"]["grids"] == ["density"]
    plan = np.asarray(Image.open(alone[2]), dtype=float)
    j, i = np.nonzero(plan > plan.min() + 20)  # the one cloud, north-east of the middle
    assert i.mean() > 240 > j.mean() and np.ptp(i) < 200


def test_a_paused_print_waits_and_goes_on(store: Settings, client: Lent) -> None:
    row = ordered(width=96, height=54)
    jobs.pause(row.id)
    engine.attempt(row, store, client)
    assert jobs.job(row.id).state == jobs.PAUSED and jobs.take(engine.OWNER) is None
    jobs.resume(row.id)
    engine.attempt(jobs.take(engine.OWNER), store, client)
    assert jobs.job(row.id).state == jobs.DONE


def test_bands_make_the_picture_that_a_render_makes(store: Settings, client: Lent) -> None:
    """A dome in bands, its smoothing too, is the dome that is rendered whole, over the seam."""
    from dovrek.core.picture.studio import Studio

    row = ordered(kind="dome", width=512, quality="proof")
    engine.attempt(row, store, client)
    done = jobs.job(row.id)
    assert done.state == jobs.DONE, done.message
    studio = Studio(2)
    light = studio.render(SKY, Wish(512, 256, "proof", "dome", False, True, 0.0)).light
    studio.close()
    with OpenEXR.File(str(store.prints / done.file)) as file:
        pixels, white = file.channels()["RGB"].pixels, file.header()["whiteLuminance"]
    shown = (pixels.astype(float) @ [0.2126, 0.7152, 0.0722]) * white
    # Tiles of other sizes march other pixels (what is bridged depends on a tile): almost all agree.
    apart = np.abs(shown - light[..., 1]) / light[..., 1]
    assert np.quantile(apart, 0.9) < 0.004 and np.quantile(apart[:, [0, -1]], 0.9) < 0.004


def test_orders_of_a_party_are_all_placed_or_none(store: Settings) -> None:
    order = order_from({"width": 96, "height": 54}, holding())
    rows = jobs.place_all([("A", SKY), ("B", SKY)], "test-sky", order, 3.0)
    again = [jobs.job(row.id) for row in rows]
    assert {row.party for row in again} == {rows[0].id}
    assert [row.title for row in again] == ["A", "B"]
    assert jobs.lately_foretold(9) == []


def test_habits_are_kept_replaced_and_forgotten(store: Settings) -> None:
    order = order_from({"width": 96, "height": 54}, holding())
    jobs.keep_habit(" office  backplate ", order)
    jobs.keep_habit("office backplate", replace(order, width=128))
    assert [(name, kept.width) for name, kept in jobs.habits()] == [("office backplate", 128)]
    with pytest.raises(OrderError, match="habit"):
        jobs.keep_habit("\x07", order)
    jobs.forget_habit("office backplate")
    assert jobs.habits() == []
