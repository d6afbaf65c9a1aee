"""What is kept can be read again, takes little room, and stays until it is removed for good."""

from __future__ import annotations

import base64
import json
import sqlite3
import threading
from datetime import timedelta
from typing import Any

import numpy as np
import pytest

from dovrek.prints import kept
from dovrek.settings import Settings
from dovrek.sky.changes import with_values
from dovrek.sky.errors import SkyError
from dovrek.sky.layer import MAP_PREFIX
from dovrek.sky.reading import sky_from_data, sky_from_text, sky_to_data
from dovrek.store import print_jobs as jobs
from dovrek.store import recipes, skies, versions
from dovrek.store.documents import bytes_of, kept_of, sweep_assets
from dovrek.store.holding import Hold, HomeHeld
from dovrek.store.orders import Order, OrderError
from dovrek.store.tables import (
    Asset,
    Overlay,
    Revision,
    StoredRecipe,
    StoredSky,
    database,
    now,
    open_database,
)
from tests.conftest import sky_of


def big_map(count: int) -> str:
    """A cover map of about `count` bytes that a document holds."""
    return MAP_PREFIX + base64.b64encode(
        np.random.default_rng(1).bytes(count * 3 // 4)).decode()


def put(slug: str, **values: Any) -> skies.Written:
    return skies.change(slug, skies.load(slug)[1], "test", lambda s: with_values(s, values))


# -- the gate -----------------------------------------------------------------------------


def test_a_sky_too_large_to_be_read_again_is_not_kept(store: Settings) -> None:
    """Whole text and names count, by bytes and as they will be written."""
    data = sky_to_data(sky_of(name="Big", layers=[{"id": f"l{k}"} for k in range(16)]))
    for layer in data["layers"]:
        layer["map"]["asset"] = "é" * 110_000 + ".png"  # letters that take two bytes each
    sky = sky_from_data(data)
    with pytest.raises(SkyError, match="too large to keep"):
        skies.add_sky(sky)
    assert skies.gallery() == []
    fits = skies.add_sky(sky_of(name="Fits"))
    with pytest.raises(SkyError, match="too large to keep"):
        skies.change("fits", fits.head_id, "maps", lambda _: sky)
    with pytest.raises(SkyError, match="too large to keep"):
        versions.keep_version("fits", "big", sky)
    with pytest.raises(SkyError, match="too large to keep"):
        jobs.place(sky, "fits", Order(64, 36))
    assert skies.load("fits")[0].layers == [] and jobs.all_jobs() == []


@pytest.mark.parametrize("values", [
    {"layers[a].name": "n" * 2_900_000}, {"layers[a].name": "two\nlines"},
    {"layers[a].name": "\ud800"}, {"name": "half \ud800"}, {"layers[a].map.asset": "\ud800.png"},
    {"moment": "2011-12-30T12:00", "site.timezone": "Pacific/Apia"},
    {"layers": [{"genus": "cirrus"}], "layers[0].seed": 3},
])
def test_what_could_not_be_opened_again_is_refused(store: Settings,
                                                    values: dict[str, Any]) -> None:
    skies.add_sky(sky_of(name="Gate", layers=[{"id": "a"}]))
    with pytest.raises(SkyError):
        put("gate", **values)
    assert skies.load("gate")[0] == sky_of(name="Gate", layers=[{"id": "a"}])


def test_hours_that_a_clock_skips_are_still_moments(store: Settings) -> None:
    """Summer time leaves out an hour, not a date (IANA time zone database)."""
    sky = sky_of(moment="2026-03-29T01:30", site={"timezone": "Europe/London"})
    assert sky.local_moment().utcoffset() is not None
    with pytest.raises(SkyError, match="no 2011-12-30"):
        sky_of(moment="2011-12-30T12:00", site={"timezone": "Pacific/Apia", "latitude": -13.8})


# -- what another hand left ---------------------------------------------------------------


@pytest.mark.parametrize("text", ['{"dovrek": 1, "site": {"timezone": "Mars/Olympus"}}', "torn {",
                                  '{"dovrek": 99}', ""])
def test_a_stored_sky_that_cannot_be_read_hides_no_other(store: Settings, text: str) -> None:
    row = skies.add_sky(sky_of(name="Spoilt"))
    skies.add_sky(sky_of(name="Well"))
    put("spoilt", seed=5)
    Revision.update(document=text, packed=None).where(
        Revision.id == skies.stored("spoilt").head_id).execute()
    with pytest.raises(skies.UnreadableSky, match="cannot be read"):
        skies.load("spoilt")
    assert [bool(skies.fault_of(r)) for r in sorted(skies.gallery(), key=lambda r: r.slug)] == [
        True, False]
    assert skies.raw_text("spoilt") == text
    assert skies.undo("spoilt").sky.seed == 1  # type: ignore[union-attr]
    assert skies.load("spoilt")[1] == row.head_id


def test_recipes_and_orders_that_cannot_be_read_hide_no_other(store: Settings) -> None:
    from dovrek.sky.recipe import recipe_of_layer

    good = recipes.save(recipe_of_layer(sky_of(layers=[{"id": "a"}]), "a", "Good", ""))
    bad = StoredRecipe.create(name="Bad", document='{"dovrek_recipe": 7}')
    assert good in [e.key for e in recipes.entries()]
    assert recipes.unreadable() == [(f"own-{bad.id}", "Bad")]
    assert recipes.raw_text(f"own-{bad.id}") == '{"dovrek_recipe": 7}'
    recipes.remove(f"own-{bad.id}")
    assert recipes.unreadable() == []
    row = jobs.place(sky_of(), "x", Order(64, 36))
    type(row).update(order='{"width": "no"}').execute()
    with pytest.raises(OrderError):
        jobs.order_of(jobs.job(row.id))


def test_a_recipe_s_picture_follows_its_recipe(store: Settings) -> None:
    """A picture that comes when its recipe is gone is not given to the next of that number."""
    from dovrek.sky.recipe import recipe_of_layer

    def recipe(name: str) -> Any:
        return recipe_of_layer(sky_of(layers=[{"id": "a"}]), "a", name, "")

    first = recipes.save(recipe("First"))
    recipes.remove(first)
    second = recipes.save(recipe("Second"))
    assert second == first
    recipes.keep_picture(first, recipe("First").text(), b"of the first")
    assert recipes.picture(second) is None
    recipes.keep_picture(second, recipe("Second").text(), b"of the second")
    assert recipes.picture(second) == (b"of the second", "image/png")


# -- under load ---------------------------------------------------------------------------


def test_skies_of_one_name_are_added_at_once(store: Settings) -> None:
    """Windows that add a sky of one name at the same time all get theirs."""
    faults: list[BaseException] = []

    def add() -> None:
        try:
            for _ in range(8):
                with database.connection_context():
                    skies.add_sky(sky_of(name="Same"))
        except BaseException as error:
            faults.append(error)

    threads = [threading.Thread(target=add) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert faults == []
    assert len({row.slug for row in skies.gallery()}) == 32


def test_threads_that_write_wait_in_turn(store: Settings) -> None:
    """Changes of two skies, pictures kept and steps back at once, by connections that do not wait
    for a lock at all: none is ever in another's way, and no change is lost."""
    for name in ("One", "Two"):
        skies.add_sky(sky_of(name=name))
    faults: list[BaseException] = []

    def work(number: int) -> None:
        slug = ("one", "two")[number % 2]
        try:
            with database.connection_context():
                database.execute_sql("PRAGMA busy_timeout = 0")
                for k in range(12):
                    if number < 4:
                        put(slug, seed=100 * number + k + 7)
                    else:
                        skies.keep_picture(slug, skies.load(slug)[1], b"png")
        except BaseException as error:
            faults.append(error)

    threads = [threading.Thread(target=work, args=(n,)) for n in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert faults == []
    assert [skies.steps(slug) for slug in ("one", "two")] == [(24, 0), (24, 0)]


def test_a_refused_drawing_leaves_the_one_there_was(store: Settings) -> None:
    skies.add_sky(sky_of(name="Drawn"))
    versions.keep_overlay("drawn", "elevation", b"first")
    with pytest.raises(SkyError):
        versions.keep_overlay("drawn", "\x00", b"second")
    assert bytes(Overlay.get().picture) == b"first"


def test_a_home_is_held_by_one(home: Settings) -> None:
    hold = Hold(home.home, "server", "serving http://127.0.0.1:1")
    with pytest.raises(HomeHeld, match="process [0-9]+, serving http://127.0.0.1:1"):
        Hold(home.home, "server", "")
    hold.let_go()
    Hold(home.home, "server", "").let_go()


def test_commits_are_synced(store: Settings) -> None:
    """A power cut takes no commit: SQLite syncs its log at each (2 is FULL)."""
    assert database.execute_sql("PRAGMA synchronous").fetchone()[0] == 2
    assert database.execute_sql("PRAGMA journal_mode").fetchone()[0] == "wal"


# -- room ---------------------------------------------------------------------------------


def test_many_steps_of_a_sky_with_a_map_take_little(store: Settings) -> None:
    """A map is kept once, steps as what differs; each can be gone back to."""
    asset = big_map(100_000)
    skies.add_sky(sky_of(name="Steps", layers=[{"id": "a", "map": {"asset": asset}}]))
    for seed in range(2, 202):
        put("steps", seed=seed)
    row = skies.stored("steps")
    assert bytes_of(row) < 300_000
    assert Asset.select().count() == 1
    for revision in Revision.select().where(Revision.sky == row).order_by(Revision.id)[::40]:
        found = skies.sky_at("steps", revision.id)
        assert found.layers[0].map.asset == asset
    assert sorted(json.loads(kept_of(r))["seed"] for r in Revision.select()) == list(range(1, 202))
    for seed in range(200, 0, -1):
        assert skies.undo("steps").sky.seed == seed  # type: ignore[union-attr]
    for seed in range(2, 202):
        assert skies.redo("steps").sky.seed == seed  # type: ignore[union-attr]


def test_branches_and_gestures_leave_every_state_readable(store: Settings) -> None:
    """States that others are packed against are not written over."""
    rng, seen = np.random.default_rng(5), {}
    skies.add_sky(sky_of(name="Tree", layers=[{"id": "a"}, {"id": "b", "genus": "cirrus"}]))
    for step in range(120):
        what = rng.integers(4)
        if what == 0:
            skies.undo("tree")
        elif what == 1:
            skies.redo("tree")
        else:
            base = skies.load("tree")[1]
            written = skies.change("tree", base, "t", lambda s, k=step: with_values(
                s, {"seed": k, "layers[a].name": "n" * (k % 100)}), f"g{step // 5}")
            seen[written.revision] = written.sky
    for revision, sky in seen.items():
        assert skies.sky_at("tree", revision) == sky


def test_the_bin_keeps_and_lets_go(store: Settings) -> None:
    asset = big_map(5000)
    skies.add_sky(sky_of(name="Old", layers=[{"id": "a", "map": {"asset": asset}}]))
    skies.add_sky(sky_of(name="Stays", layers=[{"id": "a", "map": {"asset": big_map(6000)}}]))
    skies.delete("old")
    assert [r.slug for r in skies.binned()] == ["old"]
    skies.restore("old")
    assert skies.load("old")[0].layers[0].map.asset == asset
    skies.delete("old")
    row = jobs.place(sky_of(), "stays", Order(64, 36))
    (store.prints / "stays-64x36-1.png").write_bytes(b"x" * 900)
    type(row).update(file="stays-64x36-1.png", state=jobs.DONE).execute()
    assert kept.bytes_of(store, jobs.job(row.id)) == 900
    jobs.remove(row.id)
    assert jobs.all_jobs() == [] and [r.id for r in jobs.binned()] == [row.id]
    assert kept.purge(store, now() - timedelta(days=29)) == 0
    StoredSky.update(binned=now() - timedelta(days=31)).where(StoredSky.slug == "old").execute()
    kept.sweep(store)
    assert skies.binned() == [] and Asset.select().count() == 1
    assert (store.prints / "stays-64x36-1.png").exists()
    assert kept.purge(store, now()) == 1
    assert jobs.binned() == [] and not (store.prints / "stays-64x36-1.png").exists()
    assert sweep_assets() == 0 and sky_from_text(skies.raw_text("stays"))


def test_leftovers_of_a_kill_are_swept_at_the_start(store: Settings) -> None:
    wanted = jobs.place(sky_of(), "x", Order(64, 36))
    type(wanted).update(digest="a" * 64).execute()
    for folder in ("a" * 32, "b" * 32):
        (store.prints / f"{folder}-tiles").mkdir()
    (store.prints / ".part-torn.png").write_bytes(b"half")
    assert kept.sweep(store) == 1 and (store.prints / ".part-torn.png").exists()
    assert kept.sweep(store, at_start=True) == 1
    assert [p.name for p in store.prints.iterdir()] == [f"{'a' * 32}-tiles"]


def test_a_database_that_is_open_elsewhere_is_waited_for(store: Settings) -> None:
    """A writer that takes its time does not make another fail."""
    other = sqlite3.connect(store.database, isolation_level=None, check_same_thread=False)
    other.execute("BEGIN IMMEDIATE")
    timer = threading.Timer(0.5, lambda: other.execute("COMMIT"))
    timer.start()
    assert skies.add_sky(sky_of(name="Patient")).slug == "patient"
    timer.join()
    open_database(store.database)
