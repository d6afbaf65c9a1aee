"""What a photograph tells of the sky: clear skies fitted, clouds named, and what is not known.
The photographs are renders whose values are known."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from dovrek.core.colour.film import develop
from dovrek.core.geometry.lens import dome_lens
from dovrek.core.photo import clear_fit, clear_skies
from dovrek.core.photo import suggest as suggesting
from dovrek.core.photo.clear_fit import STRICT, Framing, Match, descend, fit_clear, moved, point_of
from dovrek.core.photo.clear_skies import (
    SHADED_M,
    ClearSkies,
    free_sun,
    sampled,
    skies_key,
    white_of,
)
from dovrek.core.photo.cloud_answers import Answer, Clouds, CoverSearch
from dovrek.core.photo.cloud_look import genus_looks
from dovrek.core.photo.horizon_line import horizon_line
from dovrek.core.photo.likeness import horizon_of, made_small
from dovrek.core.photo.suggest import GENERA, TooLittleSky, suggest
from dovrek.core.picture.render import Quality, render_frame
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel, Cancelled
from dovrek.sky.document import Sky
from tests.conftest import long, sky_of
from tools.judging import styled, vivid
from tools.teach import FRAMES, frames

PITCH = 14.0
CAMERA = {"heading_deg": 0.0, "pitch_deg": PITCH, "lens_mm": 26.0}
SITE = sky_of(camera=CAMERA)
KNOWN = StageCache()  # clear skies of the site, rendered once
FRAMING = Framing(SITE.camera.fov_h_rad, PITCH, horizon_of(PITCH, SITE.camera.fov_v_rad))


def photograph(studio: Studio, height: float, bearing: float, haze: float, *layers: Any) -> Any:
    """A picture of a known sky as the film shows it, and how it was exposed."""
    sky = sky_of(camera=CAMERA, air={"haze": haze}, layers=list(layers),
                 sun={"mode": "free", "elevation_deg": height, "azimuth_deg": bearing})
    done = studio.render(sky, Wish(480, 270, "draft"))
    return np.asarray(develop(done.light, *done.metered[:4]), dtype=np.uint8), done.metered


@pytest.fixture(scope="module")
def preparer(studio: Studio) -> Preparer:
    return Preparer(studio.workers, StageCache())


@pytest.fixture(scope="module")
def skies(preparer: Preparer) -> ClearSkies:
    made = ClearSkies(SITE, preparer, Cancel())
    KNOWN.put(("clear skies", skies_key(SITE)), made)
    return made


@pytest.mark.parametrize(("height", "haze", "shade"), [
    (3.7, 0.15, 0.5), (41.0, 0.25, 0.0), long(14.0, 0.05, 0.5), long(14.0, 0.05, 0.0),
    long(3.7, 0.15, 0.0), long(41.0, 0.25, 0.5)])
def test_skies_between_the_rendered_ones(skies: ClearSkies, preparer: Preparer, height: float,
                                         haze: float, shade: float) -> None:
    """Light interpolated between domes against one rendered there; in half the shade of clouds it
    lies midway to one without light in the lower air."""
    quality = Quality("search", SKETCH, 1, 2.0, 0.0)
    prepared = preparer.scene(free_sun(SITE, height, 0.0, haze), SKETCH, Cancel())
    clear, dark = (render_frame(scene, dome_lens(0.0), (256, 128), quality, preparer.workers,
                                Cancel(), sun_disc=False)[:64, :, :3]
                   for scene in (prepared, preparer.in_shade(prepared, *SHADED_M, Cancel())))
    assert 0.1 < 1.0 - dark.sum() / clear.sum() < 0.9
    dome = (1.0 - shade) * clear + shade * dark
    place = point_of(height, haze, 0.0, 14.0, 5600.0, skies)
    ours, white = skies.dome(place[0], place[1], shade), skies.white(*place[:2])
    assert white == pytest.approx(white_of(prepared), rel=0.01)
    shown = [develop(light.astype(np.float32), 13.5, white, bits=16) / 65535.0
             for light in (ours, dome)]
    assert np.sqrt(np.mean((shown[0] - shown[1]) ** 2)) < 0.008


def test_a_dome_is_read_where_it_was_drawn() -> None:
    """The middle column looks toward the sun, rows go from the zenith to the horizon."""
    rows, columns = 32, 128
    up = (0.5 - (np.arange(rows) + 0.5) / (2 * rows)) * math.pi
    around = ((np.arange(columns) + 0.5) / columns - 0.5) * 2.0 * math.pi
    dome = np.stack(np.broadcast_arrays(up[:, None], around[None], 1.0), axis=-1).astype(np.float32)
    read = sampled(dome, np.array([0.3, 1.1]), np.array([0.5, -2.0]))
    assert read[:, 0] == pytest.approx([0.3, 1.1], abs=0.002)
    assert read[:, 1] == pytest.approx([0.5, -2.0], abs=0.002)


@pytest.mark.parametrize(("height", "bearing", "haze"), [(12, 100, 0.15), (50, 205, 0.06),
                                                         (-3, 20, 0.1)])
def test_a_clear_sky_is_found_again(studio: Studio, skies: ClearSkies, height: float,
                                    bearing: float, haze: float) -> None:
    """Sun height, bearing, haze and exposure of a sky without cloud."""
    picture, (ev, *_) = photograph(studio, height, bearing, haze)
    found = fit_clear(Match(picture, FRAMING), skies, Cancel())[0]
    assert found.elevation_deg == pytest.approx(height, abs=1.0)
    assert math.remainder(found.bearing_deg - bearing, 360.0) == pytest.approx(0.0, abs=3.0)
    assert found.haze == pytest.approx(haze, rel=0.12)
    assert found.ev == pytest.approx(ev, abs=0.15)
    assert found.error < 0.05


@pytest.mark.long
def test_clouds_are_outliers(studio: Studio, skies: ClearSkies) -> None:
    """A third of altocumulus: the clear sky between is found, and a move of it undoes itself."""
    picture, _ = photograph(studio, 35, 90, 0.1, {"genus": "altocumulus", "cover_oktas": 2.5,
                                                  "seed": 5})
    match = Match(picture, FRAMING)
    found = fit_clear(match, skies, Cancel())[0]
    assert found.elevation_deg == pytest.approx(35.0, abs=4.0)
    by = np.array([0.1, -0.1, 0.05, 0.2, 0.01, 0.02])
    assert moved(moved(found, by, skies), -by, skies).point == pytest.approx(found.point)
    back = descend(match, skies, found.point + 0.5 * by, STRICT, 12)
    assert back.elevation_deg == pytest.approx(found.elevation_deg, abs=1.5)


@pytest.mark.long
@pytest.mark.parametrize(("height", "cover"), [(32, 3.5), (25, 2.5)])
def test_gaps_in_the_shade_of_clouds_tell_the_sun(studio: Studio, skies: ClearSkies,
                                                  height: float, cover: float) -> None:
    """Sky between heaps is darker than a clear one. Told that, four frames give the sun's height
    and the haze; not told, they give a lower sun and more haze."""
    told, untold = [], []
    for seed in (101, 102):
        for bearing in (235, 265):
            picture, metered = photograph(studio, height, bearing, 0.12, {
                "genus": "cumulus", "cover_oktas": cover, "seed": seed,
                "clearings": {"share": 0.0}})
            match = Match(picture, FRAMING)
            true = point_of(height, 0.12, bearing, *metered[:2], skies)
            told.append(descend(match, skies, true, STRICT, 8))
            with pytest.MonkeyPatch.context() as patch:
                patch.setattr(clear_skies, "MOST_SHADE", 0.0)
                untold.append(descend(match, skies, true, STRICT, 8))
    off, before = (np.mean([f.elevation_deg for f in found]) - height for found in (told, untold))
    assert abs(off) < 2.0 and before < off - 1.5
    assert np.mean([f.point[clear_fit.SHADE] for f in told]) > 0.1
    hazes = [np.mean([math.log(f.haze / 0.12) for f in found]) for found in (told, untold)]
    assert abs(hazes[0]) < 0.15
    assert hazes[1] > abs(hazes[0]) + 0.08


def test_pixels_below_the_horizon_do_not_count(studio: Studio) -> None:
    """Ground, however painted, changes nothing of what is matched."""
    picture, _ = photograph(studio, 30, 90, 0.1)
    painted = picture.copy()
    painted[int(FRAMING.horizon * len(picture)) + 12:] = (180, 40, 20)
    ours, theirs = Match(picture, FRAMING), Match(painted, FRAMING)
    assert np.array_equal(ours.wanted, theirs.wanted)
    assert made_small(picture, 96).shape == (54, 96, 3)


def test_a_sky_is_suggested(studio: Studio, skies: ClearSkies) -> None:
    """Heaps of fair weather: sun within 5°, cover within 1 okta, brightness within half a stop,
    the genus by its name; nothing else of the sky is touched. The frame of this deal shows about
    what the layer has on the whole."""
    layer = {"genus": "cumulus", "cover_oktas": 2.5, "seed": 1}
    picture, (ev, *_) = photograph(studio, 25, 200, 0.2, layer)
    site = SITE.model_copy(update={"name": "Mine"})
    seen: list[float] = []
    got = suggest(site, picture, FRAMING, Preparer(studio.workers, StageCache()), Cancel(),
                  lambda share, what: seen.append(share), known_skies=KNOWN, patience=math.inf)
    assert KNOWN.find(("clear skies", skies_key(site)))[1] is skies  # those of the site served
    assert got.sun_elevation_deg == pytest.approx(25.0, abs=5.0)
    assert got.cover_oktas == pytest.approx(2.5, abs=1.0)
    assert got.genus == "cumulus" and [x.genus for x in got.sky.layers] == ["cumulus"]
    assert got.sky.film.exposure_ev == pytest.approx(ev, abs=0.5)
    assert got.sky.name == "Mine" and got.sky.site == site.site and got.sky.camera == site.camera
    assert seen == sorted(seen) and seen[-1] == 1.0
    assert any("bright" in text for text in got.cannot_know)
    assert not any("horizon line" in text for text in got.cannot_know)
    assert Sky.model_validate(got.sky.model_dump()) == got.sky


@pytest.mark.long
def test_under_an_overcast_it_says_what_it_cannot_know(studio: Studio) -> None:
    """Neither sun nor haze; nor, where no horizon line is set, whether there is land."""
    picture, _ = photograph(studio, 30, 100, 0.1, {"genus": "stratus", "cover_oktas": 8})
    sky_alone = picture[: int(FRAMING.horizon * len(picture)) - 4]
    got = suggest(SITE, sky_alone, Framing(FRAMING.fov_h_rad, 25.0, 1.0),
                  Preparer(studio.workers, StageCache()), Cancel(), known_skies=KNOWN)
    assert got.cover_oktas == 8.0
    assert any("no clear sky is seen" in text for text in got.cannot_know)
    assert any("horizon line stands at the lower edge" in text for text in got.cannot_know)


def test_a_search_stops_when_told() -> None:
    cancel = Cancel()
    cancel.set()
    studio = Studio(1)
    try:
        with pytest.raises(Cancelled):
            suggest(SITE, np.zeros((90, 160, 3), dtype=np.uint8), FRAMING,
                    Preparer(studio.workers, StageCache()), cancel)
    finally:
        studio.close()


@pytest.mark.long
def test_genera_that_come_too_late_are_not_tried(studio: Studio,
                                                 monkeypatch: pytest.MonkeyPatch) -> None:
    """When time is up the likeliest genus is still tried, and proposed; no other is."""
    shown, _ = photograph(studio, 50.0, 130.0, 0.1,
                          {"genus": "stratus", "cover_oktas": 8, "base_m": 700})
    tried: list[str] = []
    answer = suggesting.Clouds.answer

    def counted(clouds: Any, genus: str, *rest: Any) -> Any:
        tried.append(genus)
        return answer(clouds, genus, *rest)

    monkeypatch.setattr(suggesting, "GENERA_S", 0.0)
    monkeypatch.setattr(suggesting.Clouds, "answer", counted)
    found = suggest(SITE, shown, FRAMING, Preparer(studio.workers, StageCache()), Cancel(),
                  known_skies=KNOWN)
    assert tried == [found.genus] and found.genus in suggesting.UNBROKEN


def test_a_frame_without_sky_is_refused_in_words(studio: Studio) -> None:
    """The horizon line at the very top: nothing to search by, said at once."""
    low = Framing(SITE.camera.fov_h_rad, -40.0, 0.02)
    with pytest.raises(TooLittleSky, match="set the line lower"):
        suggest(SITE, np.full((90, 160, 3), 120, dtype=np.uint8), low,
                Preparer(studio.workers, StageCache()), Cancel())


@pytest.mark.long
def test_clear_skies_serve_the_next_photograph_of_a_site(studio: Studio,
                                                         monkeypatch: pytest.MonkeyPatch) -> None:
    """They depend on the site and its air but for the haze, not on sun, film, layers or framing."""
    picture, _ = photograph(studio, 30, 100, 0.1)
    preparer, known = Preparer(studio.workers, StageCache()), StageCache()
    first = suggest(SITE, picture, FRAMING, preparer, Cancel(), known_skies=known)
    monkeypatch.setattr(suggesting, "ClearSkies", lambda *given: pytest.fail("rendered anew"))
    other = sky_of(name="Another", camera=CAMERA | {"heading_deg": 40}, air={"haze": 0.3},
                   layers=[{"genus": "cumulus"}], film={"contrast": 1.2},
                   sun={"mode": "free", "elevation_deg": 5, "azimuth_deg": 10})
    second = suggest(other, picture, FRAMING, preparer, Cancel(), known_skies=known)
    assert second.sun_elevation_deg == first.sun_elevation_deg and second.haze == first.haze
    assert skies_key(SITE) == skies_key(other)
    for change in ({"site": {"elevation_m": 900}}, {"air": {"ozone_du": 250}},
                   {"camera": CAMERA | {"altitude_m": 300}}, {"moment": "2026-01-05T10:00"}):
        assert skies_key(sky_of(**{"camera": CAMERA} | change)) != skies_key(SITE)


class _Frames:
    """Answers whose frames are as unlike the photograph, and as exposed, as it is told."""

    def __init__(self, unlike: list[float], stops: list[float]) -> None:
        self.given, self.stops = unlike, stops

    def whole(self, number: int, found: Any) -> float:
        return self.given[number]

    def metered(self, number: int) -> float:
        return 14.0 - self.stops[number]


@pytest.mark.parametrize(("errors", "unlike", "stops", "wins"), [
    ((0.72, 0.75), (0.10, 0.10), (0.0, 0.0), 0),  # frames alike: more sky agrees
    ((0.72, 0.75), (0.10, 0.06), (0.0, 0.0), 1),  # the frame speaks clearly
    ((0.72, 0.75), (0.10, 0.06), (0.0, 1.2), 0),  # no meter would expose so
    ((0.10, 0.90), (0.10, 0.06), (0.0, 0.0), 0)])
def test_of_two_suns_sky_frame_and_exposure_decide(
        errors: tuple[float, float], unlike: Any, stops: Any, wins: int) -> None:
    point = np.array([1.0, -2.0, 0.0, 14.0, 0.0, 0.0])
    rivals = [clear_fit.Clear(error, point, 5600.0) for error in errors]
    tied = [Answer(rivals[k], float(k), np.empty((0, 0))) for k in (0, 1)]
    clouds: Any = _Frames(list(unlike), list(stops))
    assert suggesting._decided(tied, rivals, clouds, [0, 1]) == (tied[wins], wins)  # type: ignore[list-item]


def test_a_value_at_its_border_does_not_hold_the_others(studio: Studio,
                                                        skies: ClearSkies) -> None:
    """No shade lies over a clear sky: from a sun 3° off, all else is found with shade at nought."""
    picture, (ev, kelvins, *_) = photograph(studio, 12, 100, 0.15)
    start = point_of(15.0, 0.15, 100, ev, kelvins, skies)
    found = descend(Match(picture, FRAMING), skies, start, STRICT, 12)
    assert found.point[clear_fit.SHADE] < 0.05
    assert found.elevation_deg == pytest.approx(12.0, abs=0.4)
    assert found.haze == pytest.approx(0.15, rel=0.05)


@pytest.mark.parametrize("bend", [None, long(vivid), long(styled)])
def test_a_picture_s_own_grade_is_told(studio: Studio, skies: ClearSkies, bend: Any) -> None:
    """Bent by hands other than ours, a sky under few heaps has its sun where it stood, and the
    grade is told; as our film has it, no grade is believed."""
    shown, _ = photograph(studio, 22, 130, 0.1,
                          {"genus": "cumulus", "cover_oktas": 1.5, "seed": 11})
    match = Match(bend(shown) if bend else shown, FRAMING)
    plain = fit_clear(match, skies, Cancel())
    found = suggesting._graded(match, skies, plain, Cancel(), lambda share: None)
    assert found[0].elevation_deg == pytest.approx(22.0, abs=5.0)
    if bend is None:
        assert found is plain
    else:
        assert found[0].grade[0] > 1.12 and found[0].grade[1] > 1.08
        assert found[0].error < plain[0].error - 0.05


@pytest.mark.long
def test_a_graded_photograph_gives_the_film_its_look(studio: Studio) -> None:
    """A vivid picture of a clear sky: sun and haze about as they were, a look in the film that
    comes nearer than none, and said."""
    shown, _ = photograph(studio, 30, 100, 0.1)
    shown = vivid(shown)
    got = suggest(SITE, shown, FRAMING, Preparer(studio.workers, StageCache()), Cancel(),
                  known_skies=KNOWN)
    assert got.sun_elevation_deg == pytest.approx(30.0, abs=4.0)
    assert got.genus == "" and got.haze == pytest.approx(0.1, rel=0.4)
    assert got.sky.film.saturation > 1.1  # contrast is hardly told by a clear sky alone
    assert any("contrast and saturation" in text for text in got.cannot_know)
    rows = int(FRAMING.horizon * len(shown)) - 4
    off = []
    plain = got.sky.film.model_copy(update={"contrast": 1.0, "saturation": 1.0})
    for film in (got.sky.film, plain):
        done = studio.render(got.sky.model_copy(update={"film": film}), Wish(480, 270, "draft"))
        ours = np.asarray(develop(done.light, *done.metered[:4]), dtype=float)
        off.append(np.sqrt(np.mean((ours - shown)[:rows] ** 2)) / 255.0)
    assert off[0] < 0.7 * off[1] and off[0] < 0.05


def test_clouds_are_dealt_to_stand_as_the_photograph_s(studio: Studio, skies: ClearSkies) -> None:
    """Of the deals that are tried the photograph's own is taken; without time, the first."""
    layer = {"genus": "cumulus", "cover_oktas": 3.0, "seed": 5, "clearings": {"share": 0.0}}
    picture, (ev, kelvins, *_) = photograph(studio, 40, 130, 0.1, layer)
    fitted = clear_fit.Clear(0.1, point_of(40.0, 0.1, 130, ev, kelvins, skies),
                             skies.white(*point_of(40.0, 0.1, 130, ev, kelvins, skies)[:2]))
    clouds = Clouds(SITE, picture, FRAMING, fitted, skies,
                    Preparer(studio.workers, StageCache()), Cancel(), unknown=False)
    answer, less = (Answer(fitted, cover, np.empty((0, 0))) for cover in (3.0, 0.5))
    dealt = clouds.dealt([answer, less], "cumulus", math.inf)
    assert dealt[0].layers[0].seed == 5
    assert [sky.layers[0].cover_oktas for sky in dealt] == [3.0, 0.5]
    assert clouds.dealt([answer], "cumulus", 0.0)[0].layers[0].seed == 1
    clouds.unknown = True
    assert clouds.dealt([answer], "stratus", math.inf)[0].layers[0].seed == 1


@pytest.mark.parametrize(("target", "share"), [(0.2, lambda c: 1.0 - (1.0 - c / 8.0) ** 2.0),
                                               (0.7, lambda c: min(1.3 * c / 8.0, 1.0)),
                                               (0.05, lambda c: (c / 8.0) ** 1.5)])
def test_a_cover_is_found_by_what_frames_show(target: float, share: Any) -> None:
    """Whatever way shares grow with cover, a few looks bring it near."""
    search = CoverSearch(target, 6.0 * target)
    for _ in range(8):
        if search.met(share(search.cover)):
            break
    assert share(search.cover) == pytest.approx(search.wanted, abs=0.011 + 0.06 * search.wanted)


def test_a_frame_full_of_cloud_has_a_full_cover() -> None:
    """Without any gap eight oktas; nearly full ones may come of less than shares alone say."""
    search = CoverSearch(1.0, 7.0)
    assert search.cover == 8.0 and search.met(0.3)
    assert CoverSearch(0.97, 7.0).wanted < 0.95 and CoverSearch(0.5, 4.0).wanted == 0.5


@pytest.mark.parametrize("pitch", [4.0, 14.0])
@pytest.mark.parametrize("layer", [None, {"genus": "stratocumulus", "cover_oktas": 5, "seed": 4}])
def test_a_horizon_line_is_proposed(studio: Studio, pitch: float, layer: Any) -> None:
    """Where the ground of a render begins, within a fiftieth of the height."""
    sky = sky_of(camera=CAMERA | {"pitch_deg": pitch}, layers=[layer] if layer else [],
                 sun={"mode": "free", "elevation_deg": 35, "azimuth_deg": 120})
    done = studio.render(sky, Wish(480, 270, "draft"))
    shown = np.asarray(develop(done.light, *done.metered[:4]), dtype=np.uint8)
    assert horizon_line(shown) == pytest.approx(horizon_of(pitch, sky.camera.fov_v_rad), abs=0.02)


def test_no_horizon_line_where_no_land_is(studio: Studio) -> None:
    """Sky alone: clear, clouded; an even wall; and a frame of a few pixels."""
    for layers in ([], [{"genus": "cumulus", "cover_oktas": 4, "seed": 3}]):
        sky = sky_of(camera=CAMERA | {"pitch_deg": 42.0}, layers=layers,
                     sun={"mode": "free", "elevation_deg": 35, "azimuth_deg": 120})
        done = studio.render(sky, Wish(480, 270, "draft"))
        shown = np.asarray(develop(done.light, *done.metered[:4]), dtype=np.uint8)
        assert horizon_line(shown) is None
    assert horizon_line(np.full((90, 160, 3), 120, dtype=np.uint8)) is None
    assert horizon_line(np.zeros((1, 3, 3), dtype=np.uint8)) is None


@pytest.mark.long
def test_a_sky_to_teach_from_is_looked_at() -> None:
    """Frames of a sky of known genus have the features that the shipped table weighs."""
    features, genera = frames(1)
    assert features.shape == (FRAMES, len(genus_looks().mean))
    assert np.all(np.isfinite(features)) and genera == FRAMES * [GENERA[0]]
