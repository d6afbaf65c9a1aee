"""Clouds placed by hand: where and as wide as said, re-dealing nothing; others make room."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.fineness import FINE
from dovrek.core.prepare.taking import dealt_at
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.look_ups import grid_depth
from dovrek.sky.changes import with_values
from dovrek.sky.clip import drift_of, sky_at
from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyError
from dovrek.sky.heroes import with_hero_duplicated, with_hero_placed, with_hero_removed
from dovrek.sky.reading import sky_from_text, sky_to_text
from dovrek.sky.seen import layers_of, owner_of, placed_by_hand, unwashed
from tests.conftest import sky_of
from tests.core.clouds.test_place import dense

HERO = {"id": "h", "east_m": 500.0, "north_m": 9000.0, "width_m": 3000.0, "height_m": 2500.0,
        "seed": 3}


def lone(cover: float = 0.0, **hero: Any) -> Sky:
    return sky_of(sun={"mode": "free", "elevation_deg": 40, "azimuth_deg": 200}, layers=[
        {"id": "a", "genus": "cumulus", "cover_oktas": cover, "base_m": 1200.0,
         "heroes": [{**HERO, **hero}]}], camera={"pitch_deg": 12})


def body_of(studio: Studio, sky: Sky) -> Any:
    layer = next(x for x in layers_of(sky) if placed_by_hand(x))
    return studio.preparer.body(sky, layer, FINE, Cancel())


def columns(body: Any, half_m: float = 3000.0, step: float = 60.0
            ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Places about the hero, and heights of its top there over the base (0: no cloud)."""
    at = np.arange(-half_m, half_m, step)
    x, y = (v.ravel() for v in np.meshgrid(500.0 + at, 9000.0 + at, indexing="ij"))
    z = np.arange(20.0, 3200.0, 40.0)
    places = np.stack([np.repeat(x, len(z)), np.repeat(y, len(z)),
                       np.tile(body.base + z, len(x))], axis=1)
    there = (dense(body, places) > 1e-4).reshape(len(x), len(z))
    top = np.where(there.any(axis=1), z[::-1][np.argmax(there[:, ::-1], axis=1)], 0.0)
    return x - 500.0, y - 9000.0, top


@pytest.mark.parametrize(("width", "height"), [(3000.0, 2500.0), (3000.0, 900.0),
                                               (1400.0, 2800.0)])
def test_a_hero_stands_as_it_is_said(studio: Studio, width: float, height: float) -> None:
    x, y, top = columns(body_of(studio, lone(width_m=width, height_m=height)))
    far = np.hypot(x, y)[top > 0.0]
    assert 2.0 * far.max() == pytest.approx(width, rel=0.12)
    assert top.max() == pytest.approx(height, rel=0.12)


def test_its_silhouette_stands_where_its_place_is_seen(studio: Studio) -> None:
    """The picture's matte against the document's place, within 1 % of the picture's width."""
    sky = lone()
    found = studio.render(sky, Wish(480, 270, "draft", passes=True))
    assert found.passes is not None and found.passes.mattes.shape[0] == 1
    matte = found.passes.mattes[0]
    columns_ = np.flatnonzero(matte.max(axis=0) > 0.5)
    low, high = (math.atan2(500.0 + side, 9000.0) for side in (-1500.0, 1500.0))
    reach = math.tan(0.5 * sky.camera.fov_h_rad)
    edges = [480 * (0.5 + 0.5 * math.tan(a) / reach) for a in (low, high)]
    # Its outline is an ellipse turned by its seed: within its circle, and most of it.
    assert edges[0] - 5 <= columns_.min() and columns_.max() <= edges[1] + 5
    assert columns_.max() - columns_.min() > 0.5 * (edges[1] - edges[0])
    # At its foot stands its base.
    rows = np.flatnonzero(matte.max(axis=1) > 0.5)
    foot = math.atan2(1200.0 - 4.0 - 1.6, math.hypot(500.0, 9000.0))
    row = 135 - 240 / reach * math.tan(foot - math.radians(12.0))
    assert rows.max() == pytest.approx(row, abs=6)


def test_moving_one_deals_nothing_anew(studio: Studio) -> None:
    sky = lone(cover=3.0)
    studio.preparer.scene(sky, FINE, Cancel())
    studio.preparer.cache.reset_clock()
    studio.preparer.scene(with_values(sky, {"layers[a].heroes[h].east_m": 2500.0}), FINE, Cancel())
    assert not {"cells", "levels", "level", "shapes", "standing", "hero forms"} & set(
        studio.preparer.cache.built)
    assert "heroes" in studio.preparer.cache.built


def test_dealt_clouds_make_room(studio: Studio) -> None:
    """Within the distance no axis of another stands; elsewhere all stay."""
    with_room, without = (studio.preparer.body(s, s.layers[0], FINE, Cancel())
                          for s in (lone(5.0, clear_m=2500.0), lone(5.0)))
    one, other = with_room.field.instances, without.field.instances
    gone = one["reach"] < 0.0
    period = float(with_room.record["period"])
    dx = (other["x"] - 500.0 + 0.5 * period) % period - 0.5 * period
    dy = (other["y"] - 9000.0 + 0.5 * period) % period - 0.5 * period
    assert np.array_equal(gone, np.hypot(dx, dy) < 1500.0 + 2500.0) and gone.sum() > 0
    assert np.array_equal(one["reach"][~gone], other["reach"][~gone])
    places = np.stack([np.full(300, 500.0), np.full(300, 9000.0), np.linspace(1200, 1800, 300)], 1)
    assert not (dense(with_room, places) > 0.0).any()


def test_life_growth_and_density_are_its_own(studio: Studio) -> None:
    assert not any(placed_by_hand(x) for x in layers_of(lone(stage=1.0)))
    tops = {g: columns(body_of(studio, lone(growth=g)))[2].max() for g in (0.3, 0.7, 1.0)}
    assert tops[0.3] < 0.5 * tops[1.0] and tops[0.3] < tops[0.7] < tops[1.0]
    middle = np.array([[500.0, 9000.0, 1196.0 + 700.0]])
    thin, usual = (dense(body_of(studio, lone(density=d)), middle)[0] for d in (0.5, 1.0))
    assert usual > 0.0 and thin == pytest.approx(0.5 * usual)


def test_it_drifts_with_its_layer_and_stands_in_a_loop() -> None:
    sky = with_values(lone(), {"layers[a].wind.speed_m_s": 10.0})
    hero = next(x for x in layers_of(sky) if placed_by_hand(x))
    assert drift_of(sky, hero.id, 10.0) == drift_of(sky, "a", 10.0)
    looped = with_values(sky, {"motion.loop": True})
    assert drift_of(looped, hero.id, 10.0) == (0.0, 0.0)


def test_it_is_placed_copied_keyed_and_removed() -> None:
    sky, hero = with_hero_placed(lone(), "a", {"width_m": 900.0})
    assert hero == "hero-1" and len(sky.layers[0].heroes) == 2
    sky, copy = with_hero_duplicated(sky, "a", hero)
    assert copy == "hero-2" and sky.layers[0].heroes[2].seed != sky.layers[0].heroes[1].seed
    keyed = with_values(sky, {"motion.keys": {f"layers[a].heroes[{copy}].growth": {"points": [
        [0.0, 0.2, "linear"], [5.0, 1.0, "linear"]]}}})
    assert sky_from_text(sky_to_text(keyed)) == keyed
    gone = with_hero_removed(keyed, "a", copy)
    assert not gone.motion.keys and len(gone.layers[0].heroes) == 2


@pytest.mark.parametrize(("layer", "part"), [
    ({"genus": "cirrus", "heroes": [HERO]}, "cirrus has none"),
    ({"genus": "cumulus", "heroes": [HERO, HERO]}, "share an id"),
    ({"genus": "cumulus", "heroes": [{**HERO, "width_m": 1.0}]}, "width_m"),
    ({"genus": "cumulus", "heroes": [{**HERO, "id": f"h{k}"} for k in range(1000)]}, "64"),
])
def test_refused_heroes_say_why(layer: dict[str, Any], part: str) -> None:
    with pytest.raises(SkyError, match=part):
        sky_of(layers=[layer])


def test_a_sky_holds_sixty_four() -> None:
    heroes = [{**HERO, "id": f"h{k}"} for k in range(40)]
    with pytest.raises(SkyError, match="64"):
        sky_of(layers=[{"id": n, "genus": "cumulus", "heroes": heroes} for n in "ab"])
    full = sky_of(layers=[{"id": "a", "genus": "cumulus",
                           "heroes": [{**HERO, "id": f"h{k}"} for k in range(64)]}])
    with pytest.raises(SkyError, match="remove one"):
        with_hero_placed(full, "a", {})


def test_a_dealt_cloud_is_taken_in_hand(studio: Studio) -> None:
    """The hero has its form, where it stood; it stands there no more itself, and the others as
    they did. Moved away, it leaves a gap."""
    sky = sky_of(sun={"mode": "free", "elevation_deg": 40}, layers=[
        {"id": "a", "genus": "cumulus", "cover_oktas": 0.6, "base_m": 1200.0}])
    bodies = studio.preparer.bodies(sky, FINE, Cancel())
    maker = studio.preparer.maker(Cancel())
    clouds, period = bodies[0].field.instances, float(bodies[0].record["period"])
    x, y = ((clouds[k].astype(float) + period / 2) % period - period / 2 for k in "xy")
    near = np.argsort(np.hypot(x, y))[:1500]
    apart = np.hypot(x[near, None] - x, y[near, None] - y)
    free = [k for k, row in zip(near, apart, strict=True)
            if clouds["reach"][k] > 300.0 and np.sort(row / (clouds["reach"] + clouds["reach"][k])
                                                      )[1] > 1.0]
    k = free[0]
    dealt = dealt_at(bodies, maker, float(x[k]) + 100.0, float(y[k]) - 60.0)
    assert dealt is not None and dealt.layer_id == "a"
    assert dealt.values["east_m"] == pytest.approx(float(x[k]), abs=1.0)
    taken, _ = with_hero_placed(sky, "a", dealt.values)
    after = studio.preparer.bodies(taken, FINE, Cancel())
    half, step = float(clouds["reach"][k]), 40.0
    at = np.arange(-half, half, step)
    a, b = (v.ravel() for v in np.meshgrid(x[k] + at, y[k] + at, indexing="ij"))
    z = np.arange(20.0, 1600.0, 40.0)
    places = np.stack([np.repeat(a, len(z)), np.repeat(b, len(z)),
                       np.tile(1200.0 + z, len(a))], axis=1)

    def there(body: Any) -> np.ndarray:
        found: np.ndarray = dense(body, places) > 1e-3
        return found

    before, gone, hero = there(bodies[0]), there(after[0]), there(after[1])
    assert before.sum() > 300
    assert gone.sum() < 0.02 * before.sum()
    both = (before & hero).sum() / (before | hero).sum()
    assert both > 0.75
    others = np.hypot(x - x[k], y - y[k]) > 10.0
    assert np.array_equal(after[0].field.instances["reach"][others], clouds["reach"][others])


RED = {"wash": 1.0, "wash_lit": "#ff2010", "wash_body": "#e02010", "wash_base": "#a01010"}


def pair(**second: Any) -> Sky:
    """Two clouds placed by hand, one to the left and one to the right."""
    return sky_of(sun={"mode": "free", "elevation_deg": 40, "azimuth_deg": 200}, layers=[
        {"id": "a", "genus": "cumulus", "cover_oktas": 0, "base_m": 1200.0, "heroes": [
            {**HERO, "east_m": -3000.0}, {**HERO, "id": "k", "east_m": 3000.0, **second}]}],
        camera={"pitch_deg": 12})


def test_a_hero_has_a_wash_of_its_own(studio: Studio) -> None:
    """Its colour turns; its shape, the other cloud and the matte of their layer stay."""
    plain, red = (studio.render(sky, Wish(240, 135, "draft", passes=True))
                  for sky in (pair(), pair(**RED)))
    assert plain.passes is not None and red.passes is not None
    assert red.passes.mattes.shape == plain.passes.mattes.shape
    cloud = plain.passes.mattes[0] > 0.9
    changed = np.abs(red.passes.mattes[0] - plain.passes.mattes[0]) > 0.05
    assert changed.sum() < 0.02 * cloud.sum()  # but for edges, where chance falls otherwise
    left, right = cloud.copy(), cloud.copy()
    left[:, 120:], right[:, :120] = False, False
    hue = [np.array([frame.light[side][:, 0].mean() / frame.light[side][:, 1].mean()
                     for side in (left, right)]) for frame in (plain, red)]
    assert hue[1][0] == pytest.approx(hue[0][0], rel=0.01)
    assert hue[1][1] > 1.2 * hue[0][1]
    assert red.light[left][:, 1].mean() == pytest.approx(plain.light[left][:, 1].mean(), rel=0.02)


def test_washes_of_heroes_are_layers_of_their_own_up_to_a_few() -> None:
    sky = pair(**RED)
    assert [x.id for x in layers_of(sky)] == ["a~heroes", "a~heroes1"]
    assert {owner_of(x.id) for x in layers_of(sky)} == {"a"}
    assert [x.id for x in layers_of(unwashed(sky))] == ["a~heroes"]
    many = [{**HERO, "id": f"h{k}", "wash": 0.1 + 0.05 * k} for k in range(9)]
    with pytest.raises(SkyError, match="9 washes"):
        sky_of(layers=[{"id": "a", "genus": "cumulus", "heroes": many}])
    heroes = [{**HERO, "id": f"h{k}"} for k in range(9)]
    keys = {f"layers[a].heroes[h{k}].wash": {"points": [[0, 0.1 * k], [4, 1]]} for k in range(9)}
    with pytest.raises(SkyError, match="9 washes"):
        sky_of(layers=[{"id": "a", "genus": "cumulus", "heroes": heroes}],
               motion={"length_s": 4, "keys": keys})
    keys.popitem()
    keyed = sky_of(layers=[{"id": "a", "genus": "cumulus", "cover_oktas": 0, "heroes": heroes}],
                   motion={"length_s": 4, "keys": keys})
    assert len(layers_of(sky_at(keyed, 1.0))) == 9


def test_a_lower_cloud_before_a_low_sun_shades_a_higher_one(studio: Studio) -> None:
    """Layers with one base: what lies sunward takes sunlight from the other's foot, not from its
    top, whichever is the higher."""
    def depths(east_m: float) -> list[float]:
        made = sky_of(sun={"mode": "free", "elevation_deg": 6, "azimuth_deg": 180}, layers=[
            {"id": x, "genus": "cumulus", "cover_oktas": 0, "base_m": 1200.0, "heroes": [hero]}
            for x, hero in (("high", {**HERO, "east_m": 0.0, "height_m": 3500.0}),
                            ("low", {**HERO, "east_m": east_m, "north_m": 4500.0,
                                     "height_m": 1300.0}))])
        prepared, _ = studio.prepare(made, Wish(32, 18, "draft"), Cancel())
        p = prepared.scene.field.layers[0]
        return [float(grid_depth(prepared.scene.light, p, 0.0, 7200.0, z)) for z in (500.0, 3000.0)]

    aside, before = depths(9000.0), depths(0.0)
    assert before[0] > aside[0] + 5.0
    assert before[1] == pytest.approx(aside[1], abs=0.5)
