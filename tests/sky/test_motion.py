"""Keys and the clip in the document: how they run, what is refused."""

from __future__ import annotations

from datetime import UTC
from typing import Any

import pytest

from dovrek.sky.changes import with_layer_removed, with_values
from dovrek.sky.clip import drift_of, sky_at, wind_of
from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyError
from dovrek.sky.keying import with_key, with_key_moved, without_key
from dovrek.sky.reading import sky_from_text, sky_to_text
from tests.conftest import sky_of

COVER = "layers[a].cover_oktas"


def keyed(points: list[Any], path: str = COVER, **more: Any) -> Sky:
    beyond = {k: more.pop(k) for k in ("before", "after") if k in more}
    return sky_of(layers=[{"id": "a"}], motion={
        "length_s": 10, "time_scale": 1, "sun_moves": False,
        "keys": {path: {"points": points, **beyond}}, **more})


def cover(sky: Sky, at: float) -> float:
    return sky_at(sky, at).layers[0].cover_oktas


def test_without_keys_the_sky_at_nought_is_the_document() -> None:
    sky = sky_of(layers=[{"id": "a"}])
    assert sky_at(sky, 0.0) is sky
    assert sky_from_text(sky_to_text(keyed([[1, 2], [5, 6, "linear"]]))) == keyed(
        [[1, 2], [5, 6, "linear"]])


@pytest.mark.parametrize(("ease", "middle"), [("linear", 4.0), ("hold", 2.0), ("smooth", 4.0)])
def test_values_run_between_keys(ease: str, middle: float) -> None:
    sky = keyed([[2, 2, ease], [6, 6, ease]])
    assert cover(sky, 0.0) == 2.0 and cover(sky, 9.0) == 6.0
    assert cover(sky, 4.0) == pytest.approx(middle)
    smooth = keyed([[0, 0], [4, 8], [5, 3], [10, 3]])
    assert all(0.0 <= cover(smooth, k / 4) <= 8.0 for k in range(41))  # nothing runs over


def test_beyond_their_ends_keys_hold_go_on_or_repeat() -> None:
    points = [[2, 2, "linear"], [4, 3, "linear"]]
    assert cover(keyed(points, after="continue"), 6.0) == pytest.approx(4.0)
    assert cover(keyed(points, after="continue", length_s=60), 50.0) == 8.0  # held to its limits
    assert cover(keyed(points, before="continue"), 0.0) == pytest.approx(1.0)
    assert cover(keyed(points, after="repeat"), 5.0) == pytest.approx(2.5)


def test_in_a_loop_keys_come_back_to_where_they_began() -> None:
    sky = keyed([[0, 2, "linear"], [5, 6, "linear"]], loop=True)
    assert cover(sky, 7.5) == pytest.approx(4.0) and cover(sky, 10.0) == cover(sky, 0.0) == 2.0


def test_colours_switches_and_whole_numbers() -> None:
    sky = sky_of(layers=[{"id": "a"}], motion={"length_s": 4, "keys": {
        "layers[a].wash.lit": {"points": [[0, "#000000", "linear"], [4, "#ff8800", "linear"]]},
        "layers[a].visible": {"points": [[0, True], [2, False]]}}})
    half = sky_at(sky, 2.0)
    assert half.layers[0].wash.lit == "#804400" and half.layers[0].visible is False
    assert sky_at(sky, 1.9).layers[0].visible is True


def test_the_sun_follows_the_clock_over_midnight_and_changes_of_clocks() -> None:
    sky = sky_of(moment="2026-03-28T23:59", site={"timezone": "Europe/London"},
                 motion={"length_s": 10, "time_scale": 3600})
    later = sky_at(sky, 3.0).local_moment()
    passed = later.astimezone(UTC) - sky.local_moment().astimezone(UTC)
    assert passed.total_seconds() == 3 * 3600
    assert later.strftime("%d %H:%M %z") == "29 03:59 +0100"  # an hour was left out
    still = with_values(sky, {"motion.sun_moves": False})
    assert sky_at(still, 3.0).moment == sky.moment


def test_a_layer_s_wind_goes_by_its_height_unless_set() -> None:
    low, high = sky_of(layers=[{"id": "a", "base_m": 1000}, {"id": "b", "genus": "cirrus",
                                                              "base_m": 9000}]).layers
    assert wind_of(low) == pytest.approx(6.0) and wind_of(high) == pytest.approx(22.0)
    lens = sky_of(layers=[{"genus": "altocumulus", "species": "lenticularis"}]).layers[0]
    assert wind_of(lens) == 0.0


def test_a_keyed_wind_is_summed_up() -> None:
    path = "layers[a].wind.speed_m_s"
    sky = sky_of(layers=[{"id": "a", "wind": {"from_deg": 270, "speed_m_s": 0}}], motion={
        "length_s": 10, "time_scale": 2,
        "keys": {path: {"points": [[0, 0, "linear"], [10, 20, "linear"]]}}})
    assert drift_of(sky, "a", 10.0)[0] == pytest.approx(200.0, rel=1e-3)
    assert drift_of(sky, "a", 5.0)[0] == pytest.approx(50.0, rel=1e-2)


def test_controls_that_go_by_themselves_are_keyed_too() -> None:
    """A wind by height, an automatic exposure: what the document leaves open can be keyed."""
    sky = sky_of(layers=[{"id": "a"}], motion={"length_s": 4, "sun_moves": False, "keys": {
        "layers[a].wind.speed_m_s": {"points": [[0, 10, "linear"], [4, 20, "linear"]]},
        "film.exposure_ev": {"points": [[0, 12]]}}})
    told = sky_at(sky, 2.0)
    assert (told.layers[0].wind.speed_m_s, told.film.exposure_ev) == (15.0, 12.0)


@pytest.mark.parametrize(("motion", "part"), [
    ({"length_s": 0}, "0.5 to 600"), ({"length_s": 36000}, "0.5 to 600"), ({"fps": 0}, "1 to 120"),
    ({"fps": 1000}, "1 to 120"), ({"time_scale": 0}, "0.05 to 3600"),
    ({"keys": {COVER: {"points": [[1, 2], [1, 3]]}}}, "one time"),
    ({"keys": {COVER: {"points": [[1, 12]]}}}, "outside 0 to 8"),
    ({"keys": {COVER: {"points": [[-1, 2]]}}}, "0 to 600"),
    ({"keys": {COVER: {"points": []}}}, "points"),
    ({"keys": {"layers[gone].cover_oktas": {"points": [[1, 2]]}}}, "no such layer"),
    ({"keys": {"layers[a].genus": {"points": [[1, 2]]}}}, "cannot be keyed"),
    ({"keys": {"motion.fps": {"points": [[1, 2]]}}}, "cannot be keyed"),
    ({"keys": {COVER: {"points": [[1, "much"]]}}}, "no value of it"),
])
def test_what_does_not_fit_is_refused_by_name(motion: dict[str, Any], part: str) -> None:
    with pytest.raises(SkyError, match="motion|sky") as refused:
        sky_of(layers=[{"id": "a"}], motion=motion)
    assert part in str(refused.value)


def test_winds_have_limits() -> None:
    with pytest.raises(SkyError, match="0 to 120"):
        sky_of(layers=[{"wind": {"speed_m_s": 400}}])


def test_keys_are_set_moved_and_removed() -> None:
    sky = with_key(with_key(sky_of(layers=[{"id": "a"}]), COVER, 1.0, 3.0), COVER, 5.0, 6.0)
    sky = with_key(sky, COVER, 1.0, 2.0, "hold")
    assert [tuple(p) for p in sky.motion.keys[COVER].points] == [(1.0, 2.0, "hold"),
                                                                (5.0, 6.0, "smooth")]
    moved = with_key_moved(sky, COVER, 1, 0.2, 7.0)  # not beyond its neighbour
    assert moved.motion.keys[COVER].points[1][:2] == (1.02, 7.0)
    left = without_key(without_key(moved, COVER, 1), COVER, 0)
    assert left.motion.keys == {}
    with pytest.raises(SkyError, match="not there any more"):
        without_key(left, COVER, 0)
    locked = with_values(sky, {"layers[a].locked": True})
    with pytest.raises(SkyError, match="locked"):
        with_key(locked, COVER, 2.0, 4.0)
    assert cover(locked, 5.0) == 6.0  # what was keyed goes on


def test_a_layer_s_keys_go_with_it() -> None:
    assert with_layer_removed(keyed([[1, 2]]), "a").motion.keys == {}
