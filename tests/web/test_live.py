"""The live picture without a browser: what windows are told, and whose turn it is."""

from __future__ import annotations

import io
import threading
import time
from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from PIL import Image

from dovrek.core.colour.film import develop
from dovrek.core.photo.likeness import RATIO, RATIO_LIMITS
from dovrek.core.run.workers import Cancel
from dovrek.sky.advisories import BURNT_SHARE, advisories
from dovrek.web.live.live import RIBBONS_WAIT, Live, Warming
from dovrek.web.live.looks import Known, Look
from dovrek.web.live.windows import WAITS_MOST
from dovrek.web.server import THREADS
from tests.conftest import sky_of


@pytest.fixture()
def live() -> Iterator[Live]:
    made = Live(2, width=64)
    yield made
    made.close()


@pytest.mark.parametrize("width", [320, 480, 960, 1920])  # the settings' ends and between
def test_each_picture_of_a_state_is_as_wide_as_the_one_before(width: int) -> None:
    made = Live(1, width)
    widths = [wide for _, wide in made.steps]
    made.close()
    assert widths == sorted(widths) and widths[-1] == width


def test_a_picture_is_refined_as_far_as_is_set() -> None:
    """On a slow machine the sketch is all: fine light is not worked out for it."""
    made = Live(2, refine="sketch")
    try:
        made.start()
        sky = sky_of(layers=[{"genus": "cirrus"}])
        made.show("veil", sky, 1)
        until_done(made, "veil", 1)
        session = made.session("veil", Look())
        assert session is not None and session.done and session.light_quality == "sketch"
        assert session.samples == 1 and not made.studio.holds(sky, Look().wish(sky, 64, "glance"))
        assert session.shown[-1].width == 240 and session.stage == "sketch"  # the page says so
    finally:
        made.close()


def test_what_a_hand_holds_is_shown_as_it_moves_and_then_as_it_rests(
        monkeypatch: pytest.MonkeyPatch) -> None:
    """The first value under a hand comes small and soon; where the hand rests, the sketch follows.
    What was set by a key or a word is a sketch at once. Windows are told of sketches, not of our
    kinds of them."""
    made, told, stage = Live(2, refine="sketch"), set(), Live._stage

    def tell(live: Live, session: Any, said: str, *more: Any) -> None:
        told.add(said)
        stage(live, session, said, *more)

    monkeypatch.setattr(Live, "_stage", tell)
    try:
        made.start()
        first, *others = (sky_of(layers=[{"genus": "cirrus", "cover_oktas": oktas}])
                          for oktas in (3.0, 3.5, 4.0))
        made.show("veil", first, 1)
        until_done(made, "veil", 1)
        session = made.session("veil", Look())
        assert session is not None
        for revision, (sky, held) in enumerate(zip(others, (True, False), strict=True), 2):
            time.sleep(0.4)  # no value of the same movement
            made.show("veil", sky, revision, held=held)
            until_done(made, "veil", revision)
            widths = [s.width for s in session.shown if s.revision == revision]
            assert widths == ([160, 240] if held else [240])
        assert told == {"sketch", "building maps and light"}
    finally:
        made.close()


def test_a_window_is_told_at_once_that_its_picture_is_done(live: Live) -> None:
    """Not only when its long poll runs out: what a finished picture tells waits for it."""
    live.start()
    live.show("clear", sky_of(), 1)
    serial, progress, end = 0, -1.0, time.monotonic() + 300
    while time.monotonic() < end:
        said = live.wait("clear", Known(serial, progress, 1), 60.0)
        if said["done"]:
            break
        assert said["progress"] < 1.0  # only a finished picture says so
        serial, progress = said["serial"], said["progress"]
    asked = time.monotonic()
    assert said["done"] and said["progress"] == 1.0
    told = live.wait("clear", Known(said["serial"], 0.999, 1), 60.0)
    assert told["done"] and time.monotonic() - asked < 30.0
    quiet = time.monotonic()  # and a window that knows is left alone
    live.wait("clear", Known(said["serial"], 1.0, 1), 0.3)
    assert time.monotonic() - quiet >= 0.3


def test_a_window_goes_before_the_gallery(live: Live) -> None:
    """Skies painted for the gallery wait for every window, and what is begun of them gives way."""
    for name in ("one", "two"):
        live.paint(name, sky_of(name=name), 1)
    (slug, _), _ = live._next() or (("", None), None)
    assert slug in ("one", "two")  # nobody else is there
    painting = live._cancel
    live.show("mine", sky_of(name="mine"), 7)
    assert painting.is_set
    (slug, look), session = live._next() or (("", None), None)
    assert (slug, look) == ("mine", Look())
    live.show("two", sky_of(name="two"), 1)  # now a window shows it
    (slug, _), _ = live._next() or (("", None), None)
    assert slug == "two"


def test_the_gallery_gets_a_draft(live: Live) -> None:
    """A sky that no window shows is made once, as a draft; a window's is refined."""
    kept: list[tuple[str, int]] = []
    live.kept = lambda slug, revision, png: kept.append((slug, revision))
    live.paint("one", sky_of(name="one"), 3)
    live.start()
    end = time.monotonic() + 300
    while not kept and time.monotonic() < end:
        time.sleep(0.05)
    session = live.session("one", Look())
    assert kept == [("one", 3)] and session is not None
    assert session.light_quality == "draft" and not session.done
    live.show("one", sky_of(name="one"), 3)
    serial, progress = 0, -1.0
    while not session.done and time.monotonic() < end:
        said = live.wait("one", Known(serial, progress, 3), 60.0)
        serial, progress = said["serial"], said["progress"]
    assert session.done and session.light_quality == "proof"
    brighter = sky_of(name="one", film={"exposure_ev": 1.0})
    small = live.show("one", brighter, 4)  # developed at once, as a plain bitmap
    assert small is not None and small.mimetype == "image/bmp"
    assert Image.open(io.BytesIO(small.image)).size == (small.width, small.height)


def test_windows_that_were_closed_leave_nothing_to_do(live: Live,
                                                      monkeypatch: pytest.MonkeyPatch) -> None:
    """What they had open is made a draft for the gallery at most; a window that comes back finds
    it finished."""
    monkeypatch.setattr("dovrek.web.live.looks.LOOKED_AT_S", 3.0)
    kept: list[int] = []
    live.kept = lambda slug, revision, png: kept.append(revision)
    live.show("left", sky_of(name="left"), 1)
    for second in range(20):  # of a clip, as a hand on its marker leaves them
        live.show("left", sky_of(name="left"), 1, Look(clip_s=float(second)))
    time.sleep(3.1)  # no window asks
    live.start()
    end = time.monotonic() + 300
    while not kept and time.monotonic() < end:
        time.sleep(0.05)
    with live._lock:
        held = dict(live._sessions)
        assert not any(session.wants for session in held.values())
    assert kept == [1] and not held["left", Look()].done
    assert not any(s.shown for (_, look), s in held.items() if look.clip_s is not None)
    monkeypatch.setattr("dovrek.web.live.looks.LOOKED_AT_S", 300.0)
    live.show("left", sky_of(name="left"), 1)
    until_done(live, "left", 1)
    assert held["left", Look()].done and held["left", Look()].light_quality == "proof"


def until_done(live: Live, slug: str, revision: int) -> None:
    """Wait as a page does until the picture of a revision is finished."""
    serial, progress, end = 0, -1.0, time.monotonic() + 300
    while time.monotonic() < end:
        said = live.wait(slug, Known(serial, progress, revision), 60.0)
        serial, progress = said["serial"], said["progress"]
        if said["done"] and said["revision"] == revision:
            return
    raise AssertionError(f"{slug} was not done in time")


def test_a_burnt_picture_says_so(live: Live) -> None:
    """What the film shows as white is counted as burnt, and only that; one press mends it."""
    live.start()

    def share_at(revision: int, ev: float) -> float:
        live.show("clear", sky_of(film={"exposure_ev": ev}), revision)
        until_done(live, "clear", revision)
        return live.seen("clear", Look(), revision).burnt

    shares = [share_at(1, 16.0), share_at(2, 9.0)]
    session = live.session("clear", Look())
    assert session is not None and session.light is not None
    codes = develop(session.light, 9.0, 5600.0)
    assert shares[0] < 0.02 < 0.3 < shares[1]
    assert shares[1] == pytest.approx(np.mean(codes.min(axis=2) >= 250), abs=0.12)
    sky = sky_of(film={"exposure_ev": 9.0})
    said = {a.code: a for a in advisories(sky, 40.0, seen=live.seen("clear", Look(), 2))}
    darker = said["burnt"].values["film.exposure_ev"]
    assert darker > 9.5 and share_at(3, darker) <= BURNT_SHARE


def test_cover_is_told_by_the_ratio_of_the_photograph_beside_it(live: Live) -> None:
    """A dark blue sky is clear by the greatest ratio, cloud by the least; a state that has gone
    by is not told."""
    live.start()
    live.show("blue", sky_of(film={"exposure_ev": 16.0}), 1)
    until_done(live, "blue", 1)
    low, usual, high = (live.cover_at("blue", Look(), 1, ratio)
                        for ratio in (RATIO_LIMITS[0], RATIO, RATIO_LIMITS[1]))
    assert low == 8.0 and high == 0.0 and usual is not None and 0.0 <= usual < 4.0
    assert live.cover_at("blue", Look(), 2, RATIO) is None


def test_forty_windows_wait_in_turn(live: Live) -> None:
    """Few wait for news in a thread of the server each; the others are told at once, and when to
    ask again."""
    live.show("busy", sky_of(), 1)  # nothing renders: there is no news
    said: list[tuple[float, dict[str, object]]] = []

    def window() -> None:
        start = time.monotonic()
        answer = live.wait("busy", Known(0, 0.0, 1), 1.5)
        said.append((time.monotonic() - start, answer))

    windows = [threading.Thread(target=window) for _ in range(40)]
    for one in windows:
        one.start()
    for one in windows:
        one.join(10)
    at_once = [answer for seconds, answer in said if seconds < 1.0]
    assert len(said) == 40 and len(at_once) == 40 - WAITS_MOST
    assert all(answer["again_s"] for answer in at_once)
    assert 2 * WAITS_MOST <= THREADS


def test_few_ribbons_wait_for_the_first_picture_of_a_new_machine() -> None:
    """Each holds a thread of the server; the others are told, and none is left behind."""
    made = Live(1)
    found: list[Any] = []
    made.compiling = True
    threads = [threading.Thread(target=lambda: found.append(
        made.ribbon_atmosphere(sky_of(), Cancel()))) for _ in range(RIBBONS_WAIT)]
    try:
        for thread in threads:
            thread.start()
        end = time.monotonic() + 20.0
        while made._ribbons_waiting < RIBBONS_WAIT and time.monotonic() < end:
            time.sleep(0.01)
        with pytest.raises(Warming, match="after the first picture"):
            made.ribbon_atmosphere(sky_of(), Cancel())
        assert found == []
        with made._lock:
            made.warm = True
            made._lock.notify_all()
        for thread in threads:
            thread.join(60)
        assert len(found) == RIBBONS_WAIT and made._ribbons_waiting == 0
        assert made.ribbon_atmosphere(sky_of(), Cancel()) is not None
    finally:
        made.close()
